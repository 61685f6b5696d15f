package closed

import (
	"context"
	"io"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/link/ethernet"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
)

// guest is a machine at a plug, as QEMU has it there.
type guest struct {
	*stack.Stack
	conn *net.UDPConn
	here *net.UDPAddr
}

func plugIn(t *testing.T, n *Network, name, mac, address string) *guest {
	t.Helper()
	p, err := n.Plug(name)
	require.NoError(t, err)
	card, err := net.ParseMAC(mac)
	require.NoError(t, err)
	g := &guest{here: &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: p.Here}}
	g.conn, err = net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: p.There})
	require.NoError(t, err)
	g.Stack = stack.New(stack.Options{NetworkProtocols: []stack.NetworkProtocolFactory{ipv4.NewProtocol, arp.NewProtocol}, TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol}})
	link := channel.New(64, 1514, tcpip.LinkAddress(card))
	require.Nil(t, g.CreateNIC(1, ethernet.New(link)))
	at := tcpip.AddrFromSlice(netip.MustParseAddr(address).AsSlice())
	require.Nil(t, g.AddProtocolAddress(1, tcpip.ProtocolAddress{Protocol: ipv4.ProtocolNumber, AddressWithPrefix: tcpip.AddressWithPrefix{Address: at, PrefixLen: 24}}, stack.AddressProperties{}))
	gate := netip.MustParseAddr("192.0.2.1")
	g.SetRouteTable([]tcpip.Route{{Destination: tcpip.AddressWithPrefix{Address: at, PrefixLen: 24}.Subnet(), NIC: 1}, {Destination: header.IPv4EmptySubnet, Gateway: tcpip.AddrFromSlice(gate.AsSlice()), NIC: 1}})
	ctx, stop := context.WithCancel(context.Background())
	go func() {
		for {
			packet := link.ReadContext(ctx)
			if packet == nil {
				return
			}
			whole := packet.ToBuffer()
			g.conn.WriteToUDP(whole.Flatten(), g.here)
			packet.DecRef()
		}
	}()
	go func() {
		frame := make([]byte, 64<<10)
		for {
			n, _, err := g.conn.ReadFromUDP(frame)
			if err != nil {
				return
			}
			link.InjectInbound(0, stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(append([]byte{}, frame[:n]...))}))
		}
	}()
	t.Cleanup(func() { stop(); g.conn.Close(); g.Stack.Close() })
	return g
}

func (g *guest) dial(ctx context.Context, to string) (net.Conn, error) {
	a := netip.MustParseAddrPort(to)
	return gonet.DialContextTCP(ctx, g.Stack, tcpip.FullAddress{NIC: 1, Addr: tcpip.AddrFromSlice(a.Addr().AsSlice()), Port: a.Port()}, ipv4.ProtocolNumber)
}

func (g *guest) greet(t *testing.T, port uint16, word string) {
	l, err := gonet.ListenTCP(g.Stack, tcpip.FullAddress{NIC: 1, Port: port}, ipv4.ProtocolNumber)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			io.WriteString(conn, word)
			conn.Close()
		}
	}()
}

