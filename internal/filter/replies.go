package filter

import (
	"net/netip"
	"slices"
)

// turn makes the answers to packets that arrived.
func (t *traveller) turn(list []*journey) []*journey {
	var out []*journey
	for _, j := range list {
		p := j.s.packet.reply()
		n := &journey{s: &state{packet: p}, flows: slices.Clone(j.flows), ended: j.ended}
		out = append(out, n)
	}
	return out
}

// back takes answers from the hop at which their requests arrived to the
// first one.
func (t *traveller) back(list []*journey, st stage) ([]*journey, string) {
	last := len(t.hops) - 1
	for i := last; i >= 0; i-- {
		moved, stuck := t.through(list, i, st, true, func(j *journey) bool {
			return i == last && t.itself(t.hops[i].Host, j.s.packet.From)
		})
		if list = moved; stuck != "" {
			return list, stuck
		}
	}
	return list, ""
}

// again makes the packets that follow once a connection is made.
func (t *traveller) again(list []*journey, p Packet) []*journey {
	if p.Proto == TCP {
		p.Flags = ACK
	}
	var out []*journey
	for _, j := range list {
		out = append(out, &journey{s: &state{packet: p}, flows: slices.Clone(j.flows)})
	}
	return out
}

// told follows a refusal from the hop that made it back to the sender.
func (t *traveller) told(list []*journey, w Walk) Tri {
	if w.Refuses < 0 {
		return Unknown
	}
	result, seen := Unknown, false
	for _, j := range list {
		got := t.toldOne(j, w)
		if seen && got != result {
			return Unknown
		}
		result, seen = got, true
	}
	return result
}

func (t *traveller) toldOne(j *journey, w Walk) Tri {
	refuser := w.Refuses
	h := t.hops[refuser].Host
	f := j.flows[refuser]
	if f == nil {
		return Unknown
	}
	arrived := f.original
	p := Packet{Proto: ICMP, To: arrived.From, From: h.near(arrived.From, t.hops[refuser])}
	if arrived.Six() {
		p.Proto = ICMPv6
	}
	kind, code := w.With.Code(arrived.Six())
	p.ICMPType, p.ICMPCode = kind, code
	moved := arrived
	if w.Steps[w.Blocks[0]].Hook != Prerouting.String() {
		f.dnat.to(&moved.To, &moved.ToPort, f.dnatted)
	}
	if t.itself(h, moved.To) && !t.itself(h, arrived.From) {
		p.From = moved.To // what was meant for the host itself is answered from there
	}
	if w.With == ByReset {
		p = moved.reply()
		p.Flags = RST | ACK
	}
	if !p.From.IsValid() {
		return Unknown
	}
	back := []*journey{{s: &state{packet: p}, flows: slices.Clone(j.flows)}}
	for i := refuser; i >= 0; i-- {
		var next []*journey
		for _, each := range back {
			if each.flows[i] != nil {
				each.flows[i] = each.flows[i].with(func(f *flow) {
					f.arose, f.reset = i == refuser, w.With == ByReset
					f.early = f.arose && w.Steps[w.Blocks[0]].flow == nil
				})
			}
			moved, stuck := t.at(each, i, refusal, i == refuser, true)
			if stuck != "" {
				return Unknown
			}
			next = append(next, moved...)
		}
		back = merge(next)
	}
	return through(back)
}

// near is the address that a host uses towards another.
func (h *Host) near(to netip.Addr, hop Hop) netip.Addr {
	link := hop.In
	if link == "" {
		link, _ = h.outLink(to)
	}
	if link == "lo" {
		return h.primary(to)
	}
	if a := h.sourceOn(port{name: link, known: link != ""}, to.Is6()); a.IsValid() {
		return a
	}
	for _, held := range h.Held {
		if held.Prefix.Addr().Is6() == to.Is6() && !held.Prefix.Addr().IsLoopback() {
			return held.Prefix.Addr()
		}
	}
	return netip.Addr{}
}

// primary is the address that a host speaks to one of its own addresses from:
// the first of the same net, or the address itself.
func (h *Host) primary(own netip.Addr) netip.Addr {
	if own.Is6() {
		return own
	}
	for _, held := range h.Held {
		if held.Prefix.Addr() == own {
			return own
		}
		for _, same := range h.Held {
			if same.Prefix.Addr() == own && same.Link == held.Link && same.Prefix.Masked() == held.Prefix.Masked() {
				return held.Prefix.Addr()
			}
		}
	}
	return own
}
