package filter

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// stage says which packet of a connection is on its way.
type stage uint8

const (
	first stage = iota
	answer
	later
	refusal // an ICMP message, or a reset, that refuses the first packet
)

// flow is what one host's tracker knows of a connection.
type flow struct {
	original         Packet
	dnat, snat       rewrite
	dnatted, snatted bool
	// settledTo and settledFrom: a rule has said where it is translated to,
	// be it that nothing changes.
	settledTo, settledFrom bool
	ctMark                 uint32
	stage                  stage
	arose                  bool // this host itself refuses
	reset                  bool // by a reset
	early                  bool // and did so before the tracker saw the packet
}

func (f *flow) with(change func(*flow)) *flow {
	c := *f
	change(&c)
	return &c
}

func (f *flow) same(o *flow) bool {
	if f == nil || o == nil {
		return f == o
	}
	return *f == *o
}

// tracking is what the tracker says of the packet that is on its way.
func (f *flow) tracking() *tracking {
	t := &tracking{original: f.original, state: ctEstablished}
	moved := f.original
	f.dnat.to(&moved.To, &moved.ToPort, f.dnatted)
	f.snat.to(&moved.From, &moved.FromPort, f.snatted)
	t.answer = moved.reply()
	switch f.stage {
	case first:
		t.state = ctNew
	case answer:
		t.reply = true
	case refusal:
		t.reply, t.state = true, ctRelated
		if f.reset && !f.arose {
			t.state = ctEstablished // a reset belongs to its connection
		}
	}
	if f.dnatted {
		t.status |= statusDNAT
	}
	if f.snatted {
		t.status |= statusSNAT
	}
	if f.stage == answer || f.stage == later {
		t.status |= statusSeenReply | statusConfirmed
	}
	return t
}

func (r rewrite) to(addr *netip.Addr, port *uint16, done bool) {
	if !done {
		return
	}
	if r.addr.IsValid() {
		*addr = r.addr
	}
	if r.port != 0 {
		*port = r.port
	}
	if r.vague {
		*port = 0
	}
}

// Priorities at which the kernel does things of its own
// (include/uapi/linux/netfilter_ipv4.h).
const (
	atTracking = -200
	atDNAT     = -100
	atSNAT     = 100
)

// passHook takes states through a hook.
func (h *Host) passHook(hook Hook, states []*state, fuel *int) ([]*state, string) {
	tracks := hook == Prerouting || hook == Output
	natAt := atSNAT
	if hook == Prerouting || hook == Output {
		natAt = atDNAT
	}
	var chains []*Chain
	if h.Rules != nil {
		chains = h.Rules.at(hook, states[0].packet.Six())
	}
	translated := hook == Forward
	for at := 0; at <= len(chains); at++ {
		priority := 1 << 30
		if at < len(chains) {
			priority = chains[at].Priority
			if chains[at].Type == "nat" {
				continue // they are all called together, in the translation's place
			}
		}
		if tracks && priority >= atTracking {
			tracks = false
			for _, s := range states {
				s.untracked = s.untracked || s.packet.discovers()
				// A refusal of what was never tracked belongs to no connection.
				if s.tracked = !s.untracked && !(s.flow.stage == refusal && s.flow.early); s.tracked {
					s.ctMark = s.flow.ctMark
				}
			}
		}
		if !translated && (priority > natAt || at == len(chains)) {
			translated = true
			var stuck string
			if states, stuck = h.translate(hook, states, chains, fuel); stuck != "" {
				return states, stuck
			}
		}
		if at == len(chains) {
			break
		}
		var next []*state
		ev := evaluator{host: h, hook: hook, fuel: fuel}
		for _, s := range states {
			next = append(next, ev.base(chains[at], s, priority)...)
			if ev.stuck != "" {
				return states, ev.stuck
			}
		}
		if states = join(next); len(states) > mostForks {
			return states[:1], "too many conditions are not known"
		}
	}
	for _, s := range states {
		if s.flow != nil && s.tracked && s.flow.ctMark != s.ctMark {
			s.flow = s.flow.with(func(f *flow) { f.ctMark = s.ctMark })
		}
	}
	return states, ""
}

// passLink takes states through the chains of the link by which they come or leave. There
// the kernel has not looked for their connections yet, or does no more.
func (h *Host) passLink(hook Hook, states []*state, fuel *int) ([]*state, string) {
	if h.Rules == nil || len(states) == 0 {
		return states, ""
	}
	for _, c := range h.Rules.at(hook, states[0].packet.Six()) {
		var next []*state
		ev := evaluator{host: h, hook: hook, fuel: fuel}
		for _, s := range states {
			link := s.in
			if hook == Egress {
				link = s.out
			}
			switch {
			case len(c.Rules) == 0 && !c.Drop:
				next = append(next, s)
				continue
			case c.Links == nil: // early versions of nft leave them out of their JSON
				return states, fmt.Sprintf("chain %s filters at a link, and at which is not told", c.Name)
			case !link.known:
				return states, fmt.Sprintf("chain %s filters at a link, and by which one it goes is not known", c.Name)
			case !c.sees(link.name):
				next = append(next, s)
				continue
			}
			if next = append(next, ev.base(c, s, c.Priority)...); ev.stuck != "" {
				return states, ev.stuck
			}
		}
		if states = join(next); len(states) > mostForks {
			return states[:1], "too many conditions are not known"
		}
	}
	return states, ""
}

