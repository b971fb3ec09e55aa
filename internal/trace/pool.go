package trace

import (
	"context"

	"uakari/internal/fact"
	"uakari/internal/weigh"
)

// Bounds of one run.
const (
	// mostExtra is how many connections a port may get beyond the first
	// climb per address: probes count against rate limits and ban lists.
	mostExtra = 6
	// mostLooks bounds a run whose wants would not end.
	mostLooks = 200
)

// pool starts looks and gathers their facts.
type pool struct {
	at      []Vantage
	watch   func(Event)
	asked   map[seat]bool
	extra   map[port]int
	logins  map[string]bool // accounts that had their one try
	running int
	landed  chan landing
	closed  chan struct{}
}

type seat struct {
	vantage string
	order   fact.Order
}

type port struct {
	vantage string
	number  uint16
}

// landing is a fact, or the end of a look.
type landing struct {
	fact  fact.Fact
	ended bool
}

func newPool(at []Vantage, watch func(Event)) *pool {
	if watch == nil {
		watch = func(Event) {}
	}
	return &pool{at: at, watch: watch, asked: map[seat]bool{}, extra: map[port]int{}, logins: map[string]bool{},
		landed: make(chan landing, 64), closed: make(chan struct{})}
}

// start begins what is wanted, not yet asked, and within the bounds. It
// returns how many looks it began.
func (p *pool) start(ctx context.Context, wants []weigh.Want) int {
	began := 0
	for _, w := range wants {
		for _, v := range p.at {
			s := seat{v.Info().ID, w.Order()}
			if v.Info().Role != w.At || w.On != "" && w.On != v.Info().ID || p.asked[s] || len(p.asked) >= mostLooks || !p.allows(s, w) {
				continue
			}
			p.asked[s] = true
			began++
			p.running++
			go p.look(ctx, v, w.Order())
		}
	}
	return began
}

// allows keeps the budgets: one login per account and run, and a few extra
// connections per port.
func (p *pool) allows(s seat, w weigh.Want) bool {
	switch w.Look {
	case fact.LookLogin:
		if p.logins[w.Target.Account] {
			return false
		}
		p.logins[w.Target.Account] = true
	case fact.LookSession:
		if w.Gate == weigh.Answer {
			return true // the address's own climb
		}
		at := port{s.vantage, w.Target.Port}
		if p.extra[at] == mostExtra {
			return false
		}
		p.extra[at]++
	}
	return true
}

func (p *pool) look(ctx context.Context, v Vantage, order fact.Order) {
	p.watch(Event{v.Info(), order, false})
	v.Look(ctx, order, func(f fact.Fact) {
		// What a look leaves once the run is over was cut off, and would
		// pass for a silence that nobody heard.
		if ctx.Err() == nil {
			p.land(landing{fact: f})
		}
	})
	p.watch(Event{v.Info(), order, true})
	p.land(landing{ended: true})
}

func (p *pool) land(l landing) {
	select {
	case p.landed <- l:
	case <-p.closed:
	}
}

// idle reports whether no look is under way.
func (p *pool) idle() bool { return p.running == 0 }

// next waits for facts and returns all that have landed. It reports false
// when the context ended first.
func (p *pool) next(ctx context.Context) ([]fact.Fact, bool) {
	var facts []fact.Fact
	take := func(l landing) {
		if l.ended {
			p.running--
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

// close lets looks end that nobody waits for any more.
func (p *pool) close() { close(p.closed) }
