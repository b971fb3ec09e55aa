package rules

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// watched is one host that saw the flow on its links.
type watched struct {
	at fact.Vantage
	f  *fact.Fact
	p  *fact.Packets
}

// first is the first segment that some condition holds for; nil for none.
func (w watched) first(out bool, holds func(fact.Segment) bool) *fact.Segment {
	at := slices.IndexFunc(w.p.Segments, func(s fact.Segment) bool { return s.Out == out && holds(s) })
	if at < 0 {
		return nil
	}
	return &w.p.Segments[at]
}

// PacketReadings reads where a packet ends, by what the links of both ends and
// of the gateways showed while the client tried. It is for what no table tells.
func PacketReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	stalled := t.Symptom == gate.ClientFirstSilent || t.Symptom == gate.ServerFirstSilent
	silent := t.Symptom == gate.SilentTCP || t.Symptom == gate.AnsweredBetween
	reset := t.Symptom == gate.RefusedByReset && len(v.Taking(t)) > 0
	if !silent && !reset && !stalled || t.Server == "" || v.OnSame(t) {
		return nil
	}
	for _, at := range v.Set.Vantages {
		if at.Means == fact.Record && (at.ID == v.Client || at.ID == t.Server) {
			return nil // nobody can watch there now
		}
	}
	if len(v.Facts(v.Client, fact.LookTables)) == 0 || len(v.Facts(t.Server, fact.LookTables)) == 0 {
		return nil // what is written comes first: it costs no try
	}
	if stalled {
		stalls(v, w, t)
		return nil
	}
	if told(v, t) {
		return nil
	}
	f, ok := watchFlow(v, w, t, fact.TryOpening, fact.WatchOpening)
	switch {
	case !ok:
		return nil
	case silent:
		return f.silent()
	}
	return f.reset()
}

// watchFlow wants both ends and the gateways to be watched while the client tries, and
// gives what they saw.
func watchFlow(v *scene.Scene, w *scene.Wants, t *scene.Try, tries, watches string) (flow, bool) {
	w.Add(
		scene.Want{Look: fact.LookPackets, At: fact.Client, Target: packetTarget(t, tries), Gate: gate.Way},
		scene.Want{Look: fact.LookPackets, At: fact.Server, On: t.Server, Target: packetTarget(t, watches),
			Gate: gate.Way},
	)
	for _, at := range v.Set.Vantages {
		if at.Role == fact.Gateway && at.Means != fact.Record && at.ID != t.Server {
			w.Add(scene.Want{
				Look: fact.LookPackets, At: fact.Gateway, On: at.ID, Target: packetTarget(t, watches), Gate: gate.Way,
			})
		}
	}
	return seenFlow(v, t, tries, watches)
}

// packetTarget is the target of a look at packets. Who speaks as a client would needs
// all of it.
func packetTarget(t *scene.Try, does string) fact.Target {
	target := fact.Target{Addr: t.Target.Addr, Port: t.Target.Port}
	if does == fact.TryLarge {
		target = t.Target
	}
	target.Watch = does
	return target
}

// seenFlow is what was seen of a try, if both ends saw it.
func seenFlow(v *scene.Scene, t *scene.Try, tries, watches string) (flow, bool) {
	client, ok := watchedAt(v, v.Client, packetTarget(t, tries))
	server, ok2 := watchedAt(v, t.Server, packetTarget(t, watches))
	if !ok || !ok2 {
		return flow{}, false
	}
	var gateways []watched
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Gateway || at.ID == t.Server {
			continue
		}
		if seen, ok := watchedAt(v, at.ID, packetTarget(t, watches)); ok {
			gateways = append(gateways, seen)
		}
	}
	return newFlow(v, t, client, server, gateways), true
}

func watchedAt(v *scene.Scene, id string, target fact.Target) (watched, bool) {
	for _, f := range v.Facts(id, fact.LookPackets) {
		if f.Packets != nil && f.Order.Target == target {
			return watched{v.Vantage(id), f, f.Packets}, true
		}
	}
	return watched{}, false
}

// flow is the client's tries at one target as they were seen on links. It is
// known by the numbers that its openings begin with, whatever addresses and ports
// a translation gives it.
type flow struct {
	v              *scene.Scene
	t              *scene.Try
	client, server watched
	gateways       []watched
	left           *fact.Segment    // the first opening that left the client
	begins         []uint32         // the sequence numbers of its openings
	from           []netip.AddrPort // and where they came from
}

