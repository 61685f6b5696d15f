package closed

import (
	"net"
	"net/netip"
	"time"

	"github.com/insomniacslk/dhcp/dhcpv4"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
)

const (
	serverPort, clientPort = 67, 68
	leaseTime              = 24 * time.Hour // longer than any trial
)

// firstLease is what a card gets that asks for no address of its own (RFC 5737: a range for documentation).
var firstLease = netip.AddrFrom4([4]byte{192, 0, 2, 10})

// lease answers a client of DHCP (RFC 2131): who asks for the address that it had gets it, others get the next one that is free. nil is nothing to say.
// The caller holds the lock.
func (n *Network) lease(card net.HardwareAddr, kind tcpip.NetworkProtocolNumber, body []byte) []byte {
	ip := header.IPv4(body)
	if kind != header.IPv4ProtocolNumber || !ip.IsValid(len(body)) || ip.TransportProtocol() != header.UDPProtocolNumber || len(ip.Payload()) < header.UDPMinimumSize || header.UDP(ip.Payload()).DestinationPort() != serverPort {
		return nil
	}
	ask, err := dhcpv4.FromBytes(header.UDP(ip.Payload()).Payload())
	if err != nil || ask.OpCode != dhcpv4.OpcodeBootRequest {
		return nil
	}
	said := dhcpv4.MessageTypeOffer
	switch ask.MessageType() {
	case dhcpv4.MessageTypeDiscover:
	case dhcpv4.MessageTypeRequest:
		said = dhcpv4.MessageTypeAck
	default:
		return nil
	}
	wanted, ok := netip.AddrFromSlice(ask.RequestedIPAddress().To4())
	if !ok {
		wanted, ok = netip.AddrFromSlice(ask.ClientIPAddr.To4())
	}
	if !ok || wanted.IsUnspecified() || !n.free(wanted, card) {
		if len(n.leased) >= mostCards {
			return nil
		}
		wanted = firstLease
		for !n.free(wanted, card) {
			wanted = wanted.Next()
		}
	}
	n.leased[wanted] = string(card)
	router := wanted.As4()
	router[3] = 1
	if wanted.As4()[3] == 1 {
		router[3] = 254
	}
	reply, err := dhcpv4.NewReplyFromRequest(ask, dhcpv4.WithMessageType(said), dhcpv4.WithYourIP(wanted.AsSlice()), dhcpv4.WithServerIP(router[:]),
		dhcpv4.WithOption(dhcpv4.OptServerIdentifier(router[:])), dhcpv4.WithOption(dhcpv4.OptRouter(router[:])), dhcpv4.WithNetmask(net.CIDRMask(24, 32)),
		dhcpv4.WithLeaseTime(uint32(leaseTime/time.Second)))
	if err != nil {
		return nil
	}
	return datagram(tcpip.AddrFrom4(router), card, reply.ToBytes())
}

// free reports whether a card may have an address. The caller holds the lock.
func (n *Network) free(a netip.Addr, card net.HardwareAddr) bool {
	if owner, leased := n.leased[a]; leased {
		return owner == string(card)
	}
	owner, used := n.at[a]
	return !used || owner.String() == card.String()
}

// datagram is a frame with an answer of a server to a card.
func datagram(from tcpip.Address, card net.HardwareAddr, content []byte) []byte {
	out := make([]byte, header.EthernetMinimumSize+header.IPv4MinimumSize+header.UDPMinimumSize+len(content))
	header.Ethernet(out).Encode(&header.EthernetFields{SrcAddr: tcpip.LinkAddress(gateway), DstAddr: tcpip.LinkAddress(card), Type: header.IPv4ProtocolNumber})
	ip := header.IPv4(out[header.EthernetMinimumSize:])
	ip.Encode(&header.IPv4Fields{TotalLength: uint16(len(ip)), TTL: 64, Protocol: uint8(header.UDPProtocolNumber), SrcAddr: from, DstAddr: header.IPv4Broadcast})
	ip.SetChecksum(^ip.CalculateChecksum())
	udp := header.UDP(ip[header.IPv4MinimumSize:])
	udp.Encode(&header.UDPFields{SrcPort: serverPort, DstPort: clientPort, Length: uint16(len(udp))}) // without a checksum, as RFC 768 allows
	copy(udp[header.UDPMinimumSize:], content)
	return out
}
