package path

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
)

// seenPackets gathers what a watch sees.
type seenPackets struct {
	fact.Packets
	port  uint16
	large bool // packets of nearly full size are kept too
}

// packetOnLink is a packet as the kernel hands it on: its beginning from the network's
// header on, how long it is, and where it was seen.
type packetOnLink struct {
	data []byte
	at   *unix.SockaddrLinklayer
	link string
	ms   float64
	// unsummed says that its checksum is not made yet, as of what this machine's own
	// programs send, and checked that the kernel knows it to be right.
	unsummed, checked bool
}

func (p packetOnLink) out() bool { return p.at.Pkttype == unix.PACKET_OUTGOING }

// take keeps one packet, as far as its headers are whole. The loopback link shows
// each twice, and is left out.
func (p *seenPackets) take(packet packetOnLink) {
	b := packet.data
	if packet.at.Hatype == unix.ARPHRD_LOOPBACK || len(b) < 20 {
		return
	}
	if b[0]>>4 == 0 {
		p.takeARP(b, packet.link, packet.out())
		return
	}
	h, ok := headOf(b)
	if !ok {
		return
	}
	switch h.protocol {
	case unix.IPPROTO_TCP:
		p.takeSegment(packet, h)
	case unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6:
		p.takeICMP(b, h, packet.link, packet.out(), packet.ms)
	}
}

// takeSegment keeps a segment that opens, answers or resets, and one of nearly full
// size if those are wanted.
func (p *seenPackets) takeSegment(packet packetOnLink, h head) {
	b := packet.data
	if len(b) < h.long+20 {
		return
	}
	tcp := b[h.long:]
	s := fact.Segment{
		AtMS: packet.ms, Link: packet.link, Out: packet.out(), Hops: h.hops, Flags: flagWords(tcp[13]),
		Length:   h.whole,
		From:     netip.AddrPortFrom(h.from, binary.BigEndian.Uint16(tcp)),
		To:       netip.AddrPortFrom(h.to, binary.BigEndian.Uint16(tcp[2:])),
		Sequence: binary.BigEndian.Uint32(tcp[4:]), Acknowledged: binary.BigEndian.Uint32(tcp[8:]),
	}
	opens := tcp[13]&(flagSYN|flagRST) != 0
	if s.From.Port() != p.port && s.To.Port() != p.port || !opens && !(p.large && s.Large()) {
		return // the kernel's filter lets more through where headers stand between
	}
	if len(p.Segments) == mostSegments {
		p.More = true
		return
	}
	header := min(h.long+int(tcp[12]>>4)*4, len(b)) // and nothing that is said
	if s.Raw = slices.Clone(b[:max(header, h.long+20)]); header > h.long+20 && tcp[13]&flagSYN != 0 {
		s.Options = optionWords(b[h.long+20 : header])
	}
	if !s.Out && !packet.unsummed && !packet.checked && len(b) >= h.whole && h.whole >= h.long+20 {
		s.Damaged = !sums(h, b[h.long:h.whole])
	}
	p.Segments = append(p.Segments, s)
}

// sums reports whether a segment's checksum is right (RFC 9293 section 3.1, RFC 1071).
func sums(h head, segment []byte) bool {
	sum := uint32(unix.IPPROTO_TCP) + uint32(len(segment))
	for _, part := range [][]byte{h.from.AsSlice(), h.to.AsSlice(), segment} {
		for i, each := range part {
			sum += uint32(each) << (8 * uint(1-i%2))
		}
	}
	for sum > 0xffff {
		sum = sum&0xffff + sum>>16
	}
	return sum == 0xffff
}

// optionWords is the options of a segment that change what passes (RFC 9293 section
// 3.2, RFC 7323, RFC 2018).
func optionWords(b []byte) string {
	var words []string
	for len(b) > 0 && b[0] != 0 {
		if b[0] == 1 { // padding
			b = b[1:]
			continue
		}
		if len(b) < 2 || b[1] < 2 || int(b[1]) > len(b) {
			break
		}
		kind, value := b[0], b[2:b[1]]
		b = b[b[1]:]
		switch {
		case kind == 2 && len(value) == 2:
			words = append(words, fmt.Sprintf("mss %d", binary.BigEndian.Uint16(value)))
		case kind == 3 && len(value) == 1:
			words = append(words, fmt.Sprintf("scale %d", value[0]))
		case kind == 4:
			words = append(words, "sack")
		case kind == 8:
			words = append(words, "timestamps")
		default:
			words = append(words, fmt.Sprintf("option %d", kind))
		}
	}
	return strings.Join(words, ", ")
}

