package path

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/errqueue"
)

// Bounds on the wait for a reset that may not come: several times as long as
// one took, and never less or more than these.
const (
	leastStep = 100 * time.Millisecond
	mostStep  = 600 * time.Millisecond
)

// Reset compares the hops that a refusal has left when it arrives with those
// of another answer, Target.Hops, by connects that take no answer below a limit
// (ip(7), IP_MINTTL). It hints whether the same machine sent both.
func Reset(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	source := "hops left of the reset from " + netip.AddrPortFrom(t.Addr, t.Port).String()
	const connects = 3
	if env.Probes.Take(t.Port, connects) < connects {
		emit(env.Failed(order, source, "did not compare", look.ErrSpent, ""))
		return
	}
	began := time.Now()
	if !refused(ctx, t, 0, look.Within(ctx, env.Patience())) {
		emit(env.Seen(order, source, "it is not refused now"))
		return
	}
	step := min(max(4*time.Since(began), leastStep), mostStep)
	const mostHops = 255
	r := fact.ResetHops{Beside: t.Hops, Compare: "fewer"}
	if refused(ctx, t, t.Hops, step) {
		r.Compare = "same"
		if t.Hops < mostHops && refused(ctx, t, t.Hops+1, step) {
			r.Compare = "more"
		}
	}
	if ctx.Err() != nil {
		return // what was cut off tells nothing
	}
	says := map[string]string{"same": "as many as", "more": "more than", "fewer": "fewer than"}[r.Compare]
	f := env.Seen(order, source, fmt.Sprintf("%s the %d of an echo reply", says, t.Hops))
	f.Reset = &r
	emit(f)
}

// refused reports whether a connect is refused by a reset that arrives with
// at least so many hops left.
func refused(ctx context.Context, t fact.Target, least int, wait time.Duration) bool {
	w := errqueue.New()
	w.Least = least
	defer w.Close()
	d := net.Dialer{Timeout: wait, Control: w.Control, KeepAlive: -1}
	conn, err := d.DialContext(ctx, "tcp", netip.AddrPortFrom(t.Addr, t.Port).String())
	if err == nil {
		conn.Close()
		return false
	}
	timeout, ok := err.(net.Error)
	return w.ICMP() == nil && !(ok && timeout.Timeout())
}
