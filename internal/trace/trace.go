// Package trace is the loop between looking and weighing: it starts what
// weighing wants and nobody has asked yet, within the bounds, and hands the
// facts to weighing as they land, until nothing more is wanted.
package trace

import (
	"context"
	"errors"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// Vantage is a host to look from. Look leaves facts until it returns, and
// returns soon after its context ends.
type Vantage interface {
	Info() fact.Vantage
	Look(ctx context.Context, order fact.Order, emit func(fact.Fact))
}

// Event tells that a look began or ended, for progress.
type Event struct {
	Vantage fact.Vantage
	Order   fact.Order
	Ended   bool
}

// nearly is how close to the deadline a run counts as cut off by it.
const nearly = 150 * time.Millisecond

// Run traces. It ends when nothing more is wanted, at the context's deadline,
// or when the context is cancelled; what was seen so far is judged in every
// case. The watcher, if there is one, is called from several goroutines.
func Run(ctx context.Context, ask fact.Ask, at []Vantage, watch func(Event)) (fact.Set, trail.Trail) {
	var infos []fact.Vantage
	for _, v := range at {
		infos = append(infos, v.Info())
	}
	set, p := fact.New(ask, infos), newPool(at, watch)
	defer p.close()
	for {
		_, wants := weigh.Weigh(set)
		if p.start(ctx, set, wants) == 0 && p.idle() {
			break
		}
		facts, ok := p.next(ctx)
		if !ok {
			break
		}
		set = set.With(facts...)
	}
	set = set.With(p.cutOff()...)
	set.Ended = time.Now().UTC()
	set.Incomplete = incomplete(ctx)
	judged, _ := weigh.Weigh(set)
	return set, judged
}

// Renew prepares vantages that stay for another run: each run has its own number
// of connections.
func Renew(ctx context.Context, at []Vantage) {
	for _, v := range at {
		v.Look(ctx, fact.Order{Look: fact.LookNothing}, func(fact.Fact) {})
	}
}

// incomplete says why a run ended before its end; "" if it did not.
func incomplete(ctx context.Context) string {
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return "deadline"
	case ctx.Err() != nil:
		return "interrupted"
	}
	if deadline, ok := ctx.Deadline(); ok && time.Until(deadline) < nearly {
		return "deadline"
	}
	return ""
}
