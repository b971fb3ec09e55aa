package ports

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// containerReadings reads a port that leads into a container, or that should.
func containerReadings(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	f *fact.Fact,
	list *fact.Listeners,
) ([]gate.Reading, bool) {
	on := list.On(v.Ask.Endpoint.Transport, t.Target.Port)
	relay := slices.IndexFunc(on, scene.Relay)
	if !t.Symptom.Good() || relay >= 0 || len(on) == 0 {
		v.WantContainers(w, t, gate.Listener)
	}
	seen, all := v.Containers(t.Server)
	if all == nil {
		return nil, false
	}
	told, c, p := v.PublishedAt(t)
	seenHolder := slices.ContainsFunc(on, func(l fact.Listener) bool { return l.Program != "" })
	if relay < 0 && len(on) > 0 && (seenHolder || c == nil) {
		return nil, false // a program of the host holds it
	}
	if c == nil && relay >= 0 {
		c = keptFor(all, on[relay])
	}
	switch {
	case c != nil && elsewhereOnly(t, p, on, relay):
		addr := p.Addr
		if !addr.IsValid() {
			addr = on[relay].Addr
		}
		return []gate.Reading{published(v, t, f, seen, c, addr.String(), addr.IsLoopback())}, true
	case c != nil && told != nil && p.Inside != 0:
		if c.State != "running" && c.State != "paused" {
			return []gate.Reading{v.NotRunning(t, told, c)}, true
		}
		return []gate.Reading{v.Inside(t, told, c, p.Inside)}, true
	case len(on) > 0:
		return nil, false
	}
	return unpublished(v, t, f, seen, all)
}

// keptFor is the container for which a program of its engine holds a port: its
// keeper process, or one that was started with its number or its address.
func keptFor(all *fact.Containers, l fact.Listener) *fact.Container {
	words := strings.Fields(l.Args)
	for i := range all.List {
		c := &all.List[i]
		own := c.Own()
		if c.Keeper != 0 && c.Keeper == l.PID || c.ID != "" && slices.Contains(words, c.ID) ||
			own.IsValid() && slices.Contains(words, own.String()) {
			return c
		}
	}
	return nil
}

// elsewhereOnly reports whether a port is published on an address of the host
// that is not the one that was tried.
func elsewhereOnly(t *scene.Try, p fact.Published, on []fact.Listener, relay int) bool {
	if p.Addr.IsValid() {
		return p.Addr != t.Target.Addr
	}
	if relay < 0 {
		return false
	}
	return !slices.ContainsFunc(on, func(l fact.Listener) bool { takes, _ := l.Takes(t.Target.Addr); return takes })
}

// published is a port that is published on another address than the client
// comes to.
func published(
	v *scene.Scene,
	t *scene.Try,
	f, seen *fact.Fact,
	c *fact.Container,
	addr string,
	loopback bool,
) gate.Reading {
	values := catalogue.Values{"listen": addr, "container": c.Called()}
	scene.Commands(values, c)
	r := gate.Reading{
		Gate: gate.Listener, Cause: "ports/other-address",
		Strength: gate.Read, Because: scene.FactIDs(f, seen), Vantage: t.Server,
		Summary: fmt.Sprintf("port %d of container %s is published on %s of the host only; the client comes to %s",
			t.Target.Port, c.Called(), addr, t.Target.Addr),
		Values: v.Place(t, values),
	}
	if loopback {
		r.Cause = "rules/published-on-loopback"
	}
	if !v.Confirmed(t) {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
	}
	return r
}

// unpublished reads a container in which somebody listens on the port of a try,
// to which no port of the host leads.
func unpublished(v *scene.Scene, t *scene.Try, f, seen *fact.Fact, all *fact.Containers) ([]gate.Reading, bool) {
	var found []*fact.Container
	var by fact.Listener
	for i := range all.List {
		c := &all.List[i]
		for _, l := range c.On(v.Ask.Endpoint.Transport, t.Target.Port) {
			if c.ID == "" || l.Addr.IsLoopback() || slices.Contains(found, c) {
				continue
			}
			found, by = append(found, c), l
		}
	}
	if len(found) == 0 {
		return nil, false
	}
	c := found[0]
	r := gate.Reading{
		Gate: gate.Listener, Cause: "ports/not-published",
		Strength: gate.Read, Because: scene.FactIDs(f, seen), Vantage: t.Server,
		Summary: fmt.Sprintf("%s listens on port %d in container %s, and no port of %s is published to it",
			scene.Owner(by), t.Target.Port, c.Called(), v.Host(t.Server)),
		Values: v.Place(t, catalogue.Values{"container": c.Called(), "program": scene.Owner(by)}),
	}
	if !v.Confirmed(t) {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
	}
	if len(found) > 1 {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.OneMeaning, Why: "several containers have such a listener"})
	}
	return []gate.Reading{r}, true
}
