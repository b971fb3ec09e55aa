package trace

import (
	"context"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/protocol"
)

// recorded is what a record holds of every host, whatever it is made for.
var recorded = []fact.Kind{
	fact.LookIdentity,
	fact.LookAddresses,
	fact.LookRoutes,
	fact.LookNeighbours,
	fact.LookResolver,
	fact.LookKernel,
	fact.LookListeners,
	fact.LookBarriers,
	fact.LookResources,
	fact.LookTables,
	fact.LookClaims,
	fact.LookPeers,
	fact.LookKeyTable,
}

// Record looks at everything that a host can tell of itself, at what else is
// wanted and, if an endpoint is asked for, at the endpoint from here, as its client and as its
// server. It ends with the context at the latest.
func Record(ctx context.Context, host Vantage, ask *fact.Ask, more []fact.Order, server []Vantage) fact.HostRecord {
	r := fact.HostRecord{Format: fact.HostFormat, Host: host.Info().Host, Began: time.Now().UTC(),
		Facts: []fact.Fact{}}
	orders := slices.Clone(more)
	for _, kind := range recorded {
		orders = append(orders, fact.Order{Look: kind})
	}
	if ask != nil {
		r.For = &ask.Endpoint
		at := fact.Target{Port: ask.Endpoint.Port, Scheme: ask.Endpoint.Scheme}
		orders = append(
			orders,
			fact.Order{Look: fact.LookService, Target: at},
			fact.Order{Look: fact.LookPeers, Target: at},
			fact.Order{Look: fact.LookListeners, Target: at},
			fact.Order{Look: fact.LookAccess, Target: fact.Target{Port: ask.Endpoint.Port}},
			fact.Order{Look: fact.LookUpstreams, Target: fact.Target{Port: ask.Endpoint.Port}},
			fact.Order{Look: fact.LookContainers, Target: fact.Target{Port: ask.Endpoint.Port}},
			fact.Order{Look: fact.LookCertFiles, Target: fact.Target{Port: ask.Endpoint.Port}},
		)
		if ask.Card != nil && ask.Card.ClientUnit+ask.Card.ClientLog != "" {
			orders = append(orders, fact.Order{Look: fact.LookService, Target: fact.Target{Name: "client"}})
		}
		if ask.Card != nil {
			orders = append(orders, ofCard(ask)...)
			for _, side := range []string{"client", "server"} {
				orders = append(
					orders,
					fact.Order{Look: fact.LookSettings, Target: fact.Target{Name: side}},
					fact.Order{Look: fact.LookSigns, Target: fact.Target{Name: side}},
				)
			}
		}
		orders = append(
			orders,
			fact.Order{Look: fact.LookAccounts, Target: fact.Target{Port: ask.Endpoint.Port, Account: ask.Account}},
		)
		if ask.Account != "" || protocol.Spoken(ask.Endpoint.Scheme).HostAccounts {
			orders = append(
				orders,
				fact.Order{
					Look:   fact.LookAccount,
					Target: fact.Target{Account: ask.Account, Scheme: ask.Endpoint.Scheme, Port: ask.Endpoint.Port},
				},
			)
		}
	}
	var (
		wg sync.WaitGroup
		mu sync.Mutex // guards r.Facts
	)
	running := map[fact.Order]bool{} // guarded by mu
	look := func(order fact.Order, emit func(fact.Fact)) {
		mu.Lock()
		running[order] = true
		mu.Unlock()
		host.Look(ctx, order, emit)
		mu.Lock()
		delete(running, order)
		mu.Unlock()
	}
	keep := func(facts ...fact.Fact) {
		mu.Lock()
		defer mu.Unlock()
		if ctx.Err() == nil {
			r.Facts = append(r.Facts, facts...)
		}
	}
	for _, order := range orders {
		wg.Go(func() { look(order, func(f fact.Fact) { keep(f) }) })
	}
	waited := func() { // a look that hangs is left behind
		done := make(chan struct{})
		go func() { wg.Wait(); close(done) }()
		select {
		case <-done:
		case <-ctx.Done():
			select { // what was seen in time may still be on its way
			case <-done:
			case <-time.After(2 * nearly):
			}
		}
	}
	if ask != nil {
		wg.Go(func() {
			untried := *ask
			untried.Account = "" // whoever makes a record presents nothing
			set, _ := Run(ctx, untried, append([]Vantage{host}, server...), nil)
			mu.Lock()
			defer mu.Unlock()
			for _, f := range set.Facts {
				if f.Order.Look == fact.LookSession || f.Order.Look == fact.LookNames ||
					f.Order.Look == fact.LookEcho ||
					f.Order.Look == fact.LookRoute ||
					f.Order.Look == fact.LookLink {
					r.Facts = append(r.Facts, f)
				}
			}
		})
	}
	waited()
	// What the first looks found leads to more: names of servers that this host
	// needs, and then those servers.
	for _, next := range []func(fact.HostRecord, *fact.Ask) []fact.Order{ownTries, backendNames, backendTries} {
		if ctx.Err() != nil {
			break // what was seen is written, and not waited for any longer
		}
		mu.Lock()
		orders := next(r, ask)
		mu.Unlock()
		for _, order := range orders {
			wg.Go(func() { look(order, func(f fact.Fact) { keep(f) }) })
		}
		waited()
	}
	mu.Lock()
	defer mu.Unlock()
	r.Ended, r.Incomplete = time.Now().UTC(), incomplete(ctx)
	for order := range running {
		r.Facts = append(r.Facts, cutOffFact(host.Info().ID, order))
	}
	// Looks that were left behind may still end: what they add is not of this record.
	r.Facts = slices.Clone(r.Facts)
	return r
}

