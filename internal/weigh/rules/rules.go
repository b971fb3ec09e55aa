// Package rules judges the rung "rules": packet filters, routes, translations, lists of
// programs, and what the packets themselves show.
package rules

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// icmpNames says what an ICMP refusal says (RFC 792, RFC 1812 section
// 5.2.7.1, RFC 4443 section 3.1).
var icmpNames = map[int]map[uint8]string{
	4: {
		2:  "protocol unreachable",
		3:  "port unreachable",
		9:  "network prohibited",
		10: "host prohibited",
		13: "prohibited by filter",
	},
	6: {1: "prohibited by filter", 4: "port unreachable", 5: "source refused", 6: "route refused"},
}

// Readings reads the ways out, between and in.
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	var readings []gate.Reading
	if v.OnSame(t) {
		readings = append(readings, gate.Reading{Gate: gate.Way, Strength: gate.Read, Vantage: v.Client,
			Summary: "both ends are this host"})
	}
	if t.Symptom.Silent() || t.Symptom == gate.NoRouteHere || t.Symptom == gate.NeighbourSilent {
		w.Add(
			scene.Want{
				Look:   fact.LookRoute,
				At:     fact.Client,
				Target: fact.Target{Addr: t.Target.Addr},
				Gate:   gate.WayOut,
			},
		)
		if r, ok := routeReading(v, t); ok {
			readings = append(readings, r)
		}
	}
	if t.Symptom.Silent() && !v.OnSame(t) {
		w.Add(
			scene.Want{
				Look:   fact.LookHops,
				At:     fact.Client,
				Target: fact.Target{Addr: t.Target.Addr, Port: t.Target.Port, Scheme: t.Target.Scheme},
				Gate:   gate.Way,
			},
		)
	}
	if t.Symptom == gate.NeighbourSilent {
		asked := cmp.Or(routerOf(v, t), t.Target.Addr)
		w.Add(scene.Want{Look: fact.LookLink, At: fact.Client, Target: fact.Target{Addr: asked}, Gate: gate.Way})
		for _, f := range v.Facts(v.Client, fact.LookLink) {
			if r, ok := routerSilent(v, t, f); ok {
				readings = append(readings, r)
				continue
			}
			if r, ok := notOnLink(v, t, f); ok {
				readings = append(readings, r)
				continue
			}
			if f.Link != nil && f.Order.Target.Addr == t.Target.Addr && len(f.Link.Answer) > 0 {
				readings = append(readings, gate.Reading{Gate: gate.Way,
					Strength: gate.Read, Because: scene.FactIDs(f), Vantage: v.Client,
					Summary: fmt.Sprintf("the link %s works: %s answers on it", f.Link.Dev, f.Link.Answer[0])})
			}
		}
	}
	if r, ok := largePackets(v, w, t); ok {
		readings = append(readings, r)
	}
	if t.Symptom == gate.RefusedByReset && t.Server == "" && !v.OnSame(t) {
		w.Add(
			scene.Want{Look: fact.LookEcho, At: fact.Client, Target: fact.Target{Addr: t.Target.Addr}, Gate: gate.Way},
		)
		for _, echo := range v.Facts(v.Client, fact.LookEcho) {
			if echo.Echo != nil && echo.Echo.Left > 0 && echo.Order.Target.Addr == t.Target.Addr {
				w.Add(
					scene.Want{
						Look:   fact.LookReset,
						At:     fact.Client,
						Target: fact.Target{Addr: t.Target.Addr, Port: t.Target.Port, Hops: echo.Echo.Left},
						Gate:   gate.Way,
					},
				)
			}
		}
	}
	if t.Symptom == gate.NoPortHere {
		r := gate.Reading{
			Gate:     gate.WayOut,
			Cause:    "ports/client-exhausted",
			Strength: gate.Read,
			Because:  t.Climb.IDs(),
			Vantage:  v.Client,
			Values:   v.Place(t, catalogue.Values{}),
			Summary:  fmt.Sprintf("the kernel of %s has no local port left to come from", v.Host(v.Client)),
		}
		if _, own := v.Addresses(v.Client); own == nil || !v.HasFamily(t.Target.Addr.Is6()) {
			r.Lacks = []gate.Lack{
				{Guard: gate.OneMeaning, Why: "it says the same where a host has no address of this family"},
			}
		}
		readings = append(readings, r)
	}
	if r, ok := shutIn(v, w, t); ok {
		readings = append(readings, r)
	}
	if t.Symptom == gate.ICMPFromElsewhere {
		readings = append(readings, refusedBetween(v, t))
	}
	return readings
}

