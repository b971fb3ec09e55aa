// Package path looks at the way to an address: which way this host sends,
// and whether anything at all answers there.
package path

import (
	"context"
	"fmt"
	"net"
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

// Echo asks for one ICMP echo by a datagram socket, which an ordinary user
// may open where the system lets him.
func Echo(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	addr := order.Target.Addr
	source := "echo to " + addr.String()
	network, any, kind, protocol := "udp4", "0.0.0.0", icmp.Type(ipv4.ICMPTypeEcho), 1
	if addr.Is6() {
		network, any, kind, protocol = "udp6", "::", icmp.Type(ipv6.ICMPTypeEchoRequest), 58
	}
	conn, err := icmp.ListenPacket(network, any)
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
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()

	message := icmp.Message{Type: kind, Body: &icmp.Echo{ID: os.Getpid() & 0xffff, Seq: 1, Data: []byte("uakari")}}
	bytes, err := message.Marshal(nil)
	if err != nil {
		emit(env.Failed(order, source, "could not make an echo", err, ""))
		return
	}
	began := time.Now()
	if _, err := conn.WriteTo(bytes, &net.UDPAddr{IP: addr.AsSlice(), Zone: addr.Zone()}); err != nil {
		emit(env.Failed(order, source, "could not send an echo", err, ""))
		return
	}
	e := fact.Echo{Answered: answered(conn, protocol)}
	saw := "no answer, which proves nothing"
	if e.Answered {
		e.TookMS = wire.MS(time.Since(began))
		saw = fmt.Sprintf("answered in %.1f ms", e.TookMS)
	}
	f := env.Seen(order, source, saw)
	f.Echo = &e
	emit(f)
}

// answered waits for an echo reply. The kernel hands this socket only what
// answers its own request.
func answered(conn *icmp.PacketConn, protocol int) bool {
	buffer := make([]byte, 1500)
	for {
		n, _, err := conn.ReadFrom(buffer)
		if err != nil {
			return false
		}
		m, err := icmp.ParseMessage(protocol, buffer[:n])
		if err == nil && (m.Type == ipv4.ICMPTypeEchoReply || m.Type == ipv6.ICMPTypeEchoReply) {
			return true
		}
	}
}
