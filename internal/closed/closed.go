// Package closed is a network for guests that are tried: a switch in this process to which QEMU sends the frames of network cards as datagrams on
// loopback (-netdev socket,udp=). The guests of one network reach each other with the addresses that they have. For every other address the network
// itself answers, as a gateway does that leads nowhere: pings are answered, connections are refused, nothing is let out. Who asks for an address gets
// one (DHCP, RFC 2131). [Network.Dial] connects to a guest as somebody on its network does.
package closed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"gvisor.dev/gvisor/pkg/buffer"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/channel"
	"gvisor.dev/gvisor/pkg/tcpip/link/ethernet"
	"gvisor.dev/gvisor/pkg/tcpip/network/arp"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/udp"
)

const (
	mtu = 1500
	// longestFrame is what a card may send at once, in bytes.
	longestFrame = 64 << 10
	nic          = 1
	// mostTried, mostCards and mostAddresses bound what is kept of what guests send: it is theirs to choose.
	mostTried, mostCards, mostAddresses = 50, 64, 16
)

// gateway is the network's own card (locally administered, IEEE 802).
var gateway = net.HardwareAddr{0x02, 0x6b, 0x65, 0x65, 0x6e, 0x01}

var everybody = net.HardwareAddr{0xff, 0xff, 0xff, 0xff, 0xff, 0xff}

// Network is a closed network. It may be used by several goroutines at once. Close it.
type Network struct {
	stack *stack.Stack
	own   *channel.Endpoint
	stop  context.CancelFunc
	all   sync.WaitGroup

	mu     sync.Mutex
	plugs  []*Plug
	cards  map[string]*Plug                // by hardware address
	at     map[netip.Addr]net.HardwareAddr // addresses of guests
	leased map[netip.Addr]string           // the card that has it
	tried  map[try]int
}

// Plug is where one network card of a guest is plugged in. QEMU sends to Here, and takes what it gets at There; both are UDP ports of 127.0.0.1.
type Plug struct {
	// Of is the guest.
	Of          string
	Here, There int

	n    *Network
	conn *net.UDPConn
	seen []netip.Addr
	// frames counts what the card has sent.
	frames int64
}

// New makes a network without guests.
func New() (*Network, error) {
	s := stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, arp.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, udp.NewProtocol, icmp.NewProtocol4},
	})
	own := channel.New(256, mtu+header.EthernetMinimumSize, tcpip.LinkAddress(gateway))
	refused := func(what string, err tcpip.Error) error {
		if err == nil {
			return nil
		}
		return fmt.Errorf("closed network: %s: %s", what, err)
	}
	err := errors.Join(refused("make its card", s.CreateNIC(nic, ethernet.New(own))), refused("answer for every address", s.SetPromiscuousMode(nic, true)),
		refused("answer as every address", s.SetSpoofing(nic, true)))
	if err != nil {
		return nil, err
	}
	s.SetRouteTable([]tcpip.Route{{Destination: header.IPv4EmptySubnet, NIC: nic}})
	ctx, stop := context.WithCancel(context.Background())
	n := &Network{stack: s, own: own, stop: stop, cards: map[string]*Plug{}, at: map[netip.Addr]net.HardwareAddr{}, leased: map[netip.Addr]string{}, tried: map[try]int{}}
	n.all.Go(func() { n.speak(ctx) })
	return n, nil
}

// Close ends it.
func (n *Network) Close() {
	n.stop()
	n.mu.Lock()
	for _, p := range n.plugs {
		p.conn.Close()
	}
	n.mu.Unlock()
	n.all.Wait()
	n.stack.Close()
}

// Plug makes room for a card of a guest.
func (n *Network) Plug(guest string) (*Plug, error) {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		return nil, fmt.Errorf("closed network: a port for a card of %s: %w", guest, err)
	}
	free, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)}) // QEMU can't draw one by itself
	if err != nil {
		return nil, errors.Join(fmt.Errorf("closed network: a port for a card of %s: %w", guest, err), conn.Close())
	}
	p := &Plug{Of: guest, Here: conn.LocalAddr().(*net.UDPAddr).Port, There: free.LocalAddr().(*net.UDPAddr).Port, n: n, conn: conn}
	if err := free.Close(); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	n.mu.Lock()
	n.plugs = append(n.plugs, p)
	n.mu.Unlock()
	n.all.Go(p.hear)
	return p, nil
}

// hear takes the frames of a card.
func (p *Plug) hear() {
	frame := make([]byte, longestFrame)
	for {
		size, from, err := p.conn.ReadFromUDPAddrPort(frame)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err == nil && int(from.Port()) == p.There && size >= header.EthernetMinimumSize {
			p.n.frame(p, frame[:size])
		}
	}
}

// send gives a card a frame. One that is lost is none of ours: so are frames on a cable.
func (p *Plug) send(frame []byte) {
	_, _ = p.conn.WriteToUDP(frame, &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: p.There})
}

