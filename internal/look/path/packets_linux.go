package path

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/wire"
)

// Times and bounds of a watch. Whoever watches begins before the tries, and ends
// after them.
const (
	watchTime    = 3 * time.Second
	beforeTry    = 600 * time.Millisecond
	tryTime      = 1200 * time.Millisecond // a second opening follows after a second
	afterTry     = 300 * time.Millisecond
	mostSegments = 120
	mostHeader   = 128 // bytes of one packet
)

// Packets watches the links of this host, by the headers alone: what opens,
// answers and resets TCP connections of a port, and echo requests. The host that
// asks makes a try meanwhile, and sends an echo, by which the others see that they
// watched at that time. No link is put into promiscuous mode, and nothing stays
// behind.
func Packets(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	try := t.Name == "try"
	source := fmt.Sprintf("packets of port %d", t.Port)
	fd, err := packetSocket(flowFilter(uint32(t.Port)))
	if err != nil {
		emit(env.Failed(order, source, "could not watch the links", err, "root"))
		return
	}
	defer unix.Close(fd)
	began := time.Now()
	until := began.Add(watchTime)
	var ended sync.WaitGroup
	if try {
		if err := env.Probes.Climb(netip.AddrPortFrom(t.Addr, t.Port)); err != nil {
			emit(env.Failed(order, source, "did not try", err, ""))
			return
		}
		until = began.Add(beforeTry + tryTime + afterTry)
		ended.Go(func() { tryOnce(ctx, env, t) })
	}
	p := seenPackets{Packets: fact.Packets{Try: try, Segments: []fact.Segment{}}, port: t.Port}
	links := map[int]string{}
	buffer := make([]byte, mostHeader)
	for ctx.Err() == nil && time.Now().Before(until) {
		wait := unix.NsecToTimeval(int64(min(200*time.Millisecond, time.Until(until)) + time.Microsecond))
		if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &wait); err != nil {
			emit(env.Failed(order, source, "could not watch the links", err, ""))
			break
		}
		n, from, err := unix.Recvfrom(fd, buffer, 0)
		at, ok := from.(*unix.SockaddrLinklayer)
		if err != nil || !ok {
			if err != nil && !errors.Is(err, unix.EAGAIN) && !errors.Is(err, unix.EINTR) {
				emit(env.Failed(order, source, "could not watch the links", err, ""))
				break
			}
			continue
		}
		if links[at.Ifindex] == "" {
			links[at.Ifindex] = fmt.Sprintf("link %d", at.Ifindex)
			if link, err := net.InterfaceByIndex(at.Ifindex); err == nil {
				links[at.Ifindex] = link.Name
			}
		}
		p.take(buffer[:n], at, links[at.Ifindex], wire.MS(time.Since(began)))
	}
	ended.Wait()
	if lost, err := unix.GetsockoptTpacketStats(fd, unix.SOL_PACKET, unix.PACKET_STATISTICS); err != nil ||
		lost.Drops > 0 {
		p.More = true
	}
	p.WatchMS, p.Began = wire.MS(time.Since(began)), began.UTC()
	f := env.Seen(order, source, p.saw())
	f.Packets = &p.Packets
	emit(f)
}

// seenPackets gathers what a watch sees.
type seenPackets struct {
	fact.Packets
	port uint16
}

// take keeps one packet, as far as its headers are whole. The loopback link shows
// each twice, and is left out.
func (p *seenPackets) take(b []byte, at *unix.SockaddrLinklayer, link string, ms float64) {
	if at.Hatype == unix.ARPHRD_LOOPBACK || len(b) < 20 {
		return
	}
	out := at.Pkttype == unix.PACKET_OUTGOING
	if b[0]>>4 == 0 {
		p.takeARP(b, link, out)
		return
	}
	h, ok := headOf(b)
	if !ok {
		return
	}
	switch h.protocol {
	case unix.IPPROTO_TCP:
		p.takeSegment(b, h, link, out, ms)
	case unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6:
		p.takeICMP(b, h, link, out, ms)
	}
}

