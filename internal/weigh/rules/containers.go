package rules

import (
	"fmt"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// translationsGone reads a container that runs and publishes the port of a try,
// where the tables have no translation that leads to it, and nobody passes
// connections on: a filter that was loaded anew took them away.
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
			Gate: gate.Way, Cause: "rules/network-isolated", Vantage: at.vantage, Because: scene.FactIDs(f), Reach: gate.Further,
			Shows: []gate.Symptom{gate.RefusedByReset, gate.SilentTCP, gate.ServerFirstSilent, gate.ClientFirstSilent},
			Summary: fmt.Sprintf(
				"container %s is in the network %s alone, which is internal: no port that it publishes leads there",
				c.Called(),
				n,
			),
			Values: v.Place(t, catalogue.Values{"container": c.Called(), "network": n}),
		}, true
	}
	return gate.Reading{
		Gate: gate.Listener, Cause: "ports/not-published", Vantage: at.vantage, Because: gate.Union(tableIDs(v, at.vantage), scene.FactIDs(f)),
		Shows: []gate.Symptom{gate.RefusedByReset, gate.SilentTCP, gate.ServerFirstSilent, gate.ClientFirstSilent},
		Reach: gate.Further,
		Summary: fmt.Sprintf(
			"container %s runs and publishes port %d, and the tables of %s have no translation that leads there: they were loaded anew without it",
			c.Called(),
			t.Target.Port,
			v.Host(at.vantage),
		),
		Values: v.Place(t, catalogue.Values{"container": c.Called(), "engine": c.Engine, "gone": c.Called()}),
	}, true
}

// closedOff is the network that a container is in, if all of its networks lead
// nowhere else.
func closedOff(c *fact.Container) string {
	if len(c.Networks) == 0 || slices.ContainsFunc(c.Networks, func(n fact.Network) bool { return !n.Internal }) {
		return ""
	}
	return c.Networks[0].Name
}
