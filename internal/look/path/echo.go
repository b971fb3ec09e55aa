// Package path looks at the way to an address: which way this host sends,
// and whether anything at all answers there.
package path

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/wire"
)

// echoWait is how long an echo is waited for. It is a sign of life at best,
// so it is not worth the wait of a connect.
const echoWait = 1500 * time.Millisecond

// systemEcho asks for one echo by a call of the system, where it has one; nil: it has none.
var systemEcho func(addr netip.Addr, wait time.Duration) (answered bool, left int, err error)

// bySystem asks by the system's own call.
func bySystem(env look.Env, order fact.Order, source string, emit look.Emit) {
	began := time.Now()
	answered, left, err := systemEcho(order.Target.Addr.WithZone(""), min(echoWait, env.Patience()))
	if err != nil {
		emit(env.Failed(order, source, "could not send an echo", err, ""))
		return
	}
	emitEcho(env, order, source, fact.Echo{Answered: answered, Left: left}, time.Since(began), emit)
}

// emitEcho leaves what came of an echo.
func emitEcho(env look.Env, order fact.Order, source string, e fact.Echo, took time.Duration, emit look.Emit) {
	saw := "no answer, which proves nothing"
	if e.Answered {
		e.TookMS = wire.MS(took)
		saw = fmt.Sprintf("answered in %.1f ms", e.TookMS)
	}
	f := env.Seen(order, source, saw)
	f.Echo = &e
	emit(f)
}

// Echo asks for one ICMP echo by a datagram socket, which an ordinary user
// may open where the system lets him, or by a raw one, which root may.
func Echo(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	addr := order.Target.Addr
	source := "echo to " + addr.String()
	if systemEcho != nil {
		bySystem(env, order, source, emit)
		return
	}
	network, raw, any, kind, protocol := "udp4", "ip4:icmp", "0.0.0.0", icmp.Type(ipv4.ICMPTypeEcho), 1
	if addr.Is6() {
		network, raw, any, kind, protocol = "udp6", "ip6:ipv6-icmp", "::", icmp.Type(ipv6.ICMPTypeEchoRequest), 58
	}
	var to net.Addr = &net.UDPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}
	id := -1 // the kernel chooses
	conn, err := icmp.ListenPacket(network, any)
	if errors.Is(err, os.ErrPermission) {
		if conn, err = icmp.ListenPacket(raw, any); err == nil {
			to, id = &net.IPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}, os.Getpid()&0xffff
		}
	}
	if err != nil {
		emit(env.Failed(order, source, "could not send an echo", err, "root, or net.ipv4.ping_group_range"))
		return
	}
	defer conn.Close()
	deadline := time.Now().Add(min(echoWait, env.Patience()))
	if d, ok := ctx.Deadline(); ok && d.Before(deadline) {
		deadline = d
	}
	conn.SetDeadline(deadline)
	// Without the hop limit the reply still is a sign of life.
	if p := conn.IPv4PacketConn(); p != nil {
		p.SetControlMessage(ipv4.FlagTTL, true)
	} else if p := conn.IPv6PacketConn(); p != nil {
		p.SetControlMessage(ipv6.FlagHopLimit, true)
	}
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()

	message := icmp.Message{Type: kind, Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: 1, Data: []byte("uakari")}}
	bytes, err := message.Marshal(nil)
	if err != nil {
		emit(env.Failed(order, source, "could not make an echo", err, ""))
		return
	}
	began := time.Now()
	if _, err := conn.WriteTo(bytes, to); err != nil {
		emit(env.Failed(order, source, "could not send an echo", err, ""))
		return
	}
	var e fact.Echo
	e.Left, e.Answered = answered(conn, protocol, id)
	emitEcho(env, order, source, e, time.Since(began), emit)
}

// answered waits for an echo reply, and tells how many hops it had left. The
// kernel hands a datagram socket only what answers its own request, and a raw
// one every message: then it is known by its number.
func answered(conn *icmp.PacketConn, protocol, id int) (left int, ok bool) {
	buffer := make([]byte, 1500)
	for {
		n, left, err := receive(conn, buffer)
		if err != nil {
			return 0, false
		}
		m, err := icmp.ParseMessage(protocol, buffer[:n])
		if err != nil || m.Type != ipv4.ICMPTypeEchoReply && m.Type != ipv6.ICMPTypeEchoReply {
			continue
		}
		if echo, ok := m.Body.(*icmp.Echo); ok && (id < 0 || echo.ID == id) {
			return left, true
		}
	}
}

// receive reads one message and how many hops it had left; 0 if the system
// does not say.
func receive(conn *icmp.PacketConn, buffer []byte) (n, left int, err error) {
	if p := conn.IPv4PacketConn(); p != nil {
		n, control, _, err := p.ReadFrom(buffer)
		if control != nil {
			left = control.TTL
		}
		return n, left, err
	}
	n, control, _, err := conn.IPv6PacketConn().ReadFrom(buffer)
	if control != nil {
		left = control.HopLimit
	}
	return n, left, err
}