func newFlow(v *scene.Scene, t *scene.Try, client, server watched, gateways []watched) flow {
	f := flow{v: v, t: t, client: client, server: server, gateways: gateways}
	for i, s := range client.p.Segments {
		if !s.Out || !s.Opens() || s.To != netip.AddrPortFrom(t.Target.Addr, t.Target.Port) {
			continue
		}
		if f.left == nil {
			f.left = &client.p.Segments[i]
		}
		f.begins, f.from = append(f.begins, s.Sequence), append(f.from, s.From)
	}
	return f
}

// hosts is all that watched, from the client to the server.
func (f flow) hosts() []watched {
	return append(append([]watched{f.client}, f.gateways...), f.server)
}

// arrivedFrom is the address that the client's opening came to the server from, if
// the links of both were watched: a translation on the way may have changed it.
func arrivedFrom(v *scene.Scene, t *scene.Try) (netip.Addr, bool) {
	f, ok := seenFlow(v, t, fact.TryOpening, fact.WatchOpening)
	if !ok {
		return netip.Addr{}, false
	}
	if came := f.server.first(false, f.opens); f.left != nil && came != nil {
		return came.From.Addr(), true
	}
	return netip.Addr{}, false
}

// opens, answers and resets report whether a segment belongs to the flow.
func (f flow) opens(s fact.Segment) bool {
	return s.Opens() && (slices.Contains(f.begins, s.Sequence) || slices.Contains(f.from, s.From))
}

func (f flow) answers(s fact.Segment) bool {
	return s.Answers() && (slices.Contains(f.begins, s.Acknowledged-1) || slices.Contains(f.from, s.To))
}

func (f flow) resets(s fact.Segment) bool {
	return s.Resets() && (slices.Contains(f.begins, s.Acknowledged-1) || slices.Contains(f.from, s.To))
}

// told reports whether a rule or a route that was read tells what stops it: it
// names what is to be changed, which no packet does.
func told(v *scene.Scene, t *scene.Try) bool {
	read := append(FilterReadings(v, &scene.Wants{}, t), WayInReadings(v, &scene.Wants{}, t)...)
	return slices.ContainsFunc(read, func(r gate.Reading) bool {
		return r.Cause != "" && r.Strength == gate.Read && len(r.Lacks) == 0
	})
}

// reading begins a reading of the flow.
func (f flow) reading(g gate.Gate, cause, summary string) gate.Reading {
	because := scene.FactIDs(f.client.f, f.server.f)
	for _, each := range f.gateways {
		because = gate.Union(because, scene.FactIDs(each.f))
	}
	return gate.Reading{
		Gate: g, Cause: cause, Strength: gate.Read, Because: because, Vantage: f.v.Client, Summary: summary,
		Shows:  []gate.Symptom{gate.SilentTCP, gate.RefusedByReset},
		Values: f.v.Place(f.t, catalogue.Values{"at": f.v.Host(f.v.Client)}),
	}
}

// missed is what keeps from being proof that something did not come to a host
// that watched for it: it may have watched at another time, or not have seen all.
func (f flow) missed(at watched, sameTime bool) (lacks []gate.Lack) {
	host := f.v.Host(at.at.ID)
	if !sameTime {
		lacks = append(lacks, gate.Lack{Guard: gate.SameTime,
			Why: "no echo of the client's came to " + host +
				" either while it watched: whether it watched at that time is not known"})
	}
	if at.p.More {
		lacks = append(
			lacks,
			gate.Lack{Guard: gate.SamePacket,
				Why: host + " did not see all packets of this port: there were too many"},
		)
	}
	return lacks
}

// hidden reports whether programs on a host's links may take packets before they
// can be watched: then that none came tells nothing.
func (f flow) hidden(at watched) bool {
	return slices.ContainsFunc(f.v.Facts(at.at.ID, fact.LookBarriers), func(b *fact.Fact) bool {
		return b.Barriers != nil && len(b.Barriers.Programs) > 0
	})
}

// together reports whether the server watched while the client tried: an echo
// that went out beside the try came to it.
func (f flow) together() bool {
	return slices.ContainsFunc(f.server.p.Echoes, func(from netip.Addr) bool {
		return slices.ContainsFunc(f.from, func(own netip.AddrPort) bool { return own.Addr() == from })
	})
}

