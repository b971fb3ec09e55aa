package trace

import (
	"context"
	"slices"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/weigh"
)

// mostDeep bounds how many hops lie behind each other.
const mostDeep = 5

// Follow traces each hop behind an endpoint from the host that needs it, and
// the hops behind those, until nothing more fails or a loop closes.
func Follow(ctx context.Context, set fact.Set, at []Vantage, watch func(Event)) fact.Set {
	return follow(ctx, set, at, watch, []string{set.Ask.Endpoint.Input}, 0)
}

func follow(ctx context.Context, set fact.Set, at []Vantage, watch func(Event), passed []string, deep int) fact.Set {
	if deep == mostDeep || ctx.Err() != nil {
		return set
	}
	for _, next := range weigh.Hops(set) {
		if slices.Contains(passed, next.Endpoint) {
			continue // a loop: it was traced from elsewhere already
		}
		e, err := endpoint.Parse(next.Endpoint)
		if err != nil {
			continue // of a gateway's settings, and told by the cause
		}
		e.Verify, e.AnyName = e.Verify && !next.Lenient, next.AnyName
		ask := fact.Ask{Endpoint: e, Began: time.Now().UTC(), WaitMS: set.Ask.WaitMS}
		behind, _ := Run(ctx, ask, seats(at, next), watch)
		behind = follow(ctx, behind, at, watch, append(slices.Clone(passed), next.Endpoint), deep+1)
		set.Behind = append(set.Behind, fact.Hop{From: next.From, Pair: next.Pair, Set: behind})
	}
	return set
}

// seats is the vantages of a hop: the host that needs it is the client, and
// it and all others may be the server.
func seats(at []Vantage, next weigh.Next) []Vantage {
	var list []Vantage
	for _, v := range at {
		info := v.Info()
		if info.ID == next.From {
			inner := info
			inner.ID, inner.Role, inner.Implied = info.ID+"-client", fact.Client, false
			list = append([]Vantage{inRole{v, inner, next.Trust}}, list...)
			info.Implied = true
		}
		if info.Role == fact.Server {
			list = append(list, inRole{v, info, ""})
		}
	}
	return list
}

// inRole is a vantage in another role.
type inRole struct {
	Vantage
	info  fact.Vantage
	trust string // by which sessions are judged; "": its own
}

func (r inRole) Info() fact.Vantage { return r.info }

func (r inRole) Look(ctx context.Context, order fact.Order, emit func(fact.Fact)) {
	order.Target.Apart = true // the card speaks of another endpoint
	if order.Look == fact.LookSession {
		order.Target.Trust = r.trust
	}
	r.Vantage.Look(ctx, order, func(f fact.Fact) {
		f.Vantage, f.Order.Target.Apart, f.Order.Target.Trust = r.info.ID, false, ""
		emit(f)
	})
}
