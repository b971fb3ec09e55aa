package path

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/errqueue"
	"uakari/internal/protocol"
)

// Bounds on hop probing: each hop is one connect to the endpoint's port. One of
// those that a port gets is left for the try that links are watched by.
const (
	mostHops = 5
	hopWait  = 1500 * time.Millisecond
)

// Hops connects with rising hop limits, all at once, and leaves which routers
// say that a packet died with them (RFC 792, time exceeded). It tells how far
// packets get that nobody answers; routers need not say so.
func Hops(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	found := make([]netip.Addr, env.Probes.Take(order.Target.Port, mostHops))
	if len(found) == 0 {
		emit(
			env.Failed(
				order,
				"hops to "+order.Target.Addr.String(),
				"did not look how far packets get",
				look.ErrSpent,
				"",
			),
		)
		return
	}
	var wg sync.WaitGroup
	for i := range found {
		wg.Go(func() { found[i] = expired(ctx, order.Target, i+1, look.Within(ctx, min(hopWait, env.Patience()))) })
	}
	wg.Wait()
	h := fact.Hops{Routers: found}
	saw := "no router says anything"
	if last := h.Last(); last > 0 {
		saw = fmt.Sprintf("the last router that says anything is hop %d, %s", last, found[last-1])
	}
	f := env.Seen(order, "hops to "+netip.AddrPortFrom(order.Target.Addr, order.Target.Port).String(), saw)
	f.Hops = &h
	emit(f)
}

// expired is the router at which a connect with a hop limit dies; invalid if
// none says so.
func expired(ctx context.Context, t fact.Target, limit int, wait time.Duration) netip.Addr {
	w := errqueue.New()
	w.Hops = limit
	defer w.Close()
	scheme, _ := protocol.Lookup(t.Scheme)
	d := net.Dialer{Timeout: wait, Control: w.Control, KeepAlive: -1}
	conn, err := d.DialContext(ctx, scheme.Transport(), netip.AddrPortFrom(t.Addr, t.Port).String())
	if err == nil && scheme.UDP {
		conn.SetDeadline(time.Now().Add(wait))
		if _, err := conn.Write(nil); err == nil {
			conn.Read(make([]byte, 1)) // until the router's message ends it
		}
	}
	if err == nil {
		defer conn.Close()
	}
	const exceeded4, exceeded6 = 11, 3
	if m := w.ICMP(); m != nil &&
		slices.Contains([][2]int{{4, exceeded4}, {6, exceeded6}}, [2]int{m.Version, int(m.Type)}) {
		return m.From
	}
	return netip.Addr{}
}
