package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// translationsGone reads a container that runs and publishes the port of a try,
// where the tables have no translation that leads to it, and nobody passes
// connections on: a filter that was reloaded took them away.
func translationsGone(v *scene.Scene, t *scene.Try, at standing, walk filter.Walk) (gate.Reading, bool) {
	if at.vantage != t.Server || !at.read || at.why != "" && at.host.Rules == nil {
		return gate.Reading{}, false
	}
	f, c, p := v.PublishedAt(t)
	_, list := v.Listeners(t.Server)
	if c == nil || list == nil || c.State != "running" || p.Addr.IsValid() && p.Addr != t.Target.Addr {
		return gate.Reading{}, false
	}
	passes := func(l fact.Listener) bool { return !scene.Keeps(l) }
	if slices.ContainsFunc(list.On(v.Ask.Endpoint.Transport, t.Target.Port), passes) ||
		slices.ContainsFunc(walk.Rewrites, func(rw filter.Rewrite) bool { return rw.Kind == "destination" }) {
		return gate.Reading{}, false
	}
	if n := closedOff(c); n != "" {
		return gate.Reading{
			Gate: gate.Way, Cause: "rules/network-isolated",
			Strength: gate.Read, Vantage: at.vantage, Because: scene.FactIDs(f),
			Reach: gate.Further,
			Shows: []gate.Symptom{gate.RefusedByReset, gate.SilentTCP, gate.ServerFirstSilent, gate.ClientFirstSilent},
			Summary: fmt.Sprintf(
				"container %s is in the network %s alone, which is internal: no port that it publishes leads there",
				c.Called(),
				n,
			),
			Values: v.Place(t, catalogue.Values{"container": c.Called(), "network": n}),
		}, true
	}
	values := catalogue.Values{"gone": c.Called()}
	scene.Commands(values, c)
	return gate.Reading{
		Gate: gate.Listener, Cause: "ports/not-published", Strength: gate.Read, Vantage: at.vantage,
		Because: gate.Union(tableIDs(v, at.vantage), scene.FactIDs(f)),
		Shows:   []gate.Symptom{gate.RefusedByReset, gate.SilentTCP, gate.ServerFirstSilent, gate.ClientFirstSilent},
		Reach:   gate.Further,
		Summary: fmt.Sprintf(
			"container %s runs and publishes port %d, and the tables of %s have no translation that leads there: "+
				"they were reloaded without it",
			c.Called(),
			t.Target.Port,
			v.Host(at.vantage),
		),
		Values: v.Place(t, values),
	}, true
}

// engineChanges says why the tables of the server may be others by now: its engine takes
// the rules of a container away when that ends, and lays them again when it starts.
func engineChanges(v *scene.Scene, t *scene.Try, at standing) string {
	if at.vantage != t.Server {
		return ""
	}
	_, c, _ := v.PublishedAt(t)
	const settled = 2 * time.Minute
	if c == nil || c.State == "running" && (c.Restarts == 0 || v.Ask.Began.Sub(c.Started) > settled) {
		return ""
	}
	return fmt.Sprintf("container %s does not run steadily, and its engine changes the rules with it", c.Called())
}

// keptApart names two networks of an engine that a host's tables keep apart, in place of
// the rule alone: who removes the rule has it back with the engine's next start.
func keptApart(v *scene.Scene, t *scene.Try, at standing, step filter.Step, r *gate.Reading) {
	source, _, _ := v.Source(t)
	target := t.Target.Addr.Unmap()
	f, from := v.HeldBy(at.vantage, source)
	_, to := v.HeldBy(at.vantage, target)
	if at.role != fact.Gateway || from == nil || to == nil {
		return
	}
	other := networkOf(to, target)
	if other == nil || networkOf(from, source) == nil || other.Name == networkOf(from, source).Name ||
		!other.Isolated && !other.Internal && (step.Chain == nil || step.Chain.Kept() != engineRules) {
		return
	}
	r.Cause = "rules/network-isolated"
	r.Because = gate.Union(r.Because, scene.FactIDs(f))
	r.Summary = fmt.Sprintf("container %s is in the network %s, which %s keeps apart from %s of container %s: %s",
		to.Called(), other.Name, v.Host(at.vantage), networkOf(from, source).Name, from.Called(), r.Summary)
	r.Values = v.Place(t, catalogue.Values{"container": to.Called(), "network": other.Name, "client": from.Called(),
		"server": v.Host(at.vantage)})
}

// engineRules is who keeps the rules by which an engine keeps its networks apart.
const engineRules = "the container engine"

// networkOf is the network in which a container has an address.
func networkOf(c *fact.Container, addr netip.Addr) *fact.Network {
	at := slices.IndexFunc(c.Networks, func(n fact.Network) bool { return slices.Contains(n.Addrs, addr) })
	if at < 0 {
		return nil
	}
	return &c.Networks[at]
}

// shutIn reads a client in a container whose networks all lead nowhere else: its kernel
// has no route, and its host's engine says why.
func shutIn(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if t.Symptom != gate.NoRouteHere {
		return gate.Reading{}, false
	}
	_, own := v.Addresses(v.Client)
	for _, at := range v.Set.Vantages {
		if own == nil || !keepsClient(v, t, at) {
			continue
		}
		w.Add(scene.Want{Look: fact.LookContainers, At: at.Role, On: at.ID, Target: fact.Target{Port: t.Target.Port},
			Gate: gate.WayOut})
		for _, held := range own.Held {
			f, c := v.HeldBy(at.ID, held.Prefix.Addr())
			if held.Local || c == nil || closedOff(c) == "" {
				continue
			}
			return gate.Reading{
				Gate: gate.WayOut, Cause: "rules/network-isolated", Strength: gate.Read, Vantage: v.Client,
				Because: gate.Union(t.Climb.IDs(), scene.FactIDs(f)),
				Shows:   []gate.Symptom{gate.NoRouteHere},
				Summary: fmt.Sprintf("container %s, the client, is in the network %s alone, which is internal: "+
					"nothing leads out of it", c.Called(), closedOff(c)),
				Values: v.Place(t, catalogue.Values{"container": c.Called(), "network": "that leads there",
					"client": c.Called(), "server": at.Host}),
			}, true
		}
	}
	return gate.Reading{}, false
}

// closedOff is the network that a container is in, if all of its networks lead
// nowhere else.
func closedOff(c *fact.Container) string {
	if len(c.Networks) == 0 || slices.ContainsFunc(c.Networks, func(n fact.Network) bool { return !n.Internal }) {
		return ""
	}
	return c.Networks[0].Name
}
