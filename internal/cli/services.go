package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/tell"
	"uakari/internal/trace"
)

// serviceRecord is the service record by which clients find an endpoint: the
// name itself if it is one, else what its scheme puts before a domain.
func serviceRecord(e fact.Endpoint) string {
	host := strings.TrimSuffix(e.Host, ".")
	if strings.HasPrefix(host, "_") {
		return host
	}
	return protocol.RecordOf(e, host)
}

// servicesFrom asks a vantage for service records, and tries every target
// once; unseen is what it could not ask, and why.
func servicesFrom(
	ctx context.Context,
	v trace.Vantage,
	record string,
	watch func(trace.Event),
) (list []tell.ServiceView, unseen []string) {
	for _, f := range looked(ctx, v, watch, fact.Order{Look: fact.LookServices, Target: fact.Target{Name: record}}) {
		r := f.ServiceRecords
		if f.Failed != nil {
			unseen = append(unseen, fmt.Sprintf("%s: %s: %s", v.Info().Host, f.Failed.What, f.Failed.Why))
		}
		if r == nil {
			continue
		}
		view := tell.ServiceView{Record: record, Resolver: r.Resolver.String(), Outcome: string(r.Outcome)}
		if len(r.List) == 0 {
			list = append(list, view)
		}
		for _, s := range r.List {
			view.Target, view.Port, view.Priority, view.Weight = s.Target, s.Port, s.Priority, s.Weight
			list = append(list, view)
		}
	}
	slices.SortStableFunc(list, func(a, b tell.ServiceView) int {
		return cmp.Or(
			strings.Compare(a.Resolver, b.Resolver),
			cmp.Compare(a.Priority, b.Priority),
			cmp.Compare(b.Weight, a.Weight),
			strings.Compare(a.Target, b.Target),
		)
	})
	type place struct {
		name string
		port uint16
	}
	tries := map[place]func() []tell.ServiceTry{}
	var wg sync.WaitGroup
	for i := range list {
		s := &list[i]
		at := place{strings.ToLower(s.Target), s.Port}
		if s.Target == "" {
			continue
		}
		if tries[at] == nil {
			tries[at] = sync.OnceValue(func() []tell.ServiceTry { return tryTarget(ctx, v, watch, at.name, at.port) })
		}
		try := tries[at]
		wg.Go(func() { s.Tried = try() })
	}
	wg.Wait()
	return list, unseen
}

// tryTarget connects to every address that a name gives to programs of the
// vantage, and says no word there.
func tryTarget(
	ctx context.Context,
	v trace.Vantage,
	watch func(trace.Event),
	name string,
	port uint16,
) []tell.ServiceTry {
	facts := looked(ctx, v, watch, fact.Order{Look: fact.LookNames, Target: fact.Target{Name: name}})
	addrs := nameViews(name, facts, map[string]string{v.Info().ID: v.Info().Host}, nil).Gives
	tried := make([]tell.ServiceTry, len(addrs))
	var wg sync.WaitGroup
	for i, addr := range addrs {
		wg.Go(func() {
			ctx, stop := context.WithCancel(ctx)
			defer stop()
			tried[i] = tell.ServiceTry{Addr: addr}
			v.Look(
				ctx,
				fact.Order{
					Look:   fact.LookSession,
					Target: fact.Target{Name: name, Addr: addr, Port: port, Scheme: "tcp", Security: fact.Plain},
				},
				func(f fact.Fact) {
					if f.Connect != nil {
						tried[i].Outcome = f.Connect.Outcome
						stop()
					}
				},
			)
		})
	}
	wg.Wait()
	return tried
}
