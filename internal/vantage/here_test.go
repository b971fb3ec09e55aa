package vantage

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

func TestALookThatHangsIsLeftBehind(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		order := fact.Order{Look: fact.LookListeners}
		free := make(chan struct{})
		hangs := func(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
			emit(env.Seen(order, "first", "seen"))
			<-free
			emit(env.Seen(order, "late", "seen"))
		}
		var facts []fact.Fact
		began := time.Now()
		bounded(t.Context(), hangs, look.Env{}, order, 3*time.Second, func(f fact.Fact) { facts = append(facts, f) })
		if took := time.Since(began); took != 3*time.Second {
			t.Errorf("took %s", took)
		}
		close(free)
		synctest.Wait()
		if len(facts) != 2 || facts[0].Source != "first" || facts[1].Failed == nil ||
			!strings.Contains(facts[1].Saw, "could not list the listening sockets: it did not end within 3s") {
			t.Errorf("%+v", facts)
		}
	})
}

func TestFirstLooksAreHandedOnAsTheyCome(t *testing.T) {
	e := &early{}
	e.keep(fact.Fact{Source: "before"})
	var got []string
	e.hand(func(f fact.Fact) { got = append(got, f.Source) })
	e.keep(fact.Fact{Source: "after"})
	if strings.Join(got, " ") != "before after" {
		t.Errorf("got %v", got)
	}
}