// largePackets tries a connection that stalled once more in small segments: if
// that gets on, the large ones are lost on the way.
func largePackets(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if t.Symptom != gate.ClientFirstSilent || v.OnSame(t) || v.Scheme.UDP {
		return gate.Reading{}, false
	}
	// A service that takes nobody is full all the sooner for one more try.
	if t.Server != "" {
		later := v.ListenersLater(t)
		if later == nil && v.Vantage(t.Server).Means != fact.Record ||
			slices.ContainsFunc(later, func(l fact.Listener) bool { return l.Queue > 0 }) {
			return gate.Reading{}, false
		}
	}
	small := t.Target
	small.Small = true
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: small, Gate: gate.Way})
	c, ok := v.ClimbAt(v.Client, small)
	if !ok || c.Symptom(v.Own()).Progress() <= t.Symptom.Progress() {
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate:     gate.Way,
		Cause:    "rules/large-packets-lost",
		Strength: gate.Read,
		Because:  append(t.Climb.IDs(), c.IDs()...),
		Vantage:  v.Client,
		Summary: fmt.Sprintf(
			"it stalls as usual and gets on in small segments: packets of full size to or from %s are lost on the way",
			t.Target.Addr,
		),
		Values: v.Place(t, catalogue.Values{}),
	}
	if f, ok := seenFlow(v, t, fact.TryLarge, fact.WatchLarge); ok {
		r = f.large(r)
	}
	return r, true
}

// SentBy hints who sent a reset, by the hop limit with which it comes and the
// one of an echo reply: the same machine mostly begins with the same, and the
// last router differs by one from the server behind it.
func SentBy(v *scene.Scene, t *scene.Try) (other bool, text, id string) {
	for _, f := range v.Facts(v.Client, fact.LookReset) {
		if f.Reset == nil || f.Order.Target.Addr != t.Target.Addr || f.Order.Target.Port != t.Target.Port {
			continue
		}
		if f.Reset.Compare != "same" {
			return true, fmt.Sprintf(
				"; the refusal comes with %s hops left than an echo reply, as if two machines sent them",
				f.Reset.Compare,
			), f.ID
		}
		return false, fmt.Sprintf(
			"; the refusal and an echo reply both come with %d hops left, as from one machine",
			f.Reset.Beside,
		), f.ID
	}
	return false, "", ""
}

// routerOf is the router that the client's route leads through; none for what is on its link.
func routerOf(v *scene.Scene, t *scene.Try) netip.Addr {
	for _, f := range v.Facts(v.Client, fact.LookRoute) {
		if f.Route != nil && f.Order.Target.Addr == t.Target.Addr {
			return f.Route.Via
		}
	}
	return netip.Addr{}
}

// routerSilent reads a router that the client's route leads through, and for which
// nobody answers on the link.
func routerSilent(v *scene.Scene, t *scene.Try, f *fact.Fact) (gate.Reading, bool) {
	router := routerOf(v, t)
	if f.Link == nil || !router.IsValid() || f.Order.Target.Addr != router {
		return gate.Reading{}, false
	}
	client := v.Host(v.Client)
	r := gate.Reading{
		Gate: gate.Way, Cause: "rules/neighbour-silent",
		Strength: gate.Read, Shows: []gate.Symptom{gate.NeighbourSilent},
		Because: append(scene.FactIDs(f), t.Climb.IDs()...), Vantage: v.Client,
		Summary: fmt.Sprintf("the route of %s to %s leads through %s, and nobody on %s answers for that",
			client, t.Target.Addr, router, f.Link.Dev),
		Values: catalogue.Values{"client": client, "router": router.String(), "addr": t.Target.Addr.String()},
	}
	if f.Link.State != "failed" && f.Link.State != "incomplete" {
		r.Strength = gate.Inferred // it was gone from the table, or has come back
	}
	return r, true
}

