package filter

import (
	"net/netip"
)

// Transport protocols by their number (IANA protocol numbers).
const (
	ICMP   = 1
	TCP    = 6
	UDP    = 17
	ICMPv6 = 58
)

// Range is a range of ports, both ends within it.
type Range struct{ Low, High uint16 }

// Ephemeral is the range that Linux takes clients' own ports from unless it
// is told otherwise (net.ipv4.ip_local_port_range).
var Ephemeral = Range{32768, 60999}

// Packet is one packet, as far as it is known.
type Packet struct {
	Proto    uint8 // TCP, UDP, ICMP or ICMPv6
	From, To netip.Addr
	// FromPort and ToPort are the ports of TCP and UDP; 0: some port of
	// Ports.
	FromPort, ToPort uint16
	Ports            Range // of the ports that are 0; the zero range is Ephemeral
	ICMPType         uint8
	ICMPCode         uint8
	Flags            uint8 // of TCP (RFC 9293 section 3.1)
	// AnySource marks a packet whose source address is not known.
	AnySource bool
}

// Flags of TCP.
const (
	FIN = 1 << iota
	SYN
	RST
	PSH
	ACK
)

// Six reports whether the packet is IPv6.
func (p Packet) Six() bool { return p.To.Is6() && !p.To.Is4In6() }

// Echo is the type of an ICMP echo request of a family.
func Echo(six bool) uint8 {
	if six {
		return 128
	}
	return 8
}

// reply is the packet that answers p: the addresses and ports exchanged.
func (p Packet) reply() Packet {
	r := p
	r.From, r.To, r.FromPort, r.ToPort = p.To, p.From, p.ToPort, p.FromPort
	r.AnySource = false
	switch {
	case p.Proto == TCP:
		r.Flags = SYN | ACK
	case p.Proto == ICMP && p.ICMPType == 8:
		r.ICMPType = 0
	case p.Proto == ICMPv6 && p.ICMPType == 128:
		r.ICMPType = 129
	}
	return r
}

// Types of neighbour discovery (RFC 4861 section 4): who has this address, and I do.
const (
	Solicits   = 135
	Advertises = 136
)

// discovers reports whether a packet is of neighbour or router discovery, which the
// tracker of connections passes over (icmpv6_error_message and
// nf_conntrack_icmpv6_error in net/netfilter/nf_conntrack_proto_icmpv6.c).
func (p Packet) discovers() bool { return p.Proto == ICMPv6 && p.ICMPType >= 133 && p.ICMPType <= 137 }

// header is bytes of a packet, of which some may be unknown.
type header struct {
	bytes [40]byte
	known [40]byte // 0xff where the byte is known
	n     int
	// A ranged port begins at this offset; -1: none.
	ranged int
	ports  Range
}

func (h *header) set(at int, bytes ...byte) {
	for i, b := range bytes {
		h.bytes[at+i], h.known[at+i] = b, 0xff
	}
}

func (h *header) port(at int, port uint16, ports Range) {
	if port != 0 {
		h.set(at, byte(port>>8), byte(port))
		return
	}
	if ports == (Range{}) {
		ports = Ephemeral
	}
	h.ranged, h.ports = at, ports
}

// network is the packet's network header (RFC 791, RFC 8200). Lengths,
// identifications, hop limits and checksums are not known.
func (p Packet) network() header {
	h := header{n: 20, ranged: -1}
	if p.Six() {
		h.n = 40
		h.set(0, 0x60)
		h.known[0] = 0xf0
		h.set(6, p.Proto)
		from, to := p.From.As16(), p.To.As16()
		if !p.AnySource {
			h.set(8, from[:]...)
		}
		h.set(24, to[:]...)
		return h
	}
	h.set(0, 0x45, 0)
	h.known[1] = 0xfc // a class of traffic is not set; congestion bits may be
	h.set(6, 0, 0)
	h.known[6] = 0xbf // "don't fragment" may be set, more fragments do not follow
	h.set(9, p.Proto)
	if p.From.Is4() || p.From.Is4In6() {
		if from := p.From.Unmap().As4(); !p.AnySource {
			h.set(12, from[:]...)
		}
	}
	to := p.To.Unmap().As4()
	h.set(16, to[:]...)
	return h
}

// transport is the packet's transport header.
func (p Packet) transport() header {
	h := header{ranged: -1}
	switch p.Proto {
	case TCP:
		h.n = 20
		h.port(0, p.FromPort, p.Ports)
		h.port(2, p.ToPort, p.Ports)
		if p.Flags&ACK == 0 {
			h.set(8, 0, 0, 0, 0)
		}
		h.set(13, p.Flags)
		h.known[13] = 0x3f &^ PSH // congestion bits may be set
		h.set(18, 0, 0)
	case UDP:
		h.n = 8
		h.port(0, p.FromPort, p.Ports)
		h.port(2, p.ToPort, p.Ports)
	case ICMP, ICMPv6:
		h.n = 8
		h.set(0, p.ICMPType, p.ICMPCode)
	}
	return h
}
