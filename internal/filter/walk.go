package filter

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Hop is one host on a packet's way and the links it uses there; "" where
// they are to be found out.
type Hop struct {
	Host    *Host
	In, Out string
}

// Verdict is what becomes of a packet.
type Verdict string

const (
	Accepts     Verdict = "accept"
	Drops       Verdict = "drop"
	Rejects     Verdict = "reject"
	Undecidable Verdict = "unknown"
)

// Rewrite is a translation that happened on the way.
type Rewrite struct {
	Host string `json:"host"`
	Kind string `json:"kind"` // "source" or "destination"
	Was  string `json:"was"`
	Now  string `json:"now"`
}

// Walk is one packet's way.
type Walk struct {
	Verdict Verdict
	With    Refusal // of Rejects
	Why     string  // of Undecidable
	// Stateful says that what is not known is state that nobody can read: a
	// rate, the time of day.
	Stateful bool
	Steps    []Step
	Blocks   []int // indexes of the steps that stop it
	Rewrites []Rewrite
	// Last is the packet as it is in the end.
	Last Packet
	// Told is whether the refusal of a rejected packet gets back to the
	// sender.
	Told Tri
	// Refuses is the index of the hop that stops it first; -1: none.
	Refuses int
}

// Trip is a connection's packets: the first, its answer, and those that
// follow.
type Trip struct {
	Request, Reply, Later, LaterReply Walk
}

// Travel takes the first packet of a connection over hosts in turn, then its
// answer back, then a later packet. The packet begins at the first hop if that
// holds its source, and ends at the last if that holds its destination.
func Travel(p Packet, hops []Hop) Trip {
	t := &traveller{hops: hops, fuel: mostFuel}
	start := &state{packet: p}
	flows := make([]*flow, len(hops))
	journeys := []*journey{{s: start, flows: flows}}
	var trip Trip
	journeys, stuck := t.forth(journeys, first)
	trip.Request = t.conclude(journeys, stuck)
	if stuck != "" {
		trip.Reply = Walk{Verdict: Undecidable, Why: stuck, Refuses: -1}
		trip.Later = trip.Reply
		return trip
	}
	if trip.Request.Verdict == Rejects {
		trip.Request.Told = t.told(journeys, trip.Request)
	}
	// A request that is not accepted everywhere is taken as if it were: what
	// would become of the reply is worth knowing.
	journeys = keepAccepted(journeys)
	back := t.turn(journeys)
	back, stuck = t.back(back, answer)
	trip.Reply = t.conclude(back, stuck)
	if stuck != "" {
		trip.Later = Walk{Verdict: Undecidable, Why: stuck, Refuses: -1}
		return trip
	}
	again := t.again(keepAccepted(back), p)
	again, stuck = t.forth(again, later)
	trip.Later = t.conclude(again, stuck)
	if stuck != "" {
		trip.LaterReply = Walk{Verdict: Undecidable, Why: stuck, Refuses: -1}
		return trip
	}
	back = t.turn(keepAccepted(again))
	for _, j := range back {
		if p.Proto == TCP {
			j.s.packet.Flags = ACK
		}
	}
	back, stuck = t.back(back, answer)
	trip.LaterReply = t.conclude(back, stuck)
	return trip
}

// Request takes the first packet of a connection over hosts in turn.
func Request(p Packet, hops []Hop) Walk {
	t := &traveller{hops: hops, fuel: mostFuel}
	list, stuck := t.forth([]*journey{{s: &state{packet: p}, flows: make([]*flow, len(hops))}}, first)
	return t.conclude(list, stuck)
}

// journey is a state with every host's flow.
type journey struct {
	s     *state
	flows []*flow
	hops  []int // the hop that each step happened at
	ended int   // the hop at which the packet arrived
}

type traveller struct {
	hops []Hop
	fuel int
}

// keepAccepted is the journeys that were not stopped, if there are any.
func keepAccepted(list []*journey) []*journey {
	free := slices.DeleteFunc(slices.Clone(list), func(j *journey) bool { return len(j.s.blocks) > 0 })
	if len(free) > 0 {
		return free
	}
	return list[:min(1, len(list))]
}

