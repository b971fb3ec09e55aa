package weigh

import (
	"fmt"
	"slices"

	"uakari/internal/fact"
)

// ruleReadings reads the ways out, between and in.
func (v *view) ruleReadings(w *wants, t *try) []Reading {
	var readings []Reading
	if v.onSame(t) {
		readings = append(readings, Reading{Gate: Way, Vantage: v.client, Summary: "both ends are this host"})
	}
	if t.symptom.silent() || t.symptom == NoRouteHere || t.symptom == NeighbourSilent {
		w.add(Want{Look: fact.LookRoute, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: WayOut})
		if r, ok := v.routeReading(t); ok {
			readings = append(readings, r)
		}
	}
	if t.symptom.silent() && !v.onSame(t) {
		w.add(Want{Look: fact.LookHops, At: fact.Client, Target: fact.Target{Addr: t.target.Addr, Port: t.target.Port, Scheme: t.target.Scheme}, Gate: Way})
	}
	if t.symptom == NeighbourSilent {
		w.add(Want{Look: fact.LookLink, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: Way})
		for _, f := range v.facts(v.client, fact.LookLink) {
			if f.Link != nil && f.Order.Target.Addr == t.target.Addr && len(f.Link.Answer) > 0 {
				readings = append(readings, Reading{Gate: Way, Because: factIDs(f), Vantage: v.client,
					Summary: fmt.Sprintf("the link %s works: %s answers on it", f.Link.Dev, f.Link.Answer[0])})
			}
		}
	}
	if r, ok := v.largePackets(w, t); ok {
		readings = append(readings, r)
	}
	if t.symptom == RefusedByReset && t.server == "" && !v.onSame(t) {
		w.add(Want{Look: fact.LookReset, At: fact.Client, Target: fact.Target{Addr: t.target.Addr, Port: t.target.Port}, Gate: Way},
			Want{Look: fact.LookEcho, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: Way})
	}
	if t.symptom == NoPortHere {
		r := Reading{Gate: WayOut, Cause: "ports/client-exhausted", Because: t.climb.ids(), Vantage: v.client, Values: v.place(t, values{}),
			Summary: fmt.Sprintf("the kernel of %s has no local port left to come from", v.host(v.client))}
		if _, own := v.addresses(v.client); own == nil || !v.hasFamily(t.target.Addr.Is6()) {
			r.Short = []string{"it says the same where a host has no address of this family"}
		}
		readings = append(readings, r)
	}
	if t.symptom == ICMPFromElsewhere {
		readings = append(readings, v.refusedBetween(t))
	}
	return readings
}

// largePackets tries a connection that stalled once more in small segments: if
// that gets on, the large ones are lost on the way.
func (v *view) largePackets(w *wants, t *try) (Reading, bool) {
	if t.symptom != ClientFirstSilent || v.onSame(t) || v.scheme.UDP {
		return Reading{}, false
	}
	// A service that takes nobody is full all the sooner for one more try.
	if t.server != "" {
		later := v.listenersLater(t)
		if later == nil && v.vantage(t.server).Means != fact.Record || slices.ContainsFunc(later, func(l fact.Listener) bool { return l.Queue > 0 }) {
			return Reading{}, false
		}
	}
	small := t.target
	small.Small = true
	w.add(Want{Look: fact.LookSession, At: fact.Client, Target: small, Gate: Way})
	c, ok := v.climbs[seat{v.client, small}]
	if !ok || c.symptom(v.own()).progress() <= t.symptom.progress() {
		return Reading{}, false
	}
	return Reading{Gate: Way, Cause: "rules/large-packets-lost", Because: append(t.climb.ids(), c.ids()...), Vantage: v.client,
		Summary: fmt.Sprintf("it stalls as usual and gets on in small segments: packets of full size to or from %s are lost on the way", t.target.Addr),
		Values:  v.place(t, values{})}, true
}

