package rules

import (
	"fmt"
	"net/netip"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// WayInReadings reads what stops a packet at the server beside its filter
// tables: a full state table, the unit's own address list, and a reply that
// has no way back.
func WayInReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if t.Server == "" || !t.Symptom.Silent() {
		return nil
	}
	w.Add(scene.Want{Look: fact.LookBarriers, At: fact.Server, On: t.Server, Gate: gate.WayIn})
	var readings []gate.Reading
	for _, f := range v.Facts(t.Server, fact.LookBarriers) {
		if b := f.Barriers; b != nil && b.TrackMax > 0 && b.Tracked >= b.TrackMax {
			readings = append(readings, gate.Reading{
				Gate: gate.WayIn, Cause: "rules/state-table-full",
				Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
				Shows: []gate.Symptom{gate.SilentTCP},
				Summary: fmt.Sprintf(
					"the table of tracked connections of %s is full: %d of %d",
					v.Host(t.Server),
					b.Tracked,
					b.TrackMax,
				),
				Values: v.Place(
					t,
					catalogue.Values{"limit": fmt.Sprint(b.TrackMax), "more": fmt.Sprint(2 * b.TrackMax)},
				),
			})
		}
	}
	source, direct, from := v.Source(t)
	if !source.IsValid() {
		return readings
	}
	var short []gate.Lack
	if !direct {
		short = []gate.Lack{
			{
				Guard: gate.SameSource,
				Why:   "a translation on the way may show the server another address than " + source.String(),
			},
		}
	}
	if r, ok := unitList(v, t, source, short); ok {
		readings = append(readings, r)
	}
	if r, ok := wayBack(v, w, t, source, short); ok {
		r.Because = append(r.Because, from)
		readings = append(readings, r)
	}
	return readings
}

// unitList reads the service's own address list (systemd.resource-control(5)):
// a source that is denied and not allowed is dropped.
func unitList(v *scene.Scene, t *scene.Try, source netip.Addr, short []gate.Lack) (gate.Reading, bool) {
	f, s := v.Service(t.Server)
	if s == nil {
		return gate.Reading{}, false
	}
	p, _ := v.Chosen(s.Programs)
	if p == nil || scene.MainUnit(p) == nil {
		return gate.Reading{}, false
	}
	u := scene.MainUnit(p)
	denied := covering(u.Denies, source)
	if denied == "" || covering(u.Allows, source) != "" {
		return gate.Reading{}, false
	}
	if denied == "0.0.0.0/0" || denied == "::/0" {
		short = nil // any source is denied that is not allowed by name
		if len(u.Allows) > 0 {
			short = []gate.Lack{
				{Guard: gate.SameSource, Why: "the server may see another address, which the list allows"},
			}
		}
	}
	return gate.Reading{
		Gate: gate.WayIn, Cause: "rules/unit-list", Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
		Shows: []gate.Symptom{gate.SilentTCP}, Lacks: short,
		Summary: fmt.Sprintf("%s has an address list of its own, and %s denies %s", u.Name, denied, source),
		Values:  v.Place(t, catalogue.Values{"unit": u.Name, "source": source.String()}),
	}, true
}

// covering is the first prefix of a list that holds an address; "" for none.
func covering(list []string, addr netip.Addr) string {
	for _, text := range list {
		if p, err := netip.ParsePrefix(text); err == nil && p.Masked().Contains(addr) {
			return text
		}
	}
	return ""
}

// wayBack reads the server's route to the client.
func wayBack(v *scene.Scene, w *scene.Wants, t *scene.Try, source netip.Addr, short []gate.Lack) (gate.Reading, bool) {
	w.Add(
		scene.Want{
			Look:   fact.LookRoute,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Addr: source},
			Gate:   gate.WayBack,
		},
	)
	for _, f := range v.Facts(t.Server, fact.LookRoute) {
		r := f.Route
		if r == nil || r.Outcome == "found" || f.Order.Target.Addr != source {
			continue
		}
		text := fmt.Sprintf("%s has no route back to %s", v.Host(t.Server), source)
		values := v.Place(t, catalogue.Values{"source": source.String(), "entry": r.Entry})
		if r.Entry == "none" {
			values["entry"] = ""
		} else if r.Entry != "" {
			text = fmt.Sprintf("the route %q on %s leads nowhere: no reply gets back to %s", r.Entry, v.Host(t.Server),
				source)
		}
		return gate.Reading{
			Gate:     gate.WayBack,
			Cause:    "rules/no-return-route",
			Strength: gate.Read,
			Because:  scene.FactIDs(f),
			Vantage:  t.Server,
			Shows:    []gate.Symptom{gate.SilentTCP},
			Lacks:    short,
			Summary:  text,
			Values:   values,
		}, true
	}
	return intoOwnLink(v, t, source, short)
}

// intoOwnLink reads a server that takes the client for a neighbour on a link of
// its own, such as a bridge for containers, while the client comes to it over a
// router: replies go into that link and find nobody.
func intoOwnLink(v *scene.Scene, t *scene.Try, source netip.Addr, short []gate.Lack) (gate.Reading, bool) {
	hop := nextHop(v, v.Client, t.Target.Addr)
	_, held := v.Addresses(t.Server)
	if !hop.IsValid() || held == nil || TablesOf(v, t.Server) == nil && len(v.Facts(t.Server, fact.LookRoutes)) == 0 {
		return gate.Reading{}, false
	}
	route, ok := FilterHost(v, t.Server).RouteTo(source)
	if !ok || route.Via.IsValid() || route.Dev == "lo" || route.Dev == "" {
		return gate.Reading{}, false
	}
	home := "" // the link with the address that the client comes to
	for _, a := range held.Held {
		if a.Prefix.Addr() == t.Target.Addr && !a.Local {
			home = a.Link
		}
	}
	if home == "" || home == route.Dev {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate:     gate.WayBack,
		Cause:    "rules/no-return-route",
		Strength: gate.Read,
		Because:  factsOf(v, t.Server, fact.LookRoutes),
		Vantage:  t.Server,
		Shows:    []gate.Symptom{gate.SilentTCP, gate.SilentUDP},
		Lacks:    short,
		Summary: fmt.Sprintf(
			"%s sends replies to %s into its own link %s (%s), and the client comes by %s over %s: no reply gets back",
			v.Host(t.Server),
			source,
			route.Dev,
			route.Text,
			home,
			hop,
		),
		Values: v.Place(t, catalogue.Values{"source": source.String(), "entry": route.Text}),
	}, true
}

// factsOf is the ids of what a look left at a vantage.
func factsOf(v *scene.Scene, vantage string, look fact.Kind) []string {
	return scene.FactIDs(v.Facts(vantage, look)...)
}