// forth takes journeys from the first hop to the last.
func (t *traveller) forth(list []*journey, st stage) ([]*journey, string) {
	for i := range t.hops {
		moved, stuck := t.through(list, i, st, false, func(j *journey) bool { return i == 0 && t.starts(j) })
		if list = moved; stuck != "" {
			return list, stuck
		}
	}
	return list, ""
}

// through takes journeys through one hop, and joins those that are alike
// behind it.
func (t *traveller) through(
	list []*journey,
	i int,
	st stage,
	backwards bool,
	sends func(*journey) bool,
) ([]*journey, string) {
	var next []*journey
	for _, j := range list {
		moved, stuck := t.at(j, i, st, sends(j), backwards)
		if stuck != "" {
			return list, stuck
		}
		next = append(next, moved...)
	}
	if next = merge(next); len(next) > mostForks {
		return next[:1], "too many conditions are not known"
	}
	return next, ""
}

// starts reports whether the first hop is the host that sends the packet.
func (t *traveller) starts(j *journey) bool {
	h := t.hops[0]
	if h.In != "" {
		return false
	}
	kind, known := h.Host.kindOf(j.s.packet.From)
	return known && kind == kindLocal && !j.s.packet.AnySource
}

// at takes a journey through one hop.
func (t *traveller) at(j *journey, i int, st stage, sends, backwards bool) ([]*journey, string) {
	hop := t.hops[i]
	h := hop.Host
	if h.Rules == nil && st != refusal {
		why := h.Unread
		if why == "" {
			why = "the tables of " + h.Name + " were not read"
		}
		return nil, why
	}
	s := j.s.clone()
	f := j.flows[i]
	if f == nil {
		f = &flow{original: s.packet}
	}
	s.flow = f.with(func(f *flow) { f.stage = st })
	in, out := linkOf(hop.In), linkOf(hop.Out)
	if backwards {
		in, out = out, in
	}
	var states []*state
	var stuck string
	local := false
	switch {
	case sends && t.itself(h, s.packet.To):
		s.out = port{name: "lo", known: true}
		if states, stuck = h.send(s, &t.fuel); stuck == "" {
			states, stuck = t.overLoopback(h, states)
		}
		local = true
	case sends:
		s.out = out
		states, stuck = h.send(s, &t.fuel)
	default:
		if !in.known {
			in = t.arrival(h, s.packet, in)
		}
		states, local, stuck = h.receive(s, in, &t.fuel)
	}
	if stuck != "" {
		return nil, stuck
	}
	var list []*journey
	for _, each := range states {
		n := &journey{s: each, flows: slices.Clone(j.flows), hops: slices.Clone(j.hops), ended: j.ended}
		if local {
			n.ended = i
		}
		n.flows[i] = each.flow
		for len(n.hops) < len(each.steps) {
			n.hops = append(n.hops, i)
		}
		list = append(list, n)
	}
	return list, ""
}

// overLoopback takes packets that a host sends to itself back in.
func (t *traveller) overLoopback(h *Host, states []*state) ([]*state, string) {
	var all []*state
	for _, s := range states {
		got, _, stuck := h.receive(s, port{name: "lo", known: true}, &t.fuel)
		if stuck != "" {
			return states, stuck
		}
		all = append(all, got...)
	}
	return all, ""
}

func (t *traveller) itself(h *Host, to netip.Addr) bool {
	kind, known := h.kindOf(to)
	return known && kind == kindLocal
}

func linkOf(name string) port {
	if name == "" {
		return port{remote: true}
	}
	return port{name: name, known: true}
}

// arrival is the link by which a packet most likely comes: the one by which
// its source would be answered.
func (t *traveller) arrival(h *Host, p Packet, in port) port {
	if p.AnySource {
		if name, one := h.onlyLink(); one {
			return port{name: name, known: true}
		}
		return in
	}
	if kind, known := h.kindOf(p.From); known && kind == kindLocal && p.From == p.To {
		return port{name: "lo", known: true}
	}
	if name, known := h.outLink(p.From); known && name != "" && name != "lo" {
		return port{name: name, known: true}
	}
	if name, one := h.onlyLink(); one {
		return port{name: name, known: true}
	}
	return in
}

