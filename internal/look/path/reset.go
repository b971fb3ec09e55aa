package path

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/witness"
)

// Bounds on one step of the search for a reset's hop limit: several times as
// long as the reset took, and never less or more than these.
const (
	leastStep = 100 * time.Millisecond
	mostStep  = 600 * time.Millisecond
)

// Reset finds the hop limit with which a refusal arrives, by connects that
// take no answer below a limit, and halving (ip(7), IP_MINTTL). Set beside the
// hop limit of an echo reply it hints whether the same machine sent both.
func Reset(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	source := "hop limit of the reset from " + netip.AddrPortFrom(order.Target.Addr, order.Target.Port).String()
	began := time.Now()
	if !refused(ctx, order.Target, 0, look.Within(ctx, env.Patience())) {
		emit(env.Seen(order, source, "it is not refused now"))
		return
	}
	step := min(max(4*time.Since(began), leastStep), mostStep)
	low, high := 0, 255 // it arrives with at least low, and at most high
	for low < high && ctx.Err() == nil {
		middle := (low + high + 1) / 2
		if refused(ctx, order.Target, middle, step) {
			low = middle
		} else {
			high = middle - 1
		}
	}
	// What found nothing at all, or everything, was not the limit.
	if ctx.Err() != nil || low == 0 || low == 255 {
		emit(env.Seen(order, source, "not to be told here"))
		return
	}
	f := env.Seen(order, source, fmt.Sprintf("it arrives with %d", low))
	f.Reset = &fact.ResetHops{Left: low}
	emit(f)
}

// refused reports whether a connect is refused by a reset that arrives with
// at least so many hops left.
func refused(ctx context.Context, t fact.Target, least int, wait time.Duration) bool {
	w := witness.New()
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
