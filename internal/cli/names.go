package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/tell"
	"uakari/internal/trace"
)

func newNames() *cobra.Command {
	f := traceFlags{out: "text"}
	authority := false
	cmd := &cobra.Command{
		Use:   "names NAME|ENDPOINT",
		Short: "resolve a name by every source and compare",
		Long: `Show every view of a name: this host's hosts file and resolvers, each by itself,
the system's own look-up, the authoritative servers with their serials, and the
same from other hosts with --at and --record. Say whether they agree.

A name such as _ldap._tcp.varzea.example, and an endpoint whose scheme is found
that way, is also looked up as a service record, and every target is tried.

Exit status: 0 it gives an address or a service that takes connections, 1 it
gives none, 3 the views differ or nobody knows, 2 wrong usage.`,
		Args: takes(1, 1, "one NAME"),
		RunE: func(cmd *cobra.Command, args []string) error { return f.names(cmd, args[0], authority) },
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.BoolVar(&authority, "from-authority", false, "ask the authoritative servers alone")
	asData(cmd, &f.json, " (uakari.names/1)")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	return cmd
}

// names collects every view of a name and tells them.
func (f *traceFlags) names(cmd *cobra.Command, input string, authority bool) error {
	e, err := endpoint.Parse(input)
	if err != nil {
		return err
	}
	if _, literal := endpoint.Literal(e.Host); literal {
		return fmt.Errorf("names %q: this is an address; expected a name", input)
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	env, err := f.env(ctx)
	if err != nil {
		return err
	}
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	var views tell.NameViews
	var services []tell.ServiceView
	var unseen []string
	var wg sync.WaitGroup
	cut := false
	err = f.look(
		ctx,
		cmd,
		env,
		[]fact.Order{{Look: fact.LookAddresses}},
		func(ctx context.Context, at []trace.Vantage, watch func(trace.Event)) {
			if record := serviceRecord(e); record != "" {
				wg.Go(func() { services, unseen = servicesFrom(ctx, at[0], record, watch) })
			}
			views = tell.NameViews{
				Format: tell.NamesFormat,
				Name:   e.Host,
				Agree:  true,
				Views:  []tell.NameView{},
				Gives:  []netip.Addr{},
			}
			if !strings.HasPrefix(e.Host, "_") {
				views = namesFrom(ctx, at, e.Host, authority, watch)
			}
			wg.Wait()
			views.Unseen = append(views.Unseen, unseen...)
			views.Services, views.Unicode = services, endpoint.Unicode(e.Host)
			cut = errors.Is(ctx.Err(), context.Canceled)
		},
	)
	if err != nil {
		return err
	}
	if err := told(cmd, f.json, views, func() string { return tell.Names(views, on) }); err != nil {
		return err
	}
	switch {
	case cut:
		return exit(exitInterrupted)
	case !views.Answered():
		return exit(exitUnsure)
	case len(views.Gives) == 0 && !slices.ContainsFunc(views.Services, tell.ServiceView.Works):
		return exit(exitFault)
	case !views.Agree:
		return exit(exitUnsure)
	}
	return nil
}

// namesFrom asks every vantage for a name, and the first for its authority.
func namesFrom(
	ctx context.Context,
	at []trace.Vantage,
	name string,
	authority bool,
	watch func(trace.Event),
) tell.NameViews {
	var wg sync.WaitGroup
	each := make([][]fact.Fact, len(at))
	hosts := map[string]string{}
	for i, v := range at {
		hosts[v.Info().ID] = v.Info().Host
		if v.Info().Implied {
			continue // the same host once more
		}
		orders := []fact.Order{{Look: fact.LookAddresses}}
		if !authority {
			orders = append(orders, fact.Order{Look: fact.LookNames, Target: fact.Target{Name: name}})
		}
		if i == 0 || authority {
			orders = append(orders, fact.Order{Look: fact.LookZone, Target: fact.Target{Name: name}})
		}
		wg.Go(func() { each[i] = looked(ctx, v, watch, orders...) })
	}
	wg.Wait()
	for _, v := range at {
		hosts[v.Info().ID] = v.Info().Host // an SSH vantage knows it by now
	}
	return nameViews(name, slices.Concat(each...), hosts, servers(at))
}

// looked is all that looks of one vantage leave, taken side by side.
func looked(ctx context.Context, v trace.Vantage, watch func(trace.Event), orders ...fact.Order) []fact.Fact {
	var (
		wg    sync.WaitGroup
		mu    sync.Mutex // guards facts
		facts []fact.Fact
	)
	for _, order := range orders {
		wg.Go(func() {
			watch(trace.Event{Vantage: v.Info(), Order: order})
			v.Look(ctx, order, func(f fact.Fact) {
				mu.Lock()
				defer mu.Unlock()
				facts = append(facts, f)
			})
			watch(trace.Event{Vantage: v.Info(), Order: order, Ended: true})
		})
	}
	wg.Wait()
	return facts
}

func servers(at []trace.Vantage) map[string]bool {
	m := map[string]bool{}
	for _, v := range at {
		m[v.Info().ID] = v.Info().Role == fact.Server && !v.Info().Implied
	}
	return m
}

// nameViews puts the views together.
func nameViews(name string, facts []fact.Fact, hosts map[string]string, servers map[string]bool) tell.NameViews {
	n := tell.NameViews{
		Format: tell.NamesFormat,
		Name:   name,
		Agree:  true,
		Views:  []tell.NameView{},
		Gives:  []netip.Addr{},
	}
	var held []fact.Addresses
	var setup *fact.ResolverSetup
	for i := range facts {
		f := &facts[i]
		view := tell.NameView{Host: hosts[f.Vantage], Source: f.Source}
		switch {
		case f.Setup != nil && (setup == nil || f.Vantage == "v1"):
			setup = f.Setup
		case f.Addresses != nil && servers[f.Vantage]:
			held = append(held, *f.Addresses)
		case f.HostsFile != nil:
			view.Source, view.Addrs = f.HostsFile.Path, f.HostsFile.Addrs
			view.Outcome = "not named"
			if len(view.Addrs) > 0 {
				view.Outcome, view.Line = string(fact.Addressed), f.HostsFile.Line
			}
			n.Views = append(n.Views, view)
		case f.System != nil:
			view.Source, view.Addrs, view.TookMS, view.Outcome = "the system's own look-up", f.System.Addrs,
				f.System.TookMS, string(
					fact.Addressed,
				)
			if len(view.Addrs) == 0 {
				view.Outcome = "nothing"
			}
			n.Views = append(n.Views, view)
		case f.Answer != nil:
			a := f.Answer
			view.Source, view.Type, view.Asked, view.Outcome = a.Resolver.String(), a.Type, strings.TrimSuffix(
				a.Asked,
				".",
			), string(
				a.Outcome,
			)
			view.Addrs, view.Aliases, view.TTL, view.TookMS, view.Verified = a.Addrs, a.Aliases, a.TTL, a.TookMS,
				a.Verified
			if len(a.Unchecked) > 0 {
				view.Outcome = "bad signatures"
			}
			n.Views = append(n.Views, view)
		case f.Zone != nil:
			n.Zone = strings.TrimSuffix(f.Zone.Name, ".")
			for _, s := range f.Zone.Servers {
				n.Views = append(
					n.Views,
					tell.NameView{
						Host:      hosts[f.Vantage],
						Source:    s.Name,
						Addr:      s.Addr.String(),
						Authority: true,
						Serial:    s.Serial,
						Lame:      s.Lame,
						Outcome:   string(s.Outcome),
						Addrs:     s.Addrs,
						Aliases:   s.Aliases,
						TookMS:    s.TookMS,
					},
				)
			}
		case f.Failed != nil && f.Order.Look != fact.LookAddresses:
			n.Unseen = append(n.Unseen, fmt.Sprintf("%s: %s: %s", hosts[f.Vantage], f.Failed.What, f.Failed.Why))
		}
	}
	slices.SortStableFunc(n.Views, func(a, b tell.NameView) int {
		return cmp.Or(
			strings.Compare(a.Host, b.Host),
			boolInt(a.Authority)-boolInt(b.Authority),
			cmp.Compare(a.Source, b.Source),
			strings.Compare(a.Asked, b.Asked),
			strings.Compare(a.Type, b.Type),
		)
	})
	n.Decide(setup, hosts["v1"])
	for _, h := range held {
		for _, a := range n.Gives {
			if !h.Holds(a) {
				n.NotHeld = append(n.NotHeld, fmt.Sprintf("%s is not an address of %s", a, h.Host))
				n.Agree = false
			}
		}
	}
	return n
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}