// onlyLink is the host's link, if it has just one beside loopback.
func (h *Host) onlyLink() (string, bool) {
	name := ""
	for _, held := range h.Held {
		if held.Link == "" || held.Link == "lo" || held.Prefix.Addr().IsLoopback() {
			continue
		}
		if name != "" && name != held.Link {
			return "", false
		}
		name = held.Link
	}
	return name, name != ""
}

func through(list []*journey) Tri {
	free, stopped := 0, 0
	for _, j := range list {
		if len(j.s.blocks) > 0 {
			stopped++
		} else {
			free++
		}
	}
	switch {
	case stopped == 0 && free > 0:
		return Yes
	case free == 0 && stopped > 0:
		return No
	}
	return Unknown
}

// merge drops journeys that others stand for.
func merge(list []*journey) []*journey {
	if len(list) < 2 {
		return list
	}
	var kept []*journey
	for _, j := range list {
		at := slices.IndexFunc(kept, func(k *journey) bool {
			return k.ended == j.ended && k.s.same(j.s) && slices.EqualFunc(k.flows, j.flows, (*flow).same)
		})
		switch {
		case at < 0:
			kept = append(kept, j)
		case len(j.s.doubts) < len(kept[at].s.doubts):
			kept[at] = j
		}
	}
	return kept
}

// conclude is the walk that a packet's journeys make.
func (t *traveller) conclude(list []*journey, stuck string) Walk {
	w := Walk{Refuses: -1}
	if len(list) > 0 {
		j := list[0]
		for _, other := range list {
			if len(other.s.doubts) < len(j.s.doubts) {
				j = other
			}
		}
		w.Steps, w.Blocks, w.Last = j.s.steps, j.s.blocks, j.s.packet
		for i, f := range j.flows {
			w.Rewrites = append(w.Rewrites, f.rewrites(t.hops[i].Host.Name)...)
		}
		if len(w.Blocks) > 0 && w.Blocks[0] < len(j.hops) {
			w.Refuses = j.hops[w.Blocks[0]]
		}
	}
	if stuck != "" {
		w.Verdict, w.Why = Undecidable, stuck
		return w
	}
	w.Verdict, w.With = verdictOf(list[0].s)
	var whys []string
	for _, j := range list {
		if v, with := verdictOf(j.s); v != w.Verdict || v == Rejects && with != w.With {
			w.Verdict = Undecidable
		}
		for _, d := range j.s.doubts {
			if !slices.Contains(whys, d) {
				whys = append(whys, d)
			}
		}
		w.Stateful = w.Stateful || j.s.stateful
	}
	if w.Verdict == Undecidable {
		w.Why = strings.Join(whys, "; ")
	}
	return w
}

func verdictOf(s *state) (Verdict, Refusal) {
	if len(s.blocks) == 0 {
		return Accepts, 0
	}
	at := s.steps[s.blocks[0]]
	if at.Rejects {
		return Rejects, at.With
	}
	return Drops, 0
}

// rewrites is the translations of a flow.
func (f *flow) rewrites(host string) []Rewrite {
	var list []Rewrite
	if f == nil {
		return nil
	}
	add := func(kind string, done bool, to rewrite, addr netip.Addr, port uint16) {
		if !done {
			return
		}
		now, nowPort := addr, port
		to.to(&now, &nowPort, true)
		if now != addr || nowPort != port {
			list = append(list, Rewrite{host, kind, place(addr, port), place(now, nowPort)})
		}
	}
	add("destination", f.dnatted, f.dnat, f.original.To, f.original.ToPort)
	add("source", f.snatted, f.snat, f.original.From, f.original.FromPort)
	return list
}

// String tells a step in one line.
func (s Step) String() string {
	switch {
	case s.Rule != nil:
		return fmt.Sprintf(
			"%s: %s, chain %s, rule %d: %s",
			s.Host,
			s.Chain.Table.Title(),
			s.Chain.Name,
			s.Rule.Number,
			s.Effect,
		)
	case s.Chain != nil:
		return fmt.Sprintf("%s: %s, chain %s: %s", s.Host, s.Chain.Table.Title(), s.Chain.Name, s.Effect)
	}
	return fmt.Sprintf("%s: %s", s.Host, s.Effect)
}