// takeICMP keeps an echo request's source, an error that quotes a packet of the port,
// and what is asked of neighbours.
func (p *seenPackets) takeICMP(b []byte, h head, link string, out bool, ms float64) {
	if len(b) < h.long+4 {
		return
	}
	icmp, six := b[h.long:], h.protocol == unix.IPPROTO_ICMPV6
	switch kind := icmp[0]; {
	case kind == 8 && !six || kind == 128 && six:
		if !out && !slices.Contains(p.Echoes, h.from) && len(p.Echoes) < mostSegments {
			p.Echoes = append(p.Echoes, h.from)
		}
	case six && kind == 135 && out && len(icmp) >= 24:
		p.asks(netip.AddrFrom16([16]byte(icmp[8:24])), link)
	case six && kind == 136 && !out && len(icmp) >= 24:
		p.answered(netip.AddrFrom16([16]byte(icmp[8:24])), link, hardwareOption(icmp[24:]))
	case len(icmp) >= 8 && (six && kind < 128 || !six && (kind == 3 || kind == 11 || kind == 12)):
		quoted := icmp[8:]
		q, ok := headOf(quoted)
		if !ok || q.protocol != unix.IPPROTO_TCP || len(quoted) < q.long+4 {
			return
		}
		from, to := binary.BigEndian.Uint16(quoted[q.long:]), binary.BigEndian.Uint16(quoted[q.long+2:])
		if from != p.port && to != p.port {
			return
		}
		if len(p.Errors) == mostSegments {
			p.More = true
			return
		}
		p.Errors = append(p.Errors, fact.PacketError{
			AtMS: ms, Link: link, Out: out, From: h.from, Type: kind, Code: icmp[1],
			About: netip.AddrPortFrom(q.to, to), Hops: h.hops,
		})
	}
}

// takeARP keeps what is asked of neighbours of IPv4 (RFC 826).
func (p *seenPackets) takeARP(b []byte, link string, out bool) {
	const request, reply = 1, 2
	if len(b) < 28 || binary.BigEndian.Uint16(b[2:]) != unix.ETH_P_IP || b[4] != 6 || b[5] != 4 {
		return
	}
	switch what := binary.BigEndian.Uint16(b[6:]); {
	case what == request && out:
		p.asks(netip.AddrFrom4([4]byte(b[24:28])), link)
	case what == reply && !out:
		p.answered(netip.AddrFrom4([4]byte(b[14:18])), link, b[8:14])
	}
}

func (p *seenPackets) asks(addr netip.Addr, link string) {
	for i := range p.Asked {
		if n := &p.Asked[i]; n.Addr == addr && n.Link == link {
			n.Times++
			return
		}
	}
	if len(p.Asked) < mostSegments {
		p.Asked = append(p.Asked, fact.AskedNeighbour{Addr: addr, Link: link, Times: 1})
	}
}

func (p *seenPackets) answered(addr netip.Addr, link string, by net.HardwareAddr) {
	for i := range p.Asked {
		n := &p.Asked[i]
		if n.Addr != addr || n.Link != link {
			continue
		}
		n.Answered = true
		if len(by) > 0 && !slices.Contains(n.By, by.String()) && len(n.By) < mostSegments {
			n.By = append(n.By, by.String())
		}
	}
}

// hardwareOption is the hardware address that an answer of a neighbour tells (RFC 4861
// section 4.6.1); nil if it tells none.
func hardwareOption(b []byte) net.HardwareAddr {
	const target, long = 2, 8
	if len(b) < long || b[0] != target || b[1] != 1 {
		return nil
	}
	return slices.Clone(b[2:long])
}

// The flags of a segment (RFC 9293 section 3.1) that say what it does.
const (
	flagFIN = 1 << iota
	flagSYN
	flagRST
	_
	flagACK
)

// flagWords is the flags of a segment (RFC 9293 section 3.1), but for what says
// nothing of its kind.
func flagWords(flags byte) string {
	var words []string
	for _, f := range []struct {
		bit  byte
		word string
	}{{flagSYN, "SYN"}, {flagFIN, "FIN"}, {flagRST, "RST"}, {flagACK, "ACK"}} {
		if flags&f.bit != 0 {
			words = append(words, f.word)
		}
	}
	return strings.Join(words, " ")
}

// saw is the watch in a line.
func (p *seenPackets) saw() string {
	var parts []string
	count := map[string]int{}
	for _, s := range p.Segments {
		what := s.Flags
		if s.Large() {
			what = fmt.Sprintf("of %d bytes", s.Length)
		}
		part := fmt.Sprintf("%s in by %s", what, s.Link)
		if s.Out {
			part = fmt.Sprintf("%s out by %s", what, s.Link)
		}
		if s.Damaged {
			part += " with a wrong checksum"
		}
		if count[part]++; count[part] == 1 {
			parts = append(parts, part)
		}
	}
	for i, part := range parts {
		parts[i] = fmt.Sprintf("%d %s", count[part], part)
	}
	for _, e := range p.Errors {
		part := fmt.Sprintf("ICMP type %d code %d from %s", e.Type, e.Code, e.From)
		if !slices.Contains(parts, part) {
			parts = append(parts, part)
		}
	}
	for _, n := range p.Asked {
		if !n.Answered {
			parts = append(parts, fmt.Sprintf("asks for %s on %s, and nobody answers", n.Addr, n.Link))
		}
	}
	if p.More {
		parts = append(parts, "and more than are kept")
	}
	return cmp.Or(strings.Join(parts, ", "), "none")
}