// notOnLink reads a server that is up and has the address, and for which nobody answers on
// the link where this client looks for it: they are on different links, or something
// between them keeps the question back.
func notOnLink(v *scene.Scene, t *scene.Try, f *fact.Fact) (gate.Reading, bool) {
	// How IPv6 finds its neighbours is evaluated in the tables of both ends.
	if t.Server == "" || f.Link == nil || !t.Target.Addr.Unmap().Is4() || f.Order.Target.Addr != t.Target.Addr ||
		routerOf(v, t).IsValid() {
		return gate.Reading{}, false
	}
	client, server := v.Host(v.Client), v.Host(t.Server)
	return gate.Reading{
		Gate: gate.Way, Cause: "rules/neighbour-silent", Shows: []gate.Symptom{gate.NeighbourSilent},
		Strength: gate.Inferred, Because: append(scene.FactIDs(f), t.Climb.IDs()...), Vantage: v.Client,
		Summary: fmt.Sprintf("%s looks for %s on its own link %s, where nobody answers for it; %s has it, and is up",
			client, t.Target.Addr, f.Link.Dev, server),
		Values: catalogue.Values{"client": client, "addr": t.Target.Addr.String(), "link": f.Link.Dev},
	}, true
}

// routeReading reads a route that leads nowhere.
func routeReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	for _, f := range v.Facts(v.Client, fact.LookRoute) {
		if f.Route == nil || f.Route.Outcome == "found" || f.Order.Target.Addr != t.Target.Addr {
			continue
		}
		entry := f.Route.Entry
		text := fmt.Sprintf("%s has no route to %s", v.Host(v.Client), t.Target.Addr)
		if entry != "" && entry != "none" {
			text = fmt.Sprintf("the route %q on %s leads nowhere", entry, v.Host(v.Client))
		} else {
			entry = ""
		}
		r := gate.Reading{
			Gate: gate.WayOut, Cause: "rules/no-route", Strength: gate.Read, Shows: []gate.Symptom{gate.NoRouteHere},
			Because: scene.FactIDs(f), Vantage: v.Client, Summary: text,
			Values: catalogue.Values{"client": v.Host(v.Client), "addr": t.Target.Addr.String(), "entry": entry},
		}
		if entry == "" {
			r.Values["absent"] = "yes"
		}
		return r, true
	}
	return gate.Reading{}, false
}

func refusedBetween(v *scene.Scene, t *scene.Try) gate.Reading {
	m := t.Climb.Connect.Connect.ICMP
	says, ok := icmpNames[m.Version][m.Code]
	if !ok {
		says = fmt.Sprintf("ICMP code %d", m.Code)
	}
	r := gate.Reading{
		Gate: gate.Way, Cause: "rules/transit-reject",
		Strength: gate.Read, Because: scene.FactIDs(t.Climb.Connect), Vantage: v.Client,
		Summary: fmt.Sprintf("%s, which is neither end, refuses it (%s)", m.From, says),
		Values: catalogue.Values{"hop": m.From.String(), "client": v.Host(v.Client), "addr": t.Target.Addr.String(),
			"port": fmt.Sprint(t.Target.Port), "transport": v.Ask.Endpoint.Transport},
	}
	if v.ServerOf(m.From) != "" {
		r.Lacks = []gate.Lack{{Guard: gate.OneMeaning, Why: "the sender is another address of the server"}}
	}
	return r
}