// Guests reach each other and nothing else, and the network reaches them.
func TestANetworkThatEndsHere(t *testing.T) {
	n, err := New()
	require.NoError(t, err)
	defer n.Close()
	ctx, end := context.WithTimeout(context.Background(), 20*time.Second)
	defer end()
	tickets := plugIn(t, n, "tickets-db", "52:54:00:00:00:01", "192.0.2.11")
	timetable := plugIn(t, n, "timetable", "52:54:00:00:00:02", "192.0.2.12")
	tickets.greet(t, 5432, "a database")

	conn, err := timetable.dial(ctx, "192.0.2.11:5432")
	require.NoError(t, err)
	body, err := io.ReadAll(conn)
	require.NoError(t, err)
	require.Equal(t, "a database", string(body))

	for _, beyond := range []string{"192.0.2.99:80", "198.51.100.7:443"} { // beside it, and through the gateway
		_, err = timetable.dial(ctx, beyond)
		require.ErrorContains(t, err, "refused", beyond)
	}
	require.Equal(t, []string{"timetable → 192.0.2.99:80 (once)", "timetable → 198.51.100.7:443 (once)"}, n.Tried("timetable"))
	require.Empty(t, n.Tried("tickets-db"))

	require.Equal(t, []netip.Addr{netip.MustParseAddr("192.0.2.11")}, n.Addresses("tickets-db"))
	require.Positive(t, n.Sent("timetable"))
	conn, err = n.Dial(ctx, netip.MustParseAddrPort("192.0.2.11:5432"))
	require.NoError(t, err)
	body, err = io.ReadAll(conn)
	require.NoError(t, err)
	require.Equal(t, "a database", string(body))
	_, err = n.Dial(ctx, netip.MustParseAddrPort("192.0.2.11:80"))
	require.ErrorContains(t, err, "refused")

	quiet := plugIn(t, n, "berth-sim", "52:54:00:00:00:03", "192.0.2.13") // it has sent nothing so far, and is found all the same
	quiet.greet(t, 22, "a shell")
	require.Empty(t, n.Addresses("berth-sim"))
	conn, err = n.Dial(ctx, netip.MustParseAddrPort("192.0.2.13:22"))
	require.NoError(t, err)
	require.NoError(t, conn.Close())
	short, cut := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cut()
	_, err = n.Dial(short, netip.MustParseAddrPort("192.0.2.77:22"))
	require.ErrorContains(t, err, "nobody in the closed network has the address 192.0.2.77")
}

// A card gets the address that it had, or one that nobody has; what is no request, or not by QEMU, is nothing.
func TestAddressesForWhoAsks(t *testing.T) {
	n, err := New()
	require.NoError(t, err)
	defer n.Close()
	p, err := n.Plug("timetable")
	require.NoError(t, err)
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: p.There})
	require.NoError(t, err)
	defer conn.Close()
	stranger, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	defer stranger.Close()
	here := &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: p.Here}
	ask := func(mac string, with ...dhcpv4.Modifier) *dhcpv4.DHCPv4 {
		card, err := net.ParseMAC(mac)
		require.NoError(t, err)
		m, err := dhcpv4.NewDiscovery(card, with...)
		require.NoError(t, err)
		frame := datagram(tcpip.AddrFrom4([4]byte{}), card, m.ToBytes())
		copy(frame[0:6], everybody)
		copy(frame[6:12], card)
		udp := header.UDP(header.IPv4(frame[14:]).Payload())
		udp.SetSourcePort(clientPort)
		udp.SetDestinationPort(serverPort)
		_, err = stranger.WriteToUDP(frame, here)
		require.NoError(t, err)
		_, err = conn.WriteToUDP(frame[:20], here) // half of one
		require.NoError(t, err)
		_, err = conn.WriteToUDP(frame, here)
		require.NoError(t, err)
		answer := make([]byte, 2000)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(10*time.Second)))
		size, _, err := conn.ReadFromUDP(answer)
		require.NoError(t, err)
		reply, err := dhcpv4.FromBytes(header.UDP(header.IPv4(answer[14:size]).Payload()).Payload())
		require.NoError(t, err)
		return reply
	}
	first := ask("52:54:00:00:00:01")
	require.Equal(t, dhcpv4.MessageTypeOffer, first.MessageType())
	require.Equal(t, "192.0.2.10", first.YourIPAddr.String())
	require.Equal(t, "192.0.2.1", first.Router()[0].String())
	taken := dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.IPv4(192, 0, 2, 10)))
	require.Equal(t, "192.0.2.11", ask("52:54:00:00:00:02", taken).YourIPAddr.String(), "another card has that one")
	back := ask("52:54:00:00:00:01", taken, dhcpv4.WithMessageType(dhcpv4.MessageTypeRequest))
	require.Equal(t, dhcpv4.MessageTypeAck, back.MessageType())
	require.Equal(t, "192.0.2.10", back.YourIPAddr.String())
	require.Equal(t, "192.0.2.77", ask("52:54:00:00:00:03", dhcpv4.WithOption(dhcpv4.OptRequestedIPAddress(net.IPv4(192, 0, 2, 77)))).YourIPAddr.String())
}
