package weigh

import (
	"fmt"
	"net/netip"

	"uakari/internal/fact"
)

// wayInReadings reads what stops a packet at the server beside its filter
// tables: a full state table, the unit's own address list, and a reply that
// has no way back.
func (v *view) wayInReadings(w *wants, t *try) []Reading {
	if t.server == "" || !t.symptom.silent() {
		return nil
	}
	w.add(Want{Look: fact.LookBarriers, At: fact.Server, On: t.server, Gate: WayIn})
	var readings []Reading
	for _, f := range v.facts(t.server, fact.LookBarriers) {
		if b := f.Barriers; b != nil && b.TrackMax > 0 && b.Tracked >= b.TrackMax {
			readings = append(readings, Reading{
				Gate: WayIn, Cause: "rules/state-table-full", Because: factIDs(f), Vantage: t.server, Shows: []Symptom{SilentTCP},
				Summary: fmt.Sprintf("the table of tracked connections of %s is full: %d of %d", v.host(t.server), b.Tracked, b.TrackMax),
				Values:  v.place(t, values{"limit": fmt.Sprint(b.TrackMax), "more": fmt.Sprint(2 * b.TrackMax)}),
			})
		}
	}
	source, direct, from := v.source(t)
	if !source.IsValid() {
		return readings
	}
	var short []string
	if !direct {
		short = []string{"a translation on the way may show the server another address than " + source.String()}
	}
	if r, ok := v.unitList(t, source, short); ok {
		readings = append(readings, r)
	}
	if r, ok := v.wayBack(w, t, source, short); ok {
		r.Because = append(r.Because, from)
		readings = append(readings, r)
	}
	return readings
}

// source is the address that the client's packets to the target come from,
// whether they go there without a router, and the fact that says so.
func (v *view) source(t *try) (addr netip.Addr, direct bool, id string) {
	for _, f := range v.facts(v.client, fact.LookRoute) {
		if f.Route != nil && f.Route.Outcome == "found" && f.Order.Target.Addr == t.target.Addr {
			return f.Route.Source, !f.Route.Via.IsValid(), f.ID
		}
	}
	return netip.Addr{}, false, ""
}

// unitList reads the service's own address list (systemd.resource-control(5)):
// a source that is denied and not allowed is dropped.
func (v *view) unitList(t *try, source netip.Addr, short []string) (Reading, bool) {
	f, s := v.service(t.server)
	if s == nil {
		return Reading{}, false
	}
	p, _ := v.chosen(s.Programs)
	if p == nil || mainUnit(p) == nil {
		return Reading{}, false
	}
	u := mainUnit(p)
	denied := covering(u.Denies, source)
	if denied == "" || covering(u.Allows, source) != "" {
		return Reading{}, false
	}
	if denied == "0.0.0.0/0" || denied == "::/0" {
		short = nil // any source is denied that is not allowed by name
		if len(u.Allows) > 0 {
			short = []string{"the server may see another address, which the list allows"}
		}
	}
	return Reading{
		Gate: WayIn, Cause: "rules/unit-list", Because: factIDs(f), Vantage: t.server, Shows: []Symptom{SilentTCP}, Short: short,
		Summary: fmt.Sprintf("%s has an address list of its own, and %s denies %s", u.Name, denied, source),
		Values:  v.place(t, values{"unit": u.Name, "source": source.String()}),
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
func (v *view) wayBack(w *wants, t *try, source netip.Addr, short []string) (Reading, bool) {
	w.add(Want{Look: fact.LookRoute, At: fact.Server, On: t.server, Target: fact.Target{Addr: source}, Gate: WayBack})
	for _, f := range v.facts(t.server, fact.LookRoute) {
		r := f.Route
		if r == nil || r.Outcome == "found" || f.Order.Target.Addr != source {
			continue
		}
		text := fmt.Sprintf("%s has no route back to %s", v.host(t.server), source)
		values := v.place(t, values{"source": source.String(), "entry": r.Entry})
		if r.Entry == "none" {
			values["entry"] = ""
		} else if r.Entry != "" {
			text = fmt.Sprintf("the route %q on %s leads nowhere: no reply gets back to %s", r.Entry, v.host(t.server), source)
		}
		return Reading{Gate: WayBack, Cause: "rules/no-return-route", Because: factIDs(f), Vantage: t.server, Shows: []Symptom{SilentTCP},
			Short: short, Summary: text, Values: values}, true
	}
	return Reading{}, false
}
