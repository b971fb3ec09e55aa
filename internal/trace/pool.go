package trace

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/weigh/scene"
)

// Bounds of one run.
const (
	// mostLooks bounds a run whose wants would not end.
	mostLooks = 200
)

// pool starts looks and gathers their facts.
type pool struct {
	at      []Vantage
	watch   func(Event)
	asked   map[seat]bool
	logins  map[string]bool // accounts that had their one try
	running map[seat]bool   // looks under way
	landed  chan landing
	closed  chan struct{}
}

type seat struct {
	vantage string
	order   fact.Order
}

// landing is a fact, or the end of a look.
type landing struct {
	fact  fact.Fact
	ended *seat
}

func newPool(at []Vantage, watch func(Event)) *pool {
	if watch == nil {
		watch = func(Event) {}
	}
	return &pool{
		at:      at,
		watch:   watch,
		asked:   map[seat]bool{},
		running: map[seat]bool{},
		logins:  map[string]bool{},
		landed:  make(chan landing, 64),
		closed:  make(chan struct{}),
	}
}

// start begins what is wanted, not yet asked, and within the bounds. It
// returns how many looks it began.
func (p *pool) start(ctx context.Context, set fact.Set, wants []scene.Want) int {
	began := 0
	for _, w := range wants {
		for _, v := range p.at {
			s := seat{v.Info().ID, w.Order()}
			// A vantage that is named is meant, whatever else it is: a gateway may be
			// the front that clients come to.
			if w.On == "" && v.Info().Role != w.At || w.On != "" && w.On != v.Info().ID || p.asked[s] ||
				len(p.asked) >= mostLooks ||
				!p.allows(w, set) {
				continue
			}
			p.asked[s] = true
			began++
			p.running[s] = true
			go p.look(ctx, v, s)
		}
	}
	return began
}

// allows keeps the login budget, which is one for an account and a run, and to
// the endpoint that was typed: weighing does not want another, and here nothing
// could make it so.
func (p *pool) allows(w scene.Want, set fact.Set) bool {
	if w.Look != fact.LookLogin {
		return true
	}
	if p.logins[w.Target.Account] || set.Barred(w.Target) != "" {
		return false
	}
	p.logins[w.Target.Account] = true
	return true
}

func (p *pool) look(ctx context.Context, v Vantage, s seat) {
	p.watch(Event{v.Info(), s.order, false})
	v.Look(ctx, s.order, func(f fact.Fact) {
		// What a look leaves once the run is over was cut off, and would
		// pass for a silence that nobody heard.
		if ctx.Err() == nil {
			p.land(landing{fact: f})
		}
	})
	p.watch(Event{v.Info(), s.order, true})
	p.land(landing{ended: &s})
}

func (p *pool) land(l landing) {
	select {
	case p.landed <- l:
	case <-p.closed:
	}
}

// idle reports whether no look is under way.
func (p *pool) idle() bool { return len(p.running) == 0 }

// next waits for facts and returns all that have landed. It reports false
// when the context ended first.
func (p *pool) next(ctx context.Context) ([]fact.Fact, bool) {
	var facts []fact.Fact
	take := func(l landing) {
		if l.ended != nil {
			delete(p.running, *l.ended)
		} else {
			facts = append(facts, l.fact)
		}
	}
	select {
	case l := <-p.landed:
		take(l)
	case <-ctx.Done():
		return nil, false
	}
	for {
		select {
		case l := <-p.landed:
			take(l)
		default:
			return facts, true
		}
	}
}

// cutOff is that looks were under way when the run was over, each as a fact: what
// they would have seen is missing, and nobody may take that for an answer.
func (p *pool) cutOff() []fact.Fact {
	var facts []fact.Fact
	for s := range p.running {
		facts = append(facts, cutOffFact(s.vantage, s.order))
	}
	slices.SortFunc(facts, func(a, b fact.Fact) int {
		return cmp.Or(strings.Compare(a.Vantage, b.Vantage), strings.Compare(a.Saw, b.Saw))
	})
	return facts
}

// cutOffFact is that a look had not ended when the run was over.
func cutOffFact(vantage string, order fact.Order) fact.Fact {
	what := fmt.Sprintf("the look %q had not ended", order.Look)
	return fact.Fact{
		Vantage: vantage, At: time.Now().UTC(), Order: order, Source: string(order.Look), Saw: what,
		Failed: &fact.Failure{What: what, Why: "the run was over", Needs: "a longer --deadline", CutOff: true},
	}
}

// close lets looks end that nobody waits for any more.
func (p *pool) close() { close(p.closed) }