// frame does with a frame what a switch does.
func (n *Network) frame(from *Plug, frame []byte) {
	eth := header.Ethernet(frame)
	to, card := net.HardwareAddr(frame[0:6]), net.HardwareAddr(bytes.Clone(frame[6:12]))
	if bytes.Equal(card, gateway) || card[0]&1 == 1 {
		return // nobody's but ours; a group's
	}
	n.mu.Lock()
	from.frames++
	if _, known := n.cards[string(card)]; known || len(n.cards) < mostCards {
		n.cards[string(card)] = from
	}
	kind, body := eth.Type(), frame[header.EthernetMinimumSize:]
	n.learn(from, card, kind, body)
	target, known := n.cards[string(to)]
	others := slices.Clone(n.plugs)
	if bytes.Equal(to, gateway) && kind == header.IPv4ProtocolNumber {
		if owner := n.at[destination(body)]; owner != nil && n.cards[string(owner)] != nil { // that guest was not known when it was asked for
			target, known = n.cards[string(owner)], true
			copy(frame, owner)
		}
	}
	lease := n.lease(card, kind, body)
	n.mu.Unlock()
	if lease != nil {
		from.send(lease)
		return
	}
	if kind == header.ARPProtocolNumber {
		n.answer(from, card, body)
	}
	if known {
		if target != from {
			target.send(frame)
		}
		return
	}
	if bytes.Equal(to, gateway) {
		if kind == header.IPv4ProtocolNumber {
			n.note(from, body)
		}
		if kind == header.IPv4ProtocolNumber || kind == header.ARPProtocolNumber {
			n.own.InjectInbound(0, stack.NewPacketBuffer(stack.PacketBufferOptions{Payload: buffer.MakeWithData(bytes.Clone(frame))}))
		}
		return
	}
	for _, p := range others {
		if p != from {
			p.send(frame)
		}
	}
}

// learn notes the address that a card uses. The caller holds the lock.
func (n *Network) learn(from *Plug, card net.HardwareAddr, kind tcpip.NetworkProtocolNumber, body []byte) {
	var address netip.Addr
	switch {
	case kind == header.ARPProtocolNumber && len(body) >= header.ARPSize && header.ARP(body).IsValid():
		address, _ = netip.AddrFromSlice(header.ARP(body).ProtocolAddressSender())
	case kind == header.IPv4ProtocolNumber && header.IPv4(body).IsValid(len(body)):
		source := header.IPv4(body).SourceAddress()
		address, _ = netip.AddrFromSlice(source.AsSlice())
	}
	if !address.IsValid() || address.IsUnspecified() || address.IsMulticast() || address.IsLoopback() {
		return
	}
	if !slices.Contains(from.seen, address) && len(from.seen) < mostAddresses {
		from.seen = append(from.seen, address)
	}
	if slices.Contains(from.seen, address) && !bytes.Equal(n.at[address], card) {
		n.at[address] = card
		n.stack.AddStaticNeighbor(nic, header.IPv4ProtocolNumber, tcpip.AddrFromSlice(address.AsSlice()), tcpip.LinkAddress(card))
	}
}

// patience is how long guests have to say that an address is theirs before the network takes it.
const patience = 250 * time.Millisecond

// answer tells who asks for an address that no guest has that it is the network's (ARP, RFC 826).
func (n *Network) answer(to *Plug, card net.HardwareAddr, body []byte) {
	ask := header.ARP(bytes.Clone(body))
	if len(ask) < header.ARPSize || !ask.IsValid() || ask.Op() != header.ARPRequest {
		return
	}
	sender, _ := netip.AddrFromSlice(ask.ProtocolAddressSender())
	wanted, _ := netip.AddrFromSlice(ask.ProtocolAddressTarget())
	if sender.IsUnspecified() || sender == wanted { // it asks whether its own is free (RFC 5227)
		return
	}
	out, reply := arpTo(card, header.ARPReply)
	copy(reply.ProtocolAddressSender(), ask.ProtocolAddressTarget())
	copy(reply.HardwareAddressTarget(), card)
	copy(reply.ProtocolAddressTarget(), ask.ProtocolAddressSender())
	time.AfterFunc(patience, func() {
		n.mu.Lock()
		_, guests := n.at[wanted]
		n.mu.Unlock()
		if !guests {
			to.send(out)
		}
	})
}

// arpTo is a frame from the network's own card, with what it asks or says.
func arpTo(card net.HardwareAddr, op header.ARPOp) (frame []byte, body header.ARP) {
	frame = make([]byte, header.EthernetMinimumSize+header.ARPSize)
	header.Ethernet(frame).Encode(&header.EthernetFields{SrcAddr: tcpip.LinkAddress(gateway), DstAddr: tcpip.LinkAddress(card), Type: header.ARPProtocolNumber})
	body = header.ARP(frame[header.EthernetMinimumSize:])
	body.SetIPv4OverEthernet()
	body.SetOp(op)
	copy(body.HardwareAddressSender(), gateway)
	return frame, body
}