// silent reads where a packet ends that nobody answers.
func (f flow) silent() []gate.Reading {
	if f.left == nil {
		return nil // it waits for a neighbour, or never left: the client's own tables tell
	}
	if r, ok := f.twoAnswer(); ok {
		return []gate.Reading{r}
	}
	client, server := f.v.Host(f.v.Client), f.v.Host(f.t.Server)
	came := f.server.first(false, f.opens)
	if came == nil && f.hidden(f.server) {
		return nil
	}
	if came == nil {
		r := f.reading(gate.Way, "rules/transit-silent", fmt.Sprintf("it left %s by %s and did not come to %s%s%s",
			client, f.left.Link, server, f.where(f.opens), f.between()))
		r.Lacks = f.missed(f.server, f.together())
		if at := f.stuck(f.opens); at != "" {
			r.Values["at"] = at
		}
		return []gate.Reading{r}
	}
	way := f.reading(
		gate.Way,
		"",
		fmt.Sprintf("it left %s by %s and came to %s by %s", client, f.left.Link, server, came.Link),
	)
	answered, back := f.server.first(true, f.answers), f.client.first(false, f.answers)
	if was, is := f.left.Options, came.Options; was != is && was != "" {
		way.Summary += fmt.Sprintf("; something on the way changed its options from %q to %q", was, is)
	}
	if r, ok := f.damaged(); ok {
		return []gate.Reading{r}
	}
	switch {
	case answered == nil:
		if n := f.unanswered(); n != nil {
			r := f.reading(gate.WayBack, "rules/neighbour-silent", fmt.Sprintf(
				"it came to %s by %s; %s asked for %s on %s %d times and nobody answered, so that no answer of its "+
					"can leave",
				server, came.Link, server, n.Addr, n.Link, n.Times,
			))
			r.Vantage = f.t.Server
			r.Values["at"], r.Values["addr"] = server, n.Addr.String()
			return []gate.Reading{way, r}
		}
		return []gate.Reading{way}
	case back == nil && f.hidden(f.client), f.t.Symptom == gate.AnsweredBetween:
		return []gate.Reading{way}
	case back == nil && f.asymmetric() != "":
		r := f.reading(gate.WayBack, "rules/asymmetric-way", f.asymmetric())
		r.Lacks = f.missed(f.client, true)
		for _, g := range f.gateways {
			r.Lacks = append(r.Lacks, f.missed(g, true)...)
		}
		return []gate.Reading{way, r}
	case back == nil:
		r := f.reading(gate.WayBack, "rules/return-drop",
			fmt.Sprintf("the answer left %s by %s and did not come to %s%s",
				server, answered.Link, client, f.where(f.answers)))
		r.Lacks = f.missed(f.client, true)
		if at := f.stuck(f.answers); at != "" {
			r.Values["at"] = at
		}
		return []gate.Reading{way, r}
	}
	r := f.reading(
		gate.WayBack,
		"rules/return-drop",
		fmt.Sprintf("the answer came to %s by %s, which does not take it", client, back.Link),
	)
	r.Strength = gate.Inferred
	return []gate.Reading{way, r}
}

// unanswered is the neighbour that the server needs for its answer, if it asked for
// it more than once and nobody answered; nil otherwise. The last answer may have come
// after the watch.
func (f flow) unanswered() *fact.AskedNeighbour {
	next := hopsBack(f.v, f.t)
	for i, n := range f.server.p.Asked {
		own := slices.ContainsFunc(f.from, func(from netip.AddrPort) bool { return from.Addr() == n.Addr })
		if !n.Answered && n.Times > 1 && (own || slices.Contains(next, n.Addr)) {
			return &f.server.p.Asked[i]
		}
	}
	return nil
}

// asymmetric says by which gateways the opening and its answer went, if they went by
// different ones and the answer's did not let it through: a filter that did not see
// the connection begin takes its answer for a stray. "" where it was not so.
func (f flow) asymmetric() string {
	forth, back := "", ""
	for _, g := range f.gateways {
		host := f.v.Host(g.at.ID)
		passes := g.first(false, f.opens) != nil && g.first(true, f.opens) != nil
		comes := g.first(false, f.answers)
		switch {
		case passes && comes != nil:
			return "" // it sees both
		case passes:
			forth = host
		case comes != nil && g.first(true, f.answers) == nil && g.first(false, f.opens) == nil && !f.hidden(g):
			back = host
		}
	}
	if forth == "" || back == "" {
		return ""
	}
	return fmt.Sprintf("the opening went through %s, and the answer came to %s, which saw no opening and did not "+
		"pass it on", forth, back)
}

// stuck is the gateway that a packet came to and did not leave; "" if none was seen.
func (f flow) stuck(holds func(fact.Segment) bool) string {
	for _, g := range f.gateways {
		if g.first(false, holds) != nil && g.first(true, holds) == nil && !f.hidden(g) {
			return f.v.Host(g.at.ID)
		}
	}
	return ""
}