// translate is the translation's place in a hook: rules decide for the first
// packet of a connection alone, the tracker repeats it for the others.
func (h *Host) translate(hook Hook, states []*state, chains []*Chain, fuel *int) ([]*state, string) {
	destination := hook == Prerouting || hook == Output
	var out []*state
	for _, s := range states {
		if !s.tracked || s.flow == nil {
			out = append(out, s)
			continue
		}
		if s.flow.stage == answer || s.flow.stage == refusal {
			s.packet = s.flow.undo(s.packet, destination)
			out = append(out, s)
			continue
		}
		live := []*state{s}
		if s.flow.stage == first {
			for _, c := range chains {
				if c.Type != "nat" {
					continue
				}
				var next []*state
				ev := evaluator{host: h, hook: hook, fuel: fuel}
				for _, each := range live {
					if destination && each.flow.settledTo || !destination && each.flow.settledFrom {
						next = append(next, each)
						continue
					}
					next = append(next, ev.base(c, each, natPriority(hook))...)
					if ev.stuck != "" {
						return states, ev.stuck
					}
				}
				live = join(next)
			}
		}
		for _, each := range live {
			if destination {
				each.flow.dnat.to(&each.packet.To, &each.packet.ToPort, each.flow.dnatted)
			} else {
				each.flow.snat.to(&each.packet.From, &each.packet.FromPort, each.flow.snatted)
				if each.flow.snatted {
					each.packet.AnySource = each.packet.AnySource && !each.flow.snat.addr.IsValid()
				}
			}
			out = append(out, each)
		}
	}
	return join(out), ""
}

func natPriority(hook Hook) int {
	if hook == Prerouting || hook == Output {
		return atDNAT
	}
	return atSNAT
}

// undo takes a translation back for a packet of the reply's direction.
func (f *flow) undo(p Packet, destination bool) Packet {
	switch {
	case destination && f.snatted:
		p.To, p.ToPort = f.original.From, f.original.FromPort
	case !destination && f.dnatted:
		p.From, p.FromPort = f.original.To, f.original.ToPort
	}
	return p
}

// at is the base chains of a hook that see a packet, in the order in which
// the kernel calls them.
func (r *Ruleset) at(hook Hook, six bool) []*Chain {
	return r.hooks[hookKey{hook, six}]
}

type hookKey struct {
	hook Hook
	six  bool
}

// arrange sorts the base chains under their hooks.
func (r *Ruleset) arrange() {
	r.hooks = map[hookKey][]*Chain{}
	r.rules = 0
	for _, t := range r.Tables {
		for _, c := range t.order {
			r.rules += len(c.Rules)
			c.heads = heads(c.Rules)
			if c.Hook == NoHook {
				continue
			}
			for _, six := range []bool{false, true} {
				if t.Family.covers(six) {
					key := hookKey{c.Hook, six}
					r.hooks[key] = append(r.hooks[key], c)
				}
			}
		}
	}
	for _, list := range r.hooks {
		slices.SortStableFunc(list, func(a, b *Chain) int {
			if a.Priority != b.Priority {
				return a.Priority - b.Priority
			}
			return cmp.Compare(b.seen, a.seen) // nf_hook_entries_grow in net/netfilter/core.c
		})
	}
}

// send takes a packet that the host itself sends to its way out.
func (h *Host) send(s *state, fuel *int) ([]*state, string) {
	s.in, s.mark, s.tracked, s.untracked = port{none: true}, 0, false, false
	if s.flow != nil && s.flow.stage == refusal && s.flow.arose && !s.flow.early {
		// The kernel ties it to the connection that it refuses when it makes it
		// (nf_ct_attach in net/netfilter/core.c).
		s.tracked, s.ctMark = true, s.flow.ctMark
	}
	if why := h.leave(s); why != "" {
		return []*state{s}, why
	}
	states, stuck := h.passHook(Output, []*state{s}, fuel)
	if stuck != "" {
		return states, stuck
	}
	for _, each := range states {
		if each.packet.To != s.packet.To || each.mark != 0 {
			if why := h.leave(each); why != "" {
				return states, why
			}
		}
	}
	return h.goOut(states, fuel)
}

// goOut takes states through the last hooks.
func (h *Host) goOut(states []*state, fuel *int) ([]*state, string) {
	states, stuck := h.passHook(Postrouting, states, fuel)
	if stuck != "" {
		return states, stuck
	}
	return h.passLink(Egress, states, fuel)
}