// destination is the address to which a packet goes; the zero one for what is none.
func destination(body []byte) (to netip.Addr) {
	if ip := header.IPv4(body); ip.IsValid(len(body)) {
		address := ip.DestinationAddress()
		to, _ = netip.AddrFromSlice(address.AsSlice())
	}
	return to
}

// note notes what a guest tried to reach that is not there.
func (n *Network) note(from *Plug, body []byte) {
	ip := header.IPv4(body)
	if !ip.IsValid(len(body)) {
		return
	}
	target, what := destination(body), ""
	switch p := ip.Payload(); {
	case ip.TransportProtocol() == header.TCPProtocolNumber && len(p) >= header.TCPMinimumSize:
		if header.TCP(p).Flags() != header.TCPFlagSyn {
			return // an answer to us
		}
		what = fmt.Sprintf("%s:%d", target, header.TCP(p).DestinationPort())
	case ip.TransportProtocol() == header.UDPProtocolNumber && len(p) >= header.UDPMinimumSize:
		what = fmt.Sprintf("%s:%d (UDP)", target, header.UDP(p).DestinationPort())
	default:
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	one := try{from.Of, what}
	if _, known := n.tried[one]; known || len(n.tried) < mostTried {
		n.tried[one]++
	}
}

// speak brings guests what the network's own card sends.
func (n *Network) speak(ctx context.Context) {
	for {
		packet := n.own.ReadContext(ctx)
		if packet == nil {
			return
		}
		whole := packet.ToBuffer()
		frame := whole.Flatten()
		packet.DecRef()
		if len(frame) < header.EthernetMinimumSize {
			continue
		}
		n.mu.Lock()
		target, known := n.cards[string(frame[0:6])]
		others := slices.Clone(n.plugs)
		n.mu.Unlock()
		if known {
			others = []*Plug{target}
		} else if !bytes.Equal(frame[0:6], everybody) {
			continue
		}
		for _, p := range others {
			p.send(frame)
		}
	}
}

// Addresses are the IPv4 addresses that a guest's cards have used, in the order in which they were seen.
func (n *Network) Addresses(guest string) (out []netip.Addr) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, p := range n.plugs {
		if p.Of == guest {
			out = append(out, p.seen...)
		}
	}
	return out
}

// Sent reports how many frames a guest's cards have sent.
func (n *Network) Sent(guest string) (frames int64) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, p := range n.plugs {
		if p.Of == guest {
			frames += p.frames
		}
	}
	return frames
}

// try is what a guest tried to reach that is not there.
type try struct{ guest, what string }

// Tried lists what a guest tried to reach and did not, with how often: "tickets-db → 192.0.2.9:443 (3 times)".
func (n *Network) Tried(guest string) (out []string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for one, count := range n.tried {
		times := "once"
		if count > 1 {
			times = fmt.Sprintf("%d times", count)
		}
		if one.guest == guest {
			out = append(out, one.guest+" → "+one.what+" ("+times+")")
		}
	}
	slices.Sort(out)
	return out
}

// Dial connects to a port of a guest over TCP, from an address beside the guest's.
func (n *Network) Dial(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	if err := n.find(ctx, to.Addr()); err != nil {
		return nil, err
	}
	conn, err := gonet.DialTCPWithBind(ctx, n.stack, tcpip.FullAddress{NIC: nic, Addr: tcpip.AddrFromSlice(n.beside(to.Addr()).AsSlice())},
		tcpip.FullAddress{NIC: nic, Addr: tcpip.AddrFromSlice(to.Addr().AsSlice()), Port: to.Port()}, header.IPv4ProtocolNumber)
	if err != nil {
		return nil, fmt.Errorf("connect to %s in the closed network: %w", to, err)
	}
	return conn, nil
}

// beside is an address of the network of an address of a guest, that no guest has.
func (n *Network) beside(guest netip.Addr) netip.Addr {
	n.mu.Lock()
	defer n.mu.Unlock()
	near := guest.As4()
	for last := byte(254); last > 0; last-- {
		near[3] = last
		if a := netip.AddrFrom4(near); n.at[a] == nil {
			return a
		}
	}
	return guest
}

// find asks who has an address, until somebody says that he has.
func (n *Network) find(ctx context.Context, guest netip.Addr) error {
	if !guest.Is4() {
		return fmt.Errorf("connect to %s in the closed network: it is for IPv4 only", guest)
	}
	ask, request := arpTo(everybody, header.ARPRequest)
	copy(request.ProtocolAddressSender(), n.beside(guest).AsSlice())
	copy(request.ProtocolAddressTarget(), guest.AsSlice())
	for {
		n.mu.Lock()
		known := n.at[guest] != nil
		all := slices.Clone(n.plugs)
		n.mu.Unlock()
		if known {
			return nil
		}
		for _, p := range all {
			p.send(ask)
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("nobody in the closed network has the address %s: %w", guest, context.Cause(ctx))
		case <-time.After(200 * time.Millisecond):
		}
	}
}
