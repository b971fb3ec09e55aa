package path

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/session"
	"uakari/internal/wire"
)

// Times and bounds of a watch. Whoever watches begins before the tries, and ends
// after them.
const (
	watchTime    = 3 * time.Second
	beforeTry    = 600 * time.Millisecond
	tryTime      = 1200 * time.Millisecond // a second opening follows after a second
	largeTime    = 2 * time.Second         // what is lost is sent again after a fifth of a second
	afterTry     = 300 * time.Millisecond
	mostSegments = 120
	mostHeader   = 160 // bytes of one packet: the network's header, some between, and the longest of TCP
)

// Packets watches the links of this host, by the headers alone: what opens,
// answers and resets TCP connections of a port, and echo requests. The host that
// asks makes a try meanwhile, and sends an echo, by which the others see that they
// watched at that time. No link is put into promiscuous mode, and nothing stays
// behind.
func Packets(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	try := t.Watch == fact.TryOpening || t.Watch == fact.TryLarge
	large := t.Watch == fact.TryLarge || t.Watch == fact.WatchLarge
	source := fmt.Sprintf("packets of port %d", t.Port)
	fd, err := packetSocket(flowFilter(uint32(t.Port), large))
	if err != nil {
		emit(env.Failed(order, source, "could not watch the links", err, "root"))
		return
	}
	defer unix.Close(fd)
	began := time.Now()
	p := seenPackets{Packets: fact.Packets{Try: try, Segments: []fact.Segment{}}, port: t.Port, large: large}
	until := began.Add(watchTime)
	if large {
		until = until.Add(largeTime - tryTime)
	}
	var ended sync.WaitGroup
	if try {
		if err := env.Probes.Climb(netip.AddrPortFrom(t.Addr, t.Port)); err != nil {
			emit(env.Failed(order, source, "did not try", err, ""))
			return
		}
		takes := tryTime
		if large {
			takes = largeTime
		}
		until = began.Add(beforeTry + takes + afterTry)
		ended.Go(func() { tryOnce(ctx, env, t, takes) })
	}
	if err := p.watch(ctx, fd, began, until); err != nil {
		emit(env.Failed(order, source, "could not watch the links", err, ""))
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

// watch takes what the kernel hands on until a time.
func (p *seenPackets) watch(ctx context.Context, fd int, began, until time.Time) error {
	links := map[int]string{}
	buffer, beside := make([]byte, mostHeader), make([]byte, 128)
	for ctx.Err() == nil && time.Now().Before(until) {
		wait := unix.NsecToTimeval(int64(min(200*time.Millisecond, time.Until(until)) + time.Microsecond))
		if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &wait); err != nil {
			return err
		}
		n, more, _, from, err := unix.Recvmsg(fd, buffer, beside, 0)
		at, ok := from.(*unix.SockaddrLinklayer)
		if err != nil || !ok {
			if err != nil && !errors.Is(err, unix.EAGAIN) && !errors.Is(err, unix.EINTR) {
				return err
			}
			continue
		}
		if links[at.Ifindex] == "" {
			links[at.Ifindex] = linkName(at.Ifindex)
		}
		packet := packetOnLink{data: buffer[:n], at: at, link: links[at.Ifindex], ms: wire.MS(time.Since(began))}
		packet.unsummed, packet.checked = sumState(beside[:more])
		p.take(packet)
	}
	return nil
}

// linkName is a link's name, or its number if it is gone.
func linkName(index int) string {
	if link, err := net.InterfaceByIndex(index); err == nil {
		return link.Name
	}
	return fmt.Sprintf("link %d", index)
}

// sumState is what the kernel says of a packet's checksum (packet(7), PACKET_AUXDATA):
// that it is still to be made, or known to be right. Where it says nothing, as an old
// one does, nothing may be concluded.
func sumState(beside []byte) (unsummed, checked bool) {
	messages, err := unix.ParseSocketControlMessage(beside)
	if err != nil {
		return true, false
	}
	for _, m := range messages {
		if m.Header.Level == unix.SOL_PACKET && m.Header.Type == unix.PACKET_AUXDATA && len(m.Data) >= 4 {
			status := binary.NativeEndian.Uint32(m.Data)
			return status&unix.TP_STATUS_CSUMNOTREADY != 0, status&unix.TP_STATUS_CSUM_VALID != 0
		}
	}
	return true, false
}

// tryOnce makes one try and sends one echo, while others watch. To see large packets it
// speaks as a client would.
func tryOnce(ctx context.Context, env look.Env, t fact.Target, takes time.Duration) {
	select {
	case <-time.After(beforeTry):
	case <-ctx.Done():
		return
	}
	var echo sync.WaitGroup
	echo.Go(func() {
		Echo(ctx, env, fact.Order{Look: fact.LookEcho, Target: fact.Target{Addr: t.Addr}}, func(fact.Fact) {})
	})
	if t.Watch == fact.TryLarge {
		ctx, cancel := context.WithTimeout(ctx, takes)
		defer cancel()
		t.Watch, env.Wait = "", min(env.Wait, takes)
		session.Look(ctx, env, fact.Order{Look: fact.LookSession, Target: t}, func(fact.Fact) {})
		echo.Wait()
		return
	}
	d := net.Dialer{Timeout: takes}
	if c, err := d.DialContext(ctx, "tcp", netip.AddrPortFrom(t.Addr, t.Port).String()); err == nil {
		c.Close()
	}
	echo.Wait()
}