// leave finds the link by which a state's packet leaves the host.
func (h *Host) leave(s *state) string {
	kind, known := h.kindOf(s.packet.To)
	if known && kind == kindLocal {
		s.out = port{name: "lo", known: true}
		return ""
	}
	if s.out.known && h.Routing == nil {
		return ""
	}
	route, known := h.route(s.packet.To, s.packet.From, s.mark, s.in.name)
	switch {
	case !known:
		if !s.out.known {
			s.out = port{remote: true} // it is not for the host itself
		}
	case !route.Leads():
		entry := "no entry matches"
		if route != nil {
			entry = fmt.Sprintf("%q leads nowhere", route.Text)
		}
		h.stop(s, Step{Hook: "routing", Kind: ByRoute, Effect: fmt.Sprintf("no route to %s: %s", s.packet.To, entry)})
	default:
		s.out = port{name: route.Dev, known: len(route.Many) == 0, remote: true}
	}
	return ""
}

func (h *Host) stop(s *state, step Step) {
	step.Host, step.Packet = h.Name, s.packet
	s.steps = append(s.steps[:len(s.steps):len(s.steps)], step)
	s.blocks = append(s.blocks[:len(s.blocks):len(s.blocks)], len(s.steps)-1)
}

// receive takes a packet that arrives on a link: to the host itself, or
// through it to its way out.
func (h *Host) receive(s *state, in port, fuel *int) (states []*state, local bool, stuck string) {
	s.in, s.out, s.mark = in, port{none: true}, 0
	if in.name != "lo" {
		s.tracked, s.untracked = false, false // over loopback the tracker has seen it on its way out
	}
	if states, stuck = h.passLink(Ingress, []*state{s}, fuel); stuck != "" {
		return states, false, stuck
	}
	if states, stuck = h.passHook(Prerouting, states, fuel); stuck != "" {
		return states, false, stuck
	}
	var here, on []*state
	for _, each := range states {
		kind, known := h.kindOf(each.packet.To)
		if !known {
			return states, false, "which addresses are the host's own is not known"
		}
		h.reversePath(each)
		// A host listens to the groups by which its own addresses are asked for.
		if kind == kindLocal || kind == kindBroadcast || kind == kindMulticast && each.packet.discovers() {
			here = append(here, each)
		} else {
			on = append(on, each)
		}
	}
	if len(here) > 0 && len(on) > 0 {
		return states, false, "whether the packet is for the host itself is not known"
	}
	if len(on) == 0 {
		states, stuck = h.passHook(Input, here, fuel)
		return states, true, stuck
	}
	for _, each := range on {
		if why := h.forwards(each); why != "" {
			return on, false, why
		}
	}
	if states, stuck = h.passHook(Forward, on, fuel); stuck != "" {
		return states, false, stuck
	}
	states, stuck = h.goOut(states, fuel)
	return states, false, stuck
}

// forwards is the routing of a packet that is not for the host itself.
func (h *Host) forwards(s *state) string {
	six := 0
	if s.packet.Six() {
		six = 1
	}
	if !h.Alone {
		may, where, link := h.Forwards[six], "", ""
		if does, told := h.ForwardsFrom[s.in.name]; told && six == 0 && s.in.known {
			if may != triOf(does) {
				where, link = " for what comes by "+s.in.name, s.in.name
			}
			may = triOf(does)
		}
		switch may {
		case No:
			h.stop(s, Step{Hook: "routing", Kind: ByForwarding, Effect: "forwarding is off" + where, Link: link})
		case Unknown:
			return "whether it forwards is not known"
		}
	}
	s.out = port{remote: true}
	return h.leave(s)
}

// reversePath is the check that the source would be answered by the link by
// which its packet came (RFC 3704; net.ipv4.conf.*.rp_filter).
func (h *Host) reversePath(s *state) {
	if s.packet.Six() || s.packet.AnySource || !s.in.known || s.in.name == "lo" {
		return
	}
	mode := h.Reverse[s.in.name]
	if mode == 0 {
		return
	}
	route, known := h.route(s.packet.From, s.packet.To, 0, "")
	if !known {
		return
	}
	switch {
	case !route.Leads():
		h.stop(
			s,
			Step{
				Hook:   "routing",
				Kind:   ByReversePath,
				Effect: fmt.Sprintf("reverse path: no route back to %s", s.packet.From),
			},
		)
	case mode == 1 && route.Dev != s.in.name && !slices.Contains(route.Many, s.in.name):
		h.stop(s, Step{Hook: "routing", Kind: ByReversePath, Link: s.in.name,
			Effect: strings.TrimSpace(
				fmt.Sprintf("strict reverse path: it came by %s, the way back is by %s", s.in.name, route.Dev),
			)})
	}
}