// ofCard is what a card wants to know of a host beside its settings and signs:
// the state of its account, what that may read, and what partners publish.
func ofCard(ask *fact.Ask) []fact.Order {
	var orders []fact.Order
	if a := ask.Card.Account; a != nil && a.Name != "" {
		orders = append(
			orders,
			fact.Order{
				Look:   fact.LookAccount,
				Target: fact.Target{Account: a.Name, Scheme: ask.Endpoint.Scheme, Port: ask.Endpoint.Port},
			},
		)
		for _, r := range a.Rights {
			if strings.HasPrefix(r.On, "/") {
				orders = append(orders, fact.Order{Look: fact.LookPathRight,
					Target: fact.Target{Account: a.Name, Path: r.On}})
			}
		}
	}
	for _, p := range ask.Card.Pairs {
		if p.Metadata != "" {
			orders = append(orders, fact.Order{Look: fact.LookMetadata,
				Target: fact.Target{Path: p.Metadata, Trust: p.Trust}})
		}
	}
	return orders
}

// mostBackends bounds how many servers behind a host are tried for its record.
const mostBackends = 6

// backends is the servers that a host's settings, or its card, say it needs,
// without their addresses.
func backends(r fact.HostRecord, ask *fact.Ask) []fact.Target {
	var list []fact.Target
	add := func(t fact.Target) {
		if len(list) < mostBackends && !slices.Contains(list, t) {
			list = append(list, t)
		}
	}
	if ask == nil {
		return nil
	}
	if ask.Card != nil {
		for _, hop := range ask.Card.Hops {
			add(targetOf(hop, ""))
		}
		for _, p := range ask.Card.Pairs {
			add(targetOf(p.Endpoint, p.Trust))
		}
	}
	for _, f := range r.Facts {
		more := []fact.Upstream(nil)
		switch {
		case f.Upstreams != nil:
			more = f.Upstreams.List
		case f.Access != nil && protocol.Spoken(ask.Endpoint.Scheme).List == fact.ListHBA:
			more = program.SignInServers(f.Access, "")
		}
		for _, up := range more {
			if scheme, known := protocol.Lookup(up.Scheme); known {
				add(up.At(netip.Addr{}, scheme.Security))
			}
		}
	}
	return list
}

// targetOf is an endpoint of a card as it is tried.
func targetOf(input, trust string) fact.Target {
	e, err := endpoint.Parse(input)
	if err != nil {
		return fact.Target{} // cards are checked when they are read
	}
	return fact.Target{Name: e.Host, Port: e.Port, Scheme: e.Scheme, Security: e.Security, Path: e.Path, Trust: trust}
}

func backendNames(r fact.HostRecord, ask *fact.Ask) []fact.Order {
	var orders []fact.Order
	for _, t := range backends(r, ask) {
		order := fact.Order{Look: fact.LookNames, Target: fact.Target{Name: t.Name}}
		_, literal := endpoint.Literal(t.Name)
		known := slices.ContainsFunc(r.Facts, func(f fact.Fact) bool { return f.Order == order })
		if t.Name != "" && !literal && !known && !slices.Contains(orders, order) {
			orders = append(orders, order)
		}
	}
	return orders
}

func backendTries(r fact.HostRecord, ask *fact.Ask) []fact.Order {
	var orders []fact.Order
	for _, t := range backends(r, ask) {
		addr, ok := endpoint.Literal(t.Name)
		for _, f := range r.Facts {
			switch {
			case ok || f.Order.Target.Name != t.Name:
			case f.HostsFile != nil && len(f.HostsFile.Addrs) > 0:
				addr, ok = f.HostsFile.Addrs[0], true
			case f.Answer != nil && len(f.Answer.Addrs) > 0:
				addr, ok = f.Answer.Addrs[0], true
			}
		}
		t.Addr = addr
		if !ok {
			continue
		}
		// The way there, too: filters of the backend's host are judged for this packet.
		for _, order := range []fact.Order{
			{Look: fact.LookSession, Target: t},
			{Look: fact.LookRoute, Target: fact.Target{Addr: addr}},
			{Look: fact.LookLink, Target: fact.Target{Addr: addr}},
		} {
			if !slices.ContainsFunc(r.Facts, func(f fact.Fact) bool { return f.Order == order }) &&
				!slices.Contains(orders, order) {
				orders = append(orders, order)
			}
		}
	}
	return orders
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
			t := fact.Target{
				Name:     e.Host,
				Addr:     addr,
				Port:     e.Port,
				Scheme:   e.Scheme,
				Security: e.Security,
				Path:     e.Path,
			}
			if len(orders) < most && !tried[t] && !addr.IsLinkLocalUnicast() {
				tried[t] = true
				orders = append(orders, fact.Order{Look: fact.LookSession, Target: t})
			}
		}
	}
	return orders
}
