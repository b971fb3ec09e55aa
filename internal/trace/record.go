package trace

import (
	"context"
	"slices"
	"sync"
	"time"

	"uakari/internal/fact"
)

// recorded is what a record holds of every host, whatever it is made for.
var recorded = []fact.Kind{fact.LookIdentity, fact.LookAddresses, fact.LookRoutes, fact.LookNeighbours, fact.LookResolver,
	fact.LookKernel, fact.LookListeners, fact.LookBarriers, fact.LookResources,
	fact.LookTables, fact.LookClaims, fact.LookPeers, fact.LookKeyTable}

// Record looks at everything that a host can tell of itself, at what else is
// wanted and, if an endpoint is asked for, at the endpoint from here, as its client and as its
// server. It ends with the context at the latest.
func Record(ctx context.Context, host Vantage, ask *fact.Ask, more []fact.Order, server []Vantage) fact.HostRecord {
	r := fact.HostRecord{Format: fact.HostFormat, Host: host.Info().Host, Began: time.Now().UTC(), Facts: []fact.Fact{}}
	orders := slices.Clone(more)
	for _, kind := range recorded {
		orders = append(orders, fact.Order{Look: kind})
	}
	if ask != nil {
		r.For = &ask.Endpoint
		at := fact.Target{Port: ask.Endpoint.Port, Scheme: ask.Endpoint.Scheme}
		orders = append(orders, fact.Order{Look: fact.LookService, Target: at}, fact.Order{Look: fact.LookPeers, Target: at},
			fact.Order{Look: fact.LookListeners, Target: at}, fact.Order{Look: fact.LookAccess, Target: fact.Target{Port: ask.Endpoint.Port}},
			fact.Order{Look: fact.LookUpstreams, Target: fact.Target{Port: ask.Endpoint.Port}},
			fact.Order{Look: fact.LookCertFiles, Target: fact.Target{Port: ask.Endpoint.Port}})
		if ask.Card != nil {
			for _, side := range []string{"client", "server"} {
				orders = append(orders, fact.Order{Look: fact.LookSettings, Target: fact.Target{Name: side}}, fact.Order{Look: fact.LookSigns, Target: fact.Target{Name: side}})
			}
		}
		orders = append(orders, fact.Order{Look: fact.LookAccounts, Target: fact.Target{Port: ask.Endpoint.Port, Account: ask.Account}})
		if ask.Account != "" || ask.Endpoint.Scheme == "ssh" {
			orders = append(orders, fact.Order{Look: fact.LookAccount, Target: fact.Target{Account: ask.Account, Scheme: ask.Endpoint.Scheme, Port: ask.Endpoint.Port}})
		}
	}
	var (
		wg sync.WaitGroup
		mu sync.Mutex // guards r.Facts
	)
	keep := func(facts ...fact.Fact) {
		mu.Lock()
		defer mu.Unlock()
		if ctx.Err() == nil {
			r.Facts = append(r.Facts, facts...)
		}
	}
	for _, order := range orders {
		wg.Go(func() { host.Look(ctx, order, func(f fact.Fact) { keep(f) }) })
	}
	if ask != nil {
		wg.Go(func() {
			untried := *ask
			untried.Account = "" // whoever makes a record presents nothing
			set, _ := Run(ctx, untried, append([]Vantage{host}, server...), nil)
			for _, f := range set.Facts {
				if f.Order.Look == fact.LookSession || f.Order.Look == fact.LookNames || f.Order.Look == fact.LookEcho ||
					f.Order.Look == fact.LookRoute || f.Order.Look == fact.LookLink {
					keep(f)
				}
			}
		})
	}
	wg.Wait()
	for _, order := range ownTries(r, ask) {
		wg.Go(func() { host.Look(ctx, order, func(f fact.Fact) { keep(f) }) })
	}
	wg.Wait()
	r.Ended = time.Now().UTC()
	return r
}

// ownTries is the endpoint at every address of the host that were not tried
// yet: what it sees when it tries its own service.
func ownTries(r fact.HostRecord, ask *fact.Ask) []fact.Order {
	if ask == nil {
		return nil
	}
	const most = 8
	e := ask.Endpoint
	tried := map[fact.Target]bool{}
	for _, f := range r.Facts {
		tried[f.Order.Target] = tried[f.Order.Target] || f.Order.Look == fact.LookSession
	}
	var orders []fact.Order
	for _, f := range r.Facts {
		if f.Addresses == nil {
			continue
		}
		for _, held := range f.Addresses.Held {
			addr := held.Prefix.Addr()
			t := fact.Target{Name: e.Host, Addr: addr, Port: e.Port, Scheme: e.Scheme, Security: e.Security, Path: e.Path}
			if len(orders) < most && !tried[t] && !addr.IsLinkLocalUnicast() {
				tried[t] = true
				orders = append(orders, fact.Order{Look: fact.LookSession, Target: t})
			}
		}
	}
	return orders
}