// head is the network's header of a packet.
type head struct {
	long, hops int
	protocol   byte
	from, to   netip.Addr
}

// headOf reads a header of IPv4 or IPv6 (RFC 791 section 3.1, RFC 8200 section 3).
func headOf(b []byte) (h head, ok bool) {
	switch {
	case len(b) >= 20 && b[0]>>4 == 4:
		return head{
			int(b[0]&15) * 4, int(b[8]), b[9], netip.AddrFrom4([4]byte(b[12:16])), netip.AddrFrom4([4]byte(b[16:20])),
		}, true
	case len(b) >= 40 && b[0]>>4 == 6:
		return head{
			40, int(b[7]), b[6], netip.AddrFrom16([16]byte(b[8:24])), netip.AddrFrom16([16]byte(b[24:40])),
		}, true
	}
	return h, false
}

func (p *seenPackets) takeSegment(b []byte, h head, link string, out bool, ms float64) {
	if len(b) < h.long+20 {
		return
	}
	tcp := b[h.long:]
	if len(p.Segments) == mostSegments {
		p.More = true
		return
	}
	s := fact.Segment{
		AtMS: ms, Link: link, Out: out, Hops: h.hops, Flags: flagWords(tcp[13]),
		From:     netip.AddrPortFrom(h.from, binary.BigEndian.Uint16(tcp)),
		To:       netip.AddrPortFrom(h.to, binary.BigEndian.Uint16(tcp[2:])),
		Sequence: binary.BigEndian.Uint32(tcp[4:]), Acknowledged: binary.BigEndian.Uint32(tcp[8:]),
	}
	whole := min(h.long+int(tcp[12]>>4)*4, len(b)) // its headers, and nothing that is said
	if s.Raw = slices.Clone(b[:max(whole, h.long+20)]); whole > h.long+20 && tcp[13]&2 != 0 {
		s.Options = optionWords(b[h.long+20 : whole])
	}
	p.Segments = append(p.Segments, s)
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
		p.answered(netip.AddrFrom16([16]byte(icmp[8:24])))
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
		p.answered(netip.AddrFrom4([4]byte(b[14:18])))
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

func (p *seenPackets) answered(addr netip.Addr) {
	for i := range p.Asked {
		p.Asked[i].Answered = p.Asked[i].Answered || p.Asked[i].Addr == addr
	}
}

// flagWords is the flags of a segment (RFC 9293 section 3.1), but for what says
// nothing of its kind.
func flagWords(flags byte) string {
	var words []string
	for _, f := range []struct {
		bit  byte
		word string
	}{{2, "SYN"}, {1, "FIN"}, {4, "RST"}, {16, "ACK"}} {
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
		part := fmt.Sprintf("%s in by %s", s.Flags, s.Link)
		if s.Out {
			part = fmt.Sprintf("%s out by %s", s.Flags, s.Link)
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

// packetSocket is a socket that the kernel hands copies of the packets to that a
// filter takes.
func packetSocket(filter []bpf.Instruction) (int, error) {
	all := int(binary.BigEndian.Uint16(binary.NativeEndian.AppendUint16(nil, unix.ETH_P_ALL)))
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	program, err := bpf.Assemble(filter)
	if err == nil {
		raw := make([]unix.SockFilter, len(program))
		for i, each := range program {
			raw[i] = unix.SockFilter{Code: each.Op, Jt: each.Jt, Jf: each.Jf, K: each.K}
		}
		err = unix.SetsockoptSockFprog(
			fd,
			unix.SOL_SOCKET,
			unix.SO_ATTACH_FILTER,
			&unix.SockFprog{Len: uint16(len(raw)), Filter: &raw[0]},
		)
	}
	if err == nil {
		err = unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: uint16(all)})
	}
	if err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}

// flowFilter is the kernel's filter for what opens or resets TCP connections from or
// to a port, for echo requests, errors and questions for neighbours, over packets that begin with the header of
// the network. Of IPv6 only packets without headers between are taken. Every jump to
// the end is written as a distance from its own place.
func flowFilter(port uint32) []bpf.Instruction {
	const synOrRst = 2 | 4
	const six, icmp, icmp6, flags, no, yes = 19, 16, 30, 27, 28, 29
	to := func(from, place int) uint8 { return uint8(place - from - 1) }
	return []bpf.Instruction{
		0:  bpf.LoadAbsolute{Off: 0, Size: 1},
		1:  bpf.ALUOpConstant{Op: bpf.ALUOpShiftRight, Val: 4},
		2:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: 6, SkipTrue: to(2, six)},
		3:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: 0, SkipTrue: to(3, yes)}, // ARP: its first byte is the kind of the link
		4:  bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 4, SkipTrue: to(4, no)},
		5:  bpf.LoadMemShift{Off: 0},
		6:  bpf.LoadAbsolute{Off: 9, Size: 1},
		7:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMP, SkipTrue: to(7, icmp)},
		8:  bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_TCP, SkipTrue: to(8, no)},
		9:  bpf.LoadIndirect{Off: 0, Size: 2},
		10: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: to(10, 14)},
		11: bpf.LoadIndirect{Off: 2, Size: 2},
		12: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: to(12, 14)},
		13: bpf.RetConstant{Val: 0},
		14: bpf.LoadIndirect{Off: 13, Size: 1},
		15: bpf.Jump{Skip: uint32(to(15, flags))},
		16: bpf.LoadIndirect{Off: 0, Size: 1}, // icmp: echo requests and errors
		17: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 8, SkipTrue: to(17, yes)},
		18: bpf.Jump{Skip: uint32(to(18, 34))},
		19: bpf.LoadAbsolute{Off: 6, Size: 1}, // six
		20: bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMPV6, SkipTrue: to(20, icmp6)},
		21: bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_TCP, SkipTrue: to(21, no)},
		22: bpf.LoadAbsolute{Off: 40, Size: 2},
		23: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: to(23, 26)},
		24: bpf.LoadAbsolute{Off: 42, Size: 2},
		25: bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: port, SkipTrue: to(25, no)},
		26: bpf.LoadAbsolute{Off: 53, Size: 1},
		27: bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: synOrRst, SkipTrue: to(27, yes)}, // flags
		28: bpf.RetConstant{Val: 0},                                                 // no
		29: bpf.RetConstant{Val: mostHeader},                                        // yes
		30: bpf.LoadAbsolute{Off: 40, Size: 1},                                      // icmp6: echo requests, errors, neighbours
		31: bpf.JumpIf{Cond: bpf.JumpLessThan, Val: 5, SkipTrue: to(31, 37)},
		32: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 128, SkipTrue: to(32, 37)},
		33: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 135, SkipTrue: to(33, 37), SkipFalse: to(33, 38)},
		34: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 3, SkipTrue: to(34, 37)}, // errors of IPv4
		35: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 11, SkipTrue: to(35, 37)},
		36: bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 12, SkipTrue: to(36, 39)},
		37: bpf.RetConstant{Val: mostHeader},
		38: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 136, SkipTrue: to(38, 40)},
		39: bpf.RetConstant{Val: 0},
		40: bpf.RetConstant{Val: mostHeader},
	}
}

// tryOnce opens one connection and sends one echo, while others watch.
func tryOnce(ctx context.Context, env look.Env, t fact.Target) {
	select {
	case <-time.After(beforeTry):
	case <-ctx.Done():
		return
	}
	var echo sync.WaitGroup
	echo.Go(func() {
		Echo(ctx, env, fact.Order{Look: fact.LookEcho, Target: fact.Target{Addr: t.Addr}}, func(fact.Fact) {})
	})
	d := net.Dialer{Timeout: tryTime}
	if c, err := d.DialContext(ctx, "tcp", netip.AddrPortFrom(t.Addr, t.Port).String()); err == nil {
		c.Close()
	}
	echo.Wait()
}