// sentBy hints who sent a reset, by the hop limit with which it comes and the
// one of an echo reply: the same machine mostly begins with the same, and the
// last router differs by one from the server behind it.
func (v *view) sentBy(t *try) (other bool, text, id string) {
	for _, reset := range v.facts(v.client, fact.LookReset) {
		if reset.Reset == nil || reset.Order.Target.Addr != t.target.Addr || reset.Order.Target.Port != t.target.Port {
			continue
		}
		for _, echo := range v.facts(v.client, fact.LookEcho) {
			if echo.Echo == nil || echo.Echo.Left == 0 || echo.Order.Target.Addr != t.target.Addr {
				continue
			}
			if a, b := reset.Reset.Left, echo.Echo.Left; a != b {
				return true, fmt.Sprintf("; the refusal comes with %d hops left and an echo reply with %d, as if two machines sent them", a, b), reset.ID
			}
			return false, fmt.Sprintf("; the refusal and an echo reply both come with %d hops left, as from one machine", reset.Reset.Left), reset.ID
		}
	}
	return false, "", ""
}

// diesAfter says how far the client's silent packets get; "" where no router
// says anything.
func (v *view) diesAfter(t *try) (text, id string) {
	for _, f := range v.facts(v.client, fact.LookHops) {
		if f.Hops == nil || f.Order.Target.Addr != t.target.Addr || f.Order.Target.Port != t.target.Port {
			continue
		}
		if last := f.Hops.Last(); last > 0 {
			return fmt.Sprintf("; it dies after hop %d, %s", last, f.Hops.Routers[last-1]), f.ID
		}
	}
	return "", ""
}

// routeReading reads a route that leads nowhere.
func (v *view) routeReading(t *try) (Reading, bool) {
	for _, f := range v.facts(v.client, fact.LookRoute) {
		if f.Route == nil || f.Route.Outcome == "found" || f.Order.Target.Addr != t.target.Addr {
			continue
		}
		entry := f.Route.Entry
		text := fmt.Sprintf("%s has no route to %s", v.host(v.client), t.target.Addr)
		if entry != "" && entry != "none" {
			text = fmt.Sprintf("the route %q on %s leads nowhere", entry, v.host(v.client))
		} else {
			entry = ""
		}
		r := Reading{
			Gate: WayOut, Cause: "rules/no-route", Shows: []Symptom{NoRouteHere}, Because: factIDs(f), Vantage: v.client, Summary: text,
			Values: values{"client": v.host(v.client), "addr": t.target.Addr.String(), "entry": entry},
		}
		if entry == "" {
			r.Values["absent"] = "yes"
		}
		return r, true
	}
	return Reading{}, false
}

// icmpNames says what an ICMP refusal says (RFC 792, RFC 1812 section
// 5.2.7.1, RFC 4443 section 3.1).
var icmpNames = map[int]map[uint8]string{
	4: {2: "protocol unreachable", 3: "port unreachable", 9: "network prohibited", 10: "host prohibited", 13: "prohibited by filter"},
	6: {1: "prohibited by filter", 4: "port unreachable", 5: "source refused", 6: "route refused"},
}

func (v *view) refusedBetween(t *try) Reading {
	m := t.climb.connect.Connect.ICMP
	says, ok := icmpNames[m.Version][m.Code]
	if !ok {
		says = fmt.Sprintf("ICMP code %d", m.Code)
	}
	r := Reading{
		Gate: Way, Cause: "rules/transit-reject", Because: factIDs(t.climb.connect), Vantage: v.client,
		Summary: fmt.Sprintf("%s, which is neither end, refuses it (%s)", m.From, says),
		Values: values{"hop": m.From.String(), "client": v.host(v.client), "addr": t.target.Addr.String(),
			"port": fmt.Sprint(t.target.Port), "transport": v.ask.Endpoint.Transport},
	}
	if v.serverOf(m.From) != "" {
		r.Short = []string{"the sender is another address of the server"}
	}
	return r
}
