package trace

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"uakari/internal/fact"
)

// Filters adds what the filters, lists and checks of hosts are now to a set: of
// those that another set has, and this one has not, since nothing asked for them.
func Filters(ctx context.Context, set, before fact.Set, at []Vantage) fact.Set {
	return also(ctx, set, at, again(before, func(f fact.Fact) bool {
		return f.Tables != nil || f.Access != nil || f.Kernel != nil || f.Settings != nil
	}))
}

// Compared adds everything to a set that another has of the same hosts, so that
// what changed between them can be told of all that was read then.
func Compared(ctx context.Context, set, before fact.Set, at []Vantage) fact.Set {
	return also(ctx, set, at, again(before, func(f fact.Fact) bool {
		return slices.Contains(standing, f.Order.Look) && f.Failed == nil && f.Order.Target.Again == 0
	}))
}

// standing is the looks at what somebody sets and what bears on a connection:
// what is compared with a run that works.
var standing = []fact.Kind{
	fact.LookTables, fact.LookRoutes, fact.LookKernel, fact.LookProxy, fact.LookListeners, fact.LookService,
	fact.LookAccess, fact.LookContainers, fact.LookSettings,
}

// Standing adds what a run that works has not looked at, and a later one that
// fails is compared with: of its client, and of the hosts that serve it.
func Standing(ctx context.Context, set fact.Set, at []Vantage, serves func(vantage string) bool) fact.Set {
	e := set.Ask.Endpoint
	port := fact.Target{Port: e.Port, Scheme: e.Scheme}
	own := []fact.Order{{Look: fact.LookTables}, {Look: fact.LookRoutes}, {Look: fact.LookKernel}}
	orders := map[fact.Role][]fact.Order{
		fact.Client: append(
			slices.Clone(own),
			fact.Order{Look: fact.LookProxy, Target: fact.Target{Scheme: e.Scheme}},
		),
		fact.Server: append(slices.Clone(own), fact.Order{Look: fact.LookListeners, Target: port},
			fact.Order{Look: fact.LookService, Target: port},
			fact.Order{Look: fact.LookAccess, Target: fact.Target{Port: e.Port}},
			fact.Order{Look: fact.LookContainers, Target: fact.Target{Port: e.Port}}),
		fact.Gateway: own,
	}
	return also(ctx, set, at, func(v fact.Vantage) []fact.Order {
		if v.Role == fact.Server && !serves(v.ID) {
			return nil
		}
		return orders[v.Role]
	})
}

// again is the orders of facts of another set, for each host of it.
func again(before fact.Set, wanted func(fact.Fact) bool) func(fact.Vantage) []fact.Order {
	byHost := map[string][]fact.Order{}
	for _, f := range before.Facts {
		host := hostOf(before, f.Vantage)
		if wanted(f) && !slices.Contains(byHost[host], f.Order) {
			byHost[host] = append(byHost[host], f.Order)
		}
	}
	return func(v fact.Vantage) []fact.Order { return byHost[v.Host] }
}

// also takes looks beside those of a run, each once a host.
func also(ctx context.Context, set fact.Set, at []Vantage, orders func(fact.Vantage) []fact.Order) fact.Set {
	type place struct {
		host  string
		order fact.Order
	}
	now := map[place]bool{}
	for _, f := range set.Facts {
		now[place{hostOf(set, f.Vantage), f.Order}] = true
	}
	set.Facts = slices.Clone(set.Facts)
	var mu sync.Mutex // guards set
	var wg sync.WaitGroup
	for _, v := range at {
		info := v.Info()
		for _, order := range orders(info) {
			if now[place{info.Host, order}] {
				continue // a host may be several vantages
			}
			now[place{info.Host, order}] = true
			wg.Go(func() {
				v.Look(ctx, order, func(f fact.Fact) {
					mu.Lock()
					defer mu.Unlock()
					f.Vantage, f.ID = info.ID, fmt.Sprintf("e%d", len(set.Facts)+1)
					set.Facts = append(set.Facts, f)
				})
			})
		}
	}
	wg.Wait()
	return set
}

func hostOf(set fact.Set, id string) string {
	for _, v := range set.Vantages {
		if v.ID == id {
			return v.Host
		}
	}
	return ""
}
