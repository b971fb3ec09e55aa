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
	mostHeader   = 80 // bytes of one packet
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
	fd, err := watchSocket(t.Port)
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
	p.WatchMS = wire.MS(time.Since(began))
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
	var from, to netip.Addr
	var protocol byte
	head, hops := 40, 0
	switch b[0] >> 4 {
	case 4:
		head, hops, protocol = int(b[0]&15)*4, int(b[8]), b[9]
		from, to = netip.AddrFrom4([4]byte(b[12:16])), netip.AddrFrom4([4]byte(b[16:20]))
	case 6:
		if len(b) < head {
			return
		}
		hops, protocol = int(b[7]), b[6]
		from, to = netip.AddrFrom16([16]byte(b[8:24])), netip.AddrFrom16([16]byte(b[24:40]))
	default:
		return
	}
	if protocol != unix.IPPROTO_TCP {
		if at.Pkttype != unix.PACKET_OUTGOING && !slices.Contains(p.Echoes, from) && len(p.Echoes) < mostSegments {
			p.Echoes = append(p.Echoes, from)
		}
		return
	}
	if len(b) < head+20 {
		return
	}
	tcp := b[head:]
	if len(p.Segments) == mostSegments {
		p.More = true
		return
	}
	p.Segments = append(p.Segments, fact.Segment{
		AtMS: ms, Link: link, Out: at.Pkttype == unix.PACKET_OUTGOING, Hops: hops, Flags: flagWords(tcp[13]),
		From: netip.AddrPortFrom(
			from,
			binary.BigEndian.Uint16(tcp),
		), To: netip.AddrPortFrom(to, binary.BigEndian.Uint16(tcp[2:])),
		Sequence: binary.BigEndian.Uint32(tcp[4:]), Acknowledged: binary.BigEndian.Uint32(tcp[8:]),
	})
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
	if p.More {
		parts = append(parts, "and more than are kept")
	}
	return cmp.Or(strings.Join(parts, ", "), "none")
}

// watchSocket is a socket that the kernel hands copies of packets to: of what
// opens or resets TCP connections from or to a port, and of echo requests, of both
// families.
func watchSocket(port uint16) (int, error) {
	all := int(binary.BigEndian.Uint16(binary.NativeEndian.AppendUint16(nil, unix.ETH_P_ALL)))
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	program, err := bpf.Assemble(flowFilter(uint32(port)))
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

// flowFilter is the kernel's filter, over packets that begin with the header of
// the network. Of IPv6 only packets without headers between are taken.
func flowFilter(port uint32) []bpf.Instruction {
	const synOrRst = 2 | 4
	return []bpf.Instruction{
		0:  bpf.LoadAbsolute{Off: 0, Size: 1},
		1:  bpf.ALUOpConstant{Op: bpf.ALUOpShiftRight, Val: 4},
		2:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: 6, SkipTrue: 12}, // to 15
		3:  bpf.LoadMemShift{Off: 0},
		4:  bpf.LoadAbsolute{Off: 9, Size: 1},
		5:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMP, SkipTrue: 7}, // to 13
		6:  bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_TCP, SkipTrue: 17},
		7:  bpf.LoadIndirect{Off: 0, Size: 2},
		8:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: 2}, // to 11
		9:  bpf.LoadIndirect{Off: 2, Size: 2},
		10: bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: port, SkipTrue: 13},
		11: bpf.LoadIndirect{Off: 13, Size: 1},
		12: bpf.Jump{Skip: 10}, // to 23
		13: bpf.LoadIndirect{Off: 0, Size: 1},
		14: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 8, SkipTrue: 10, SkipFalse: 9},
		15: bpf.LoadAbsolute{Off: 6, Size: 1},
		16: bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMPV6, SkipTrue: 9}, // to 26
		17: bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_TCP, SkipTrue: 6},
		18: bpf.LoadAbsolute{Off: 40, Size: 2},
		19: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: 2}, // to 22
		20: bpf.LoadAbsolute{Off: 42, Size: 2},
		21: bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: port, SkipTrue: 2},
		22: bpf.LoadAbsolute{Off: 53, Size: 1},
		23: bpf.JumpIf{Cond: bpf.JumpBitsSet, Val: synOrRst, SkipTrue: 1},
		24: bpf.RetConstant{Val: 0},
		25: bpf.RetConstant{Val: mostHeader},
		26: bpf.LoadAbsolute{Off: 40, Size: 1},
		27: bpf.JumpIf{Cond: bpf.JumpEqual, Val: 128, SkipTrue: 1},
		28: bpf.RetConstant{Val: 0},
		29: bpf.RetConstant{Val: mostHeader},
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
