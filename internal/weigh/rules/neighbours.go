package rules

import (
	"fmt"
	"net/netip"
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
		source = v.SoleAddress(t.Target.Addr)
	}
	if !source.IsValid() {
		return nil
	}
	var list []gate.Reading
	for _, at := range hostsOnWay(v, t, seats) {
		if !at.read {
			continue
		}
		for _, leg := range messages(at, t, to, source) {
			walk := filter.Request(leg.packet, []filter.Hop{{Host: at.host, In: leg.in(v, t, at, to)}})
			if walk.Verdict != filter.Drops && walk.Verdict != filter.Rejects {
				continue
			}
			step := walk.Steps[walk.Blocks[0]]
			if step.Chain == nil {
				continue // of routes, which neighbours do not need
			}
			r := gate.Reading{
				Gate: gate.Way, Cause: "rules/neighbour-silent",
				Strength: gate.Read, Shows: unanswered, Vantage: at.vantage,
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

// message is one of those by which a machine is found, as a host sees it.
type message struct {
	what    string
	packet  filter.Packet
	arrives bool
}

// in is the link by which it arrives; "" for one that the host sends.
func (m message) in(v *scene.Scene, t *scene.Try, at standing, to netip.Addr) string {
	if !m.arrives {
		return ""
	}
	p := m.packet
	if p.To.IsMulticast() { // it comes by the link of the address that it asks for
		p.To = to
	}
	return arrivals(v, t, at, p)[0]
}

// messages is what a host has to let through for the server to be found: the question
// goes to a group (RFC 4861 section 4.3), whose number is made of the address.
func messages(at standing, t *scene.Try, to, source netip.Addr) []message {
	group := netip.MustParseAddr("ff02::1:ff00:0").As16()
	last := to.As16()
	copy(group[13:], last[13:])
	asks := filter.Packet{
		Proto: filter.ICMPv6, ICMPType: filter.Solicits, From: source, To: netip.AddrFrom16(group),
		AnySource: at.role == fact.Server,
	}
	answers := filter.Packet{Proto: filter.ICMPv6, ICMPType: filter.Advertises, From: to, To: source}
	question := message{"the question who has " + to.String(), asks, at.role == fact.Server}
	answer := message{"its answer", answers, at.role == fact.Client}
	if t.Symptom != gate.NeighbourSilent {
		return []message{question} // a router asks, whose address the answer goes to
	}
	return []message{question, answer}
}
