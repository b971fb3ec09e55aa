package rules

import (
	"net/netip"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// seats is the vantages on the packet's way: the client, gateways that are on
// it, and the server of the address.
func seats(v *scene.Scene, w *scene.Wants, t *scene.Try) []fact.Vantage {
	var list []fact.Vantage
	list = append(list, v.Vantage(v.Client))
	list = append(list, gateways(v, w, t)...)
	if t.Server != "" && !v.OnSame(t) {
		list = append(list, v.Vantage(t.Server))
	}
	return list
}

// keepsClient reports whether a vantage may be the host of the client, which looks from
// within something, on its way to another.
func keepsClient(v *scene.Scene, t *scene.Try, at fact.Vantage) bool {
	return v.Vantage(v.Client).Means == fact.Inside && at.Role == fact.Server && at.ID != t.Server
}

// gateways is the gateways on the way, the nearest first: those that hold the
// next hop of the client, a hop that was seen, or the server's next hop back.
func gateways(v *scene.Scene, w *scene.Wants, t *scene.Try) []fact.Vantage {
	type placed struct {
		at fact.Vantage
		n  int
	}
	var list []placed
	hops, back := hopsThere(v, t), hopsBack(v, t)
	for _, at := range v.Set.Vantages {
		switch {
		case at.Role == fact.Gateway:
			w.Add(scene.Want{Look: fact.LookAddresses, At: fact.Gateway, On: at.ID, Gate: gate.Way})
		case keepsClient(v, t, at):
			at.Role = fact.Gateway // a container's own host passes on what it sends
			w.Add(scene.Want{Look: fact.LookContainers, At: fact.Gateway, On: at.ID,
				Target: fact.Target{Port: t.Target.Port}, Gate: gate.Way})
		default:
			continue
		}
		_, held := v.Addresses(at.ID)
		if held == nil {
			continue
		}
		holds := func(addr netip.Addr) bool { return addr.IsValid() && held.Holds(addr) }
		switch i := slices.IndexFunc(hops, holds); {
		case i >= 0:
			list = append(list, placed{at, i})
		case slices.ContainsFunc(back, holds) && beside(held, t.Target.Addr):
			list = append(list, placed{at, len(hops)})
		}
	}
	slices.SortStableFunc(list, func(a, b placed) int { return a.n - b.n })
	var out []fact.Vantage
	for _, each := range list {
		out = append(out, each.at)
	}
	return out
}

// hopsTo is the routers on the way, there and back, as far as they are known.
func hopsTo(v *scene.Scene, t *scene.Try) []netip.Addr {
	return append(hopsThere(v, t), hopsBack(v, t)...)
}

// hopsThere is the routers on the way there: the client's next hop, and those that
// said that a packet died with them.
func hopsThere(v *scene.Scene, t *scene.Try) []netip.Addr {
	var list []netip.Addr
	for _, f := range v.Facts(v.Client, fact.LookRoute) {
		if f.Route != nil && f.Order.Target.Addr == t.Target.Addr && f.Route.Via.IsValid() {
			list = append(list, f.Route.Via)
		}
	}
	for _, f := range v.Facts(v.Client, fact.LookHops) {
		if f.Hops != nil && f.Order.Target.Addr == t.Target.Addr {
			list = append(list, f.Hops.Routers...)
		}
	}
	if c := t.Climb.Connect; c != nil && c.Connect.ICMP != nil {
		list = append(list, c.Connect.ICMP.From)
	}
	return list
}

// hopsBack is the server's own next hop back to the client.
func hopsBack(v *scene.Scene, t *scene.Try) []netip.Addr {
	var list []netip.Addr
	if source, _, _ := v.Source(t); t.Server != "" && source.IsValid() {
		for _, f := range v.Facts(t.Server, fact.LookRoute) {
			if f.Route != nil && f.Order.Target.Addr == source && f.Route.Via.IsValid() {
				list = append(list, f.Route.Via)
			}
		}
	}
	return list
}

// beside reports whether a host is on one link with an address: a router of the way
// back alone is on the way there only then.
func beside(held *fact.Addresses, to netip.Addr) bool {
	return slices.ContainsFunc(held.Held, func(a fact.Address) bool {
		return a.Prefix.Masked().Contains(to.Unmap()) && !a.Local
	})
}

// arrivals is the links by which the packet may come to a host, the likeliest
// first; "" where the packet begins there, or nothing tells.
func arrivals(v *scene.Scene, t *scene.Try, at standing, p filter.Packet) []string {
	if at.role == fact.Client {
		return []string{""}
	}
	_, held := v.Addresses(at.vantage)
	if held == nil {
		return []string{""}
	}
	// By the link of the address that it is sent to: the server's own, or the
	// gateway's that the hop before names.
	heads := []netip.Addr{p.To}
	if at.role == fact.Gateway {
		heads = hopsTo(v, t)
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
func noneBetween(v *scene.Scene, t *scene.Try, before []standing) bool {
	_, direct, _ := v.Source(t)
	if direct || v.OnSame(t) {
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
	return heldByRead(v, before, nextHop(v, v.Client, t.Target.Addr)) && heldByRead(v, before, nextHopBack(v, t))
}

func heldByRead(v *scene.Scene, hosts []standing, addr netip.Addr) bool {
	return addr.IsValid() && slices.ContainsFunc(hosts, func(p standing) bool {
		_, held := v.Addresses(p.vantage)
		return p.role == fact.Gateway && p.read && held != nil && held.Holds(addr)
	})
}

func nextHop(v *scene.Scene, vantage string, to netip.Addr) netip.Addr {
	for _, f := range v.Facts(vantage, fact.LookRoute) {
		if f.Route != nil && f.Route.Outcome == "found" && f.Order.Target.Addr == to {
			return f.Route.Via
		}
	}
	return netip.Addr{}
}

func nextHopBack(v *scene.Scene, t *scene.Try) netip.Addr {
	source, _, _ := v.Source(t)
	if via := nextHop(v, t.Server, source); via.IsValid() || !source.IsValid() || t.Server == "" {
		return via
	}
	return FilterHost(v, t.Server).NextHop(source)
}
