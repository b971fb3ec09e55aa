package vantage

import (
	"context"
	"slices"
	"sync"
	"time"

	"uakari/internal/fact"
)

// ofHost is the looks that say what a host is like, whoever asks and whatever for.
var ofHost = []fact.Kind{
	fact.LookIdentity, fact.LookAddresses, fact.LookRoutes, fact.LookNeighbours, fact.LookResolver, fact.LookKernel,
	fact.LookBarriers, fact.LookTables, fact.LookContainers, fact.LookResources, fact.LookLibrary, fact.LookProxy,
	fact.LookListeners, fact.LookService, fact.LookAccess, fact.LookPeers,
}

// sharedFor is how long what a host is like is taken to be as it was seen.
const sharedFor = 5 * time.Second

// Shared is a host that many runs look from at the same time: what it is like is
// looked at once in five seconds, and the facts carry the time of that.
func Shared(v Looker) Looker { return &shared{Looker: v, seen: map[fact.Order]*sharedLook{}} }

type shared struct {
	Looker

	mu   sync.Mutex // guards seen
	seen map[fact.Order]*sharedLook
}

// sharedLook is one look, from when it begins.
type sharedLook struct {
	until time.Time
	done  chan struct{}
	facts []fact.Fact
	cut   bool // it was ended before it was whole
}

// Look takes the look, or waits for the one that another run has begun.
func (s *shared) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	if !slices.Contains(ofHost, order.Look) {
		s.Looker.Look(ctx, order, emit)
		return
	}
	for {
		look, mine := s.begin(order, time.Now())
		if mine {
			s.take(ctx, look, order)
		}
		select {
		case <-look.done:
		case <-ctx.Done():
			return
		}
		if look.cut && !mine && ctx.Err() == nil {
			continue // by the end of another run
		}
		for _, f := range look.facts {
			emit(f)
		}
		return
	}
}

// begin is the look of an order that is new enough, or one that the caller takes.
func (s *shared) begin(order fact.Order, now time.Time) (look *sharedLook, mine bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for each, old := range s.seen {
		if now.After(old.until) {
			delete(s.seen, each)
		}
	}
	if look = s.seen[order]; look != nil {
		return look, false
	}
	look = &sharedLook{until: now.Add(sharedFor), done: make(chan struct{})}
	s.seen[order] = look
	return look, true
}

func (s *shared) take(ctx context.Context, look *sharedLook, order fact.Order) {
	var mu sync.Mutex // guards the facts: a look may leave them from several goroutines
	s.Looker.Look(ctx, order, func(f fact.Fact) {
		mu.Lock()
		defer mu.Unlock()
		look.facts = append(look.facts, f)
	})
	if look.cut = ctx.Err() != nil; look.cut {
		s.mu.Lock()
		delete(s.seen, order)
		s.mu.Unlock()
	}
	close(look.done)
}
