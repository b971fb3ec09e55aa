package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// stalls has a connection watched that is there and on which nothing comes back, where
// the server has nothing that waits for it: large packets may be lost, or something on
// the way took it in the server's name.
func stalls(v *scene.Scene, w *scene.Wants, t *scene.Try) {
	if _, ok := largePackets(v, &scene.Wants{}, t); ok {
		watchFlow(v, w, t, fact.TryLarge, fact.WatchLarge)
	} else if t.Symptom == gate.ServerFirstSilent && !waits(v, t) || triedSmall(v, t) {
		watchFlow(v, w, t, fact.TryOpening, fact.WatchOpening)
	}
}

// waits reports whether the server has connections that its program did not take yet, or
// nobody looked.
func waits(v *scene.Scene, t *scene.Try) bool {
	later := v.ListenersLater(t)
	return later == nil || slices.ContainsFunc(later, func(l fact.Listener) bool { return l.Queue > 0 })
}

// triedSmall reports whether small segments were tried in vain.
func triedSmall(v *scene.Scene, t *scene.Try) bool {
	small := t.Target
	small.Small = true
	_, ok := v.ClimbAt(v.Client, small)
	return ok
}

// AnsweredBetween reports whether links showed that the client's connection was made by
// something that is not the server: an answer came to the client that did not leave it.
func AnsweredBetween(v *scene.Scene, t *scene.Try) bool {
	if t.Server == "" || t.Symptom != gate.ClientFirstSilent && t.Symptom != gate.ServerFirstSilent {
		return false
	}
	f, ok := seenFlow(v, t, fact.TryOpening, fact.WatchOpening)
	return ok && f.between() != "" && len(f.missed(f.server, f.together())) == 0
}

// between says that something answered the opening in the server's name; "" if the server
// sent an answer of its own, which whatever answers for it may have taken.
func (f flow) between() string {
	back, sent := f.client.first(false, f.answers), f.server.first(true, f.answers)
	if f.left == nil || back == nil || sent != nil || f.hidden(f.server) {
		return ""
	}
	return fmt.Sprintf("; something between answers it in the name of %s, with %d hops left",
		f.v.Host(f.t.Server), back.Hops)
}

// large adds to a reading of an exchange that works in small packets where those of
// nearly full size end.
func (f flow) large(r gate.Reading) gate.Reading {
	var ends []netip.AddrPort // the client's, as each host sees it
	for _, h := range f.hosts() {
		for _, s := range h.p.Segments {
			if f.opens(s) {
				ends = append(ends, s.From)
			}
		}
	}
	mine := func(s fact.Segment) bool {
		return s.Large() && (slices.Contains(ends, s.From) || slices.Contains(ends, s.To))
	}
	for _, leg := range []struct {
		from, to watched
	}{{f.server, f.client}, {f.client, f.server}} {
		sent, came := leg.from.first(true, mine), leg.to.first(false, mine)
		if sent == nil || came != nil || f.hidden(leg.to) {
			continue
		}
		r.Because = gate.Union(r.Because, f.reading(r.Gate, r.Cause, "").Because)
		r.Summary = fmt.Sprintf("it gets on in small segments; in usual ones %d bytes left %s by %s and did not "+
			"come to %s%s%s",
			sent.Length, f.v.Host(leg.from.at.ID), sent.Link, f.v.Host(leg.to.at.ID), f.where(mine), f.tooLarge())
		if at := f.stuck(mine); at != "" {
			r.Values["at"] = at
		}
		return r
	}
	return r
}

// tooLarge says who told the sender to send less, if anybody did (RFC 1191, RFC 8201).
func (f flow) tooLarge() string {
	var parts []string
	for _, h := range f.hosts() {
		for _, e := range h.p.Errors {
			six := e.From.Is6() && !e.From.Is4In6()
			if six && e.Type != 2 || !six && (e.Type != 3 || e.Code != 4) {
				continue
			}
			way := "came to"
			if e.Out {
				way = "left"
			}
			if part := fmt.Sprintf("%s's word that it is too large %s %s", e.From, way,
				f.v.Host(h.at.ID)); !slices.Contains(parts, part) {
				parts = append(parts, part)
			}
		}
	}
	if len(parts) == 0 {
		return "; nobody's word that it is too large was seen"
	}
	return "; " + strings.Join(parts, ", ")
}

// damaged reads openings and answers that come with a wrong checksum, and that no kernel
// takes: what changed them on the way did not correct them.
func (f flow) damaged() (gate.Reading, bool) {
	for _, leg := range []struct {
		at    watched
		holds func(fact.Segment) bool
		gate  gate.Gate
		what  string
	}{{f.server, f.opens, gate.Way, "the opening"}, {f.client, f.answers, gate.WayBack, "the answer"}} {
		came := 0
		broken := leg.at.first(false, func(s fact.Segment) bool { return leg.holds(s) && s.Damaged })
		for _, s := range leg.at.p.Segments {
			if !s.Out && leg.holds(s) && !s.Damaged {
				came++
			}
		}
		if broken == nil || came > 0 {
			continue
		}
		r := f.reading(leg.gate, "rules/checksum-broken", fmt.Sprintf(
			"%s came to %s by %s with a wrong checksum, and its kernel drops such packets%s",
			leg.what, f.v.Host(leg.at.at.ID), broken.Link, f.where(leg.holds),
		))
		r.Vantage, r.Values["at"], r.Values["link"] = leg.at.at.ID, f.v.Host(leg.at.at.ID), broken.Link
		return r, true
	}
	return gate.Reading{}, false
}

// twoAnswer reads that two machines answered for the target's address while it was
// tried: each client that asked took one of them.
func (f flow) twoAnswer() (gate.Reading, bool) {
	for _, h := range append([]watched{f.client}, f.gateways...) {
		for _, n := range h.p.Asked {
			if n.Addr != f.t.Target.Addr.Unmap().WithZone("") || len(n.By) < 2 {
				continue
			}
			r := f.reading(gate.Host, "service/address-twice", fmt.Sprintf(
				"%d machines answered for %s on the link %s of %s while it was tried: %s",
				len(n.By), n.Addr, n.Link, f.v.Host(h.at.ID), strings.Join(n.By, ", "),
			))
			r.Vantage = h.at.ID
			_, own := f.v.Addresses(f.t.Server)
			if own == nil || len(own.MACs) == 0 || !slices.ContainsFunc(n.By,
				func(mac string) bool { return !slices.Contains(own.MACs, mac) }) {
				r.Lacks = append(r.Lacks, gate.Lack{
					Guard: gate.OneMeaning, Why: "one machine with two links there answers so, too",
				})
			}
			return r, true
		}
	}
	return gate.Reading{}, false
}
