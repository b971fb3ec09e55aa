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

// unanswered is the symptoms of an address for which nobody answers on a link: the
// client's own, or that of a router before the server.
var unanswered = []gate.Symptom{gate.NeighbourSilent, gate.UnreachableFrom}

// NeighbourReadings evaluates the tables of both ends for the messages by which IPv6
// finds a machine on a link (RFC 4861 section 7.2). A filter that drops them makes a
// machine silent that would answer; IPv4 asks by ARP, which those tables do not see.
func NeighbourReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	to := t.Target.Addr.Unmap().WithZone("")
	if !slices.Contains(unanswered, t.Symptom) || !to.Is6() || v.OnSame(t) {
		return nil
	}
	seats := slices.DeleteFunc(seats(v, w, t), func(at fact.Vantage) bool {
		// It is the neighbour of the server that asks: the client only on one link with it.
		return at.Role == fact.Gateway || at.Role == fact.Client && t.Symptom != gate.NeighbourSilent
	})
	for _, at := range seats {
		for _, look := range []fact.Kind{fact.LookTables, fact.LookBarriers, fact.LookRoutes} {
			w.Add(scene.Want{Look: look, At: at.Role, On: at.ID, Gate: gate.Way})
		}
	}
	source, _, _ := v.Source(t)
	if !source.IsValid() {
		source = soleAddress(v, t.Target.Addr)
	}
	if !source.IsValid() {
		return nil
	}
	var list []gate.Reading
	for _, at := range hostsOnWay(v, t, seats) {
		if !at.read {
			continue
		}
		asks := filter.Packet{Proto: filter.ICMPv6, ICMPType: filter.Solicits, From: source, To: to}
		asks.AnySource = at.role == fact.Server // a router asks by an address of its own
		trip := filter.Travel(asks, []filter.Hop{{Host: at.host, In: arrivals(v, t, at, asks)[0]}})
		for _, leg := range []struct {
			what string
			walk filter.Walk
		}{{"the question who has " + to.String(), trip.Request}, {"its answer", trip.Reply}} {
			walk := leg.walk
			if walk.Verdict != filter.Drops && walk.Verdict != filter.Rejects {
				continue
			}
			step := walk.Steps[walk.Blocks[0]]
			if step.Chain == nil {
				continue // of routes, which neighbours do not need
			}
			r := gate.Reading{
				Gate: gate.Way, Cause: "rules/neighbour-silent", Shows: unanswered, Vantage: at.vantage,
				Because: tableIDs(v, at.vantage),
				Values:  v.Place(t, catalogue.Values{"at": v.Host(at.vantage), "addr": to.String()}),
				Summary: fmt.Sprintf("%s drops %s: %s", v.Host(at.vantage), leg.what, RulePlace(step)),
			}
			mend(v, &r, at, step)
			r.Values["opens"] = "neighbour discovery, and nothing else"
			if at.why != "" {
				r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead, Why: at.why})
			}
			list = append(list, r)
			break
		}
	}
	return list
}
