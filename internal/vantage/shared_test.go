package vantage

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"uakari/internal/fact"
)

// slow is a host that takes its time, and counts.
type slow struct{ looks atomic.Int64 }

func (s *slow) Info() fact.Vantage { return fact.Vantage{ID: "v1"} }

func (s *slow) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	s.looks.Add(1)
	select {
	case <-time.After(50 * time.Millisecond):
		emit(fact.Fact{Order: order, Source: "x"})
	case <-ctx.Done():
	}
}

// TestShared looks at what a host is like once, at connections each time, and again
// where the run that had begun a look was ended.
func TestShared(t *testing.T) {
	s := &slow{}
	v := Shared(s)
	all := func(order fact.Order) int {
		var seen atomic.Int64
		var wg sync.WaitGroup
		for range 8 {
			wg.Go(func() { v.Look(t.Context(), order, func(fact.Fact) { seen.Add(1) }) })
		}
		wg.Wait()
		return int(seen.Load())
	}
	if seen := all(fact.Order{Look: fact.LookTables}); seen != 8 || s.looks.Load() != 1 {
		t.Errorf("%d facts by %d looks; expected 8 by one", seen, s.looks.Load())
	}
	if seen := all(fact.Order{Look: fact.LookSession}); seen != 8 || s.looks.Load() != 9 {
		t.Errorf("%d facts by %d looks; expected a look each", seen, s.looks.Load())
	}
	ctx, cancel := context.WithCancel(t.Context())
	order := fact.Order{Look: fact.LookKernel}
	var cut, whole int
	var wg sync.WaitGroup
	wg.Go(func() { v.Look(ctx, order, func(fact.Fact) { cut++ }) })
	time.Sleep(10 * time.Millisecond)
	wg.Go(func() { v.Look(t.Context(), order, func(fact.Fact) { whole++ }) })
	time.Sleep(10 * time.Millisecond)
	cancel()
	wg.Wait()
	if cut != 0 || whole != 1 {
		t.Errorf("%d facts of the run that ended, %d of the other", cut, whole)
	}
}

// TestSharedAges takes what a host was like for what it is like for five seconds.
func TestSharedAges(t *testing.T) {
	s := Shared(&slow{}).(*shared)
	order, now := fact.Order{Look: fact.LookTables}, time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		after time.Duration
		fresh bool
	}{{0, true}, {time.Second, false}, {sharedFor, false}, {sharedFor + 1, true}, {2 * sharedFor, false}} {
		if _, mine := s.begin(order, now.Add(c.after)); mine != c.fresh {
			t.Errorf("after %s: looked at again: %v", c.after, mine)
		}
	}
}
