package weigh

import (
	"net/netip"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// seats is the vantages on the packet's way: the client, gateways that are on
// it, and the server of the address.
func (v *view) seats(w *wants, t *try) []fact.Vantage {
	var list []fact.Vantage
	list = append(list, v.vantage(v.client))
	list = append(list, v.gateways(w, t)...)
	if t.server != "" && !v.onSame(t) {
		list = append(list, v.vantage(t.server))
	}
	return list
}

// gateways is the gateways on the way, the nearest first: those that hold the
// next hop of the client, a hop that was seen, or the server's next hop back.
func (v *view) gateways(w *wants, t *try) []fact.Vantage {
	type placed struct {
		at fact.Vantage
		n  int
	}
	var list []placed
	hops := v.hopsTo(t)
	for _, at := range v.set.Vantages {
		if at.Role != fact.Gateway {
			continue
		}
		w.add(Want{Look: fact.LookAddresses, At: fact.Gateway, On: at.ID, Gate: Way})
		_, held := v.addresses(at.ID)
		if held == nil {
			continue
		}
		for i, addr := range hops {
			if addr.IsValid() && held.Holds(addr) {
				list = append(list, placed{at, i})
				break
			}
		}
	}
	slices.SortStableFunc(list, func(a, b placed) int { return a.n - b.n })
	var out []fact.Vantage
	for _, each := range list {
		out = append(out, each.at)
	}
	return out
}

// hopsTo is the routers on the way, as far as they are known: the client's
// next hop, those that said that a packet died with them, the server's own
// next hop back.
func (v *view) hopsTo(t *try) []netip.Addr {
	var list []netip.Addr
	for _, f := range v.facts(v.client, fact.LookRoute) {
		if f.Route != nil && f.Order.Target.Addr == t.target.Addr && f.Route.Via.IsValid() {
			list = append(list, f.Route.Via)
		}
	}
	for _, f := range v.facts(v.client, fact.LookHops) {
		if f.Hops != nil && f.Order.Target.Addr == t.target.Addr {
			list = append(list, f.Hops.Routers...)
		}
	}
	if c := t.climb.connect; c != nil && c.Connect.ICMP != nil {
		list = append(list, c.Connect.ICMP.From)
	}
	if source, _, _ := v.source(t); t.server != "" && source.IsValid() {
		for _, f := range v.facts(t.server, fact.LookRoute) {
			if f.Route != nil && f.Order.Target.Addr == source && f.Route.Via.IsValid() {
				list = append(list, f.Route.Via)
			}
		}
	}
	return list
}

// soleAddress is the client's only address of a family, where the route was
// not asked for.
func (v *view) soleAddress(to netip.Addr) netip.Addr {
	var found netip.Addr
	for _, addr := range v.own() {
		if addr.IsLoopback() != to.IsLoopback() || addr.Is6() != to.Is6() || addr.IsLinkLocalUnicast() {
			continue
		}
		if found.IsValid() {
			return netip.Addr{}
		}
		found = addr
	}
	return found
}

// arrivals is the links by which the packet may come to a host, the likeliest
// first; "" where the packet begins there, or nothing tells.
func (v *view) arrivals(t *try, at post, p filter.Packet) []string {
	if at.role == fact.Client {
		return []string{""}
	}
	_, held := v.addresses(at.vantage)
	if held == nil {
		return []string{""}
	}
	// By the link of the address that it is sent to: the server's own, or the
	// gateway's that the hop before names.
	heads := []netip.Addr{p.To}
	if at.role == fact.Gateway {
		heads = v.hopsTo(t)
	}
	var links []string
	add := func(link string) {
		if link != "" && link != "lo" && !slices.Contains(links, link) {
			links = append(links, link)
		}
	}
	for _, head := range heads {
		for _, a := range held.Held {
			if a.Prefix.Addr() == head && !a.Local && len(links) == 0 {
				add(a.Link)
			}
		}
	}
	// Or by the link by which the sender would be answered.
	if at.role == fact.Server {
		add(at.host.LinkTo(p.From))
	}
	if len(links) == 0 {
		return []string{""}
	}
	return links
}

// noneBetween reports whether nothing between the client and the server can
// have changed the packet unseen: there is no router, or every one was read.
func (v *view) noneBetween(t *try, before []post) bool {
	_, direct, _ := v.source(t)
	if direct || v.onSame(t) {
		return true
	}
	gateways := 0
	for _, p := range before {
		if p.role == fact.Gateway {
			gateways++
		}
	}
	if gateways == 0 {
		return false
	}
	// The chain is whole if the client's next hop and the server's next hop
	// back are both held by gateways that were read.
	return v.heldByRead(before, v.nextHop(v.client, t.target.Addr)) && v.heldByRead(before, v.nextHopBack(t))
}

func (v *view) heldByRead(posts []post, addr netip.Addr) bool {
	return addr.IsValid() && slices.ContainsFunc(posts, func(p post) bool {
		_, held := v.addresses(p.vantage)
		return p.role == fact.Gateway && p.read && held != nil && held.Holds(addr)
	})
}

func (v *view) nextHop(vantage string, to netip.Addr) netip.Addr {
	for _, f := range v.facts(vantage, fact.LookRoute) {
		if f.Route != nil && f.Route.Outcome == "found" && f.Order.Target.Addr == to {
			return f.Route.Via
		}
	}
	return netip.Addr{}
}

func (v *view) nextHopBack(t *try) netip.Addr {
	source, _, _ := v.source(t)
	return v.nextHop(t.server, source)
}

// seenFrom reports whether the server has a connection from the client's own
// address, to whatever port: then no translation between them changes it.
func (v *view) seenFrom(t *try, source netip.Addr) bool {
	for _, f := range v.facts(t.server, fact.LookPeers) {
		if f.Peers != nil && slices.ContainsFunc(f.Peers.List, func(p fact.Peer) bool { return p.Addr == source }) {
			return true
		}
	}
	return false
}