// where narrows the place by the gateways that watched too: which it passed, came
// to, or did not come to.
func (f flow) where(holds func(fact.Segment) bool) string {
	var parts []string
	for _, g := range f.gateways {
		host := f.v.Host(g.at.ID)
		in, out := g.first(false, holds), g.first(true, holds)
		switch {
		case in != nil && out != nil:
			parts = append(parts, fmt.Sprintf("it passed %s from %s to %s", host, in.Link, out.Link))
		case in != nil:
			parts = append(parts, fmt.Sprintf("it came to %s by %s and did not leave it", host, in.Link))
		default:
			parts = append(parts, "it was not seen at "+host)
		}
	}
	if len(parts) == 0 {
		return ", while both were watched"
	}
	return "; " + strings.Join(parts, ", ")
}

// reset reads who sent a reset.
func (f flow) reset() []gate.Reading {
	got := f.client.first(false, f.resets)
	if f.left == nil || got == nil {
		return nil
	}
	client, server := f.v.Host(f.v.Client), f.v.Host(f.t.Server)
	came := f.server.first(false, f.opens)
	sent := f.server.first(true, func(s fact.Segment) bool {
		return f.resets(s) || s.Resets() && came != nil && s.To == came.From
	})
	switch {
	case sent != nil:
		return []gate.Reading{f.reading(gate.Way, "", "the reset left "+server+" itself")}
	case came == nil && f.hidden(f.server):
		return nil
	case came == nil:
		r := f.reading(gate.Way, "rules/transit-reject", fmt.Sprintf(
			"it left %s and did not come to %s: the reset, with %d hops left, is of something between%s",
			client,
			server,
			got.Hops,
			f.where(f.opens),
		))
		r.Lacks = f.missed(f.server, f.together())
		return []gate.Reading{r}
	}
	r := f.reading(gate.Way, "rules/reset-injected", fmt.Sprintf(
		"it came to %s, which sent no reset, and one with %d hops left came to %s: something between sent it",
		server,
		got.Hops,
		client,
	))
	r.Lacks = f.missed(f.server, true)
	return []gate.Reading{r}
}

// mostSightings bounds how many kinds of packets are told of a flow.
const mostSightings = 8

// Sightings is what each host saw of the client's tries on its links, by the kind of
// packet, in the order in which the client or the first host that saw it did; none,
// where the links were not watched.
func Sightings(v *scene.Scene, t *scene.Try) []trail.Sighting {
	f, ok := seenFlow(v, t, fact.TryLarge, fact.WatchLarge)
	if !ok {
		if f, ok = seenFlow(v, t, fact.TryOpening, fact.WatchOpening); !ok {
			return nil
		}
	}
	hosts := f.hosts()
	var list []trail.Sighting
	note := func(i int, packet, how string) {
		at := slices.IndexFunc(list, func(s trail.Sighting) bool { return s.Packet == packet })
		if at < 0 {
			if len(list) == mostSightings {
				return
			}
			at = len(list)
			s := trail.Sighting{Packet: packet}
			for _, h := range hosts {
				s.Seen = append(s.Seen, trail.SeenOnLink{Host: v.Host(h.at.ID)})
			}
			list = append(list, s)
		}
		seen := &list[at].Seen[i]
		if seen.Times++; !slices.Contains(seen.How, how) {
			seen.How = append(seen.How, how)
		}
	}
	way := func(out bool, link string) string {
		if out {
			return "out " + link
		}
		return "in " + link
	}
	for _, kind := range []string{"SYN", "SYN ACK"} { // the order of a connection
		for i, h := range hosts {
			for _, s := range h.p.Segments {
				if s.Flags == kind {
					note(i, kind, way(s.Out, s.Link))
				}
			}
		}
	}
	for i, h := range hosts {
		for _, s := range h.p.Segments {
			switch {
			case s.Resets():
				note(i, "RST", way(s.Out, s.Link))
			case s.Large():
				note(i, "of nearly full size", way(s.Out, s.Link))
			}
		}
		for _, e := range h.p.Errors {
			note(i, fmt.Sprintf("ICMP %d/%d of %s", e.Type, e.Code, e.From), way(e.Out, e.Link))
		}
		for _, n := range h.p.Asked {
			if !n.Answered && n.Addr != t.Target.Addr { // its own: whether another has it too was asked
				note(i, "who has "+n.Addr.String(), way(true, n.Link)+", unanswered")
			}
		}
	}
	return list
}
