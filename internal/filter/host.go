package filter

import (
	"net/netip"
)

// Held is one address of a host.
type Held struct {
	Prefix netip.Prefix
	Link   string
	Down   bool
}

// Host is one host that packets pass.
type Host struct {
	Name    string
	Rules   *Ruleset // nil: not read
	Unread  string   // why the tables were not read, or what else makes them unsure
	Held    []Held
	Routing *Routing // nil: not known
	// Alone marks tables that are judged without their host: the addresses
	// in Held are the host's own, any other is not.
	Alone bool
	// Forwards is whether the host forwards packets of IPv4 and IPv6.
	Forwards [2]Tri
	// ForwardsFrom is whether it forwards what comes by a link, where that was read: of
	// IPv4, where it alone counts.
	ForwardsFrom map[string]bool
	// Reverse is the reverse-path check of each link: 0 none, 1 strict, 2
	// loose; nil: not known. It concerns IPv4 alone.
	Reverse map[string]int
	Ports   Range // that its clients' own ports are taken from
	// Instead is other rules for some chains: a change that is supposed.
	Instead map[*Chain][]*Rule
}

func (h *Host) rulesOf(c *Chain) []*Rule {
	if h.Instead != nil {
		if rules, ok := h.Instead[c]; ok {
			return rules
		}
	}
	return c.Rules
}

// Numbers of kinds of addresses (RTN_… of include/uapi/linux/rtnetlink.h).
const (
	kindUnicast   = 1
	kindLocal     = 2
	kindBroadcast = 3
	kindMulticast = 5
)

// kindOf is the kind of an address for this host.
func (h *Host) kindOf(addr netip.Addr) (uint32, bool) {
	addr = addr.Unmap().WithZone("")
	if addr.IsLoopback() {
		return kindLocal, true
	}
	if addr.IsMulticast() {
		return kindMulticast, true
	}
	if addr == netip.AddrFrom4([4]byte{255, 255, 255, 255}) {
		return kindBroadcast, true
	}
	for _, held := range h.Held {
		if held.Prefix.Addr() == addr {
			return kindLocal, true
		}
		if held.Prefix.IsValid() && addr.Is4() && held.Prefix.Bits() < 31 && last(held.Prefix) == addr {
			return kindBroadcast, true
		}
	}
	if len(h.Held) == 0 && !h.Alone {
		return 0, false
	}
	if h.Routing != nil {
		route, known := h.Routing.lookUp(addr, netip.Addr{}, 0, "")
		if known && route != nil && route.Type == "local" {
			return kindLocal, true
		}
	}
	return kindUnicast, true
}

// last is the last address of a prefix of IPv4.
func last(p netip.Prefix) netip.Addr {
	b := p.Masked().Addr().As4()
	for i := p.Bits(); i < 32; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	return netip.AddrFrom4(b)
}

// oneLink reports whether the host has a single link beside loopback.
func (h *Host) oneLink() bool {
	name := ""
	for _, held := range h.Held {
		if held.Prefix.Addr().IsLoopback() || held.Link == name {
			continue
		}
		if name != "" {
			return false
		}
		name = held.Link
	}
	return true
}

// link finds a link by its name.
func (h *Host) link(name string) (uint32, Link, bool) {
	if h.Rules != nil {
		for index, l := range h.Rules.Links {
			if l.Name == name {
				return index, l, true
			}
		}
	}
	return 0, Link{}, false
}

// route is the route to an address; nil: none.
func (h *Host) route(to, from netip.Addr, mark uint32, in string) (*Route, bool) {
	if h.Routing == nil {
		return nil, false
	}
	return h.Routing.lookUp(to.Unmap().WithZone(""), from, mark, in)
}

// outLink is the link by which the host sends to an address; "": by none.
func (h *Host) outLink(addr netip.Addr) (string, bool) {
	if kind, known := h.kindOf(addr); known && kind == kindLocal {
		return "lo", true
	}
	route, known := h.route(addr, netip.Addr{}, 0, "")
	if !known {
		return "", false
	}
	if !route.Leads() {
		return "", true
	}
	return route.Dev, len(route.Many) == 0
}

// RouteTo is the route by which the host sends to an address; false where that
// is not known, or none leads there.
func (h *Host) RouteTo(addr netip.Addr) (Route, bool) {
	route, known := h.route(addr, netip.Addr{}, 0, "")
	if !known || !route.Leads() || len(route.Many) > 0 {
		return Route{}, false
	}
	return *route, true
}

// NextHop is the router by which the host sends to an address; invalid where
// there is none between, or it is not known.
func (h *Host) NextHop(addr netip.Addr) netip.Addr {
	if route, known := h.route(addr, netip.Addr{}, 0, ""); known && route.Leads() && len(route.Many) == 0 {
		return route.Via
	}
	return netip.Addr{}
}

// LinkTo is the link by which the host sends to an address; "" where that is
// not known, or there is no route.
func (h *Host) LinkTo(addr netip.Addr) string {
	link, known := h.outLink(addr)
	if !known {
		return ""
	}
	return link
}

// sourceOn is the address that the host uses on a link; invalid if that is
// not known.
func (h *Host) sourceOn(at port, six bool) netip.Addr {
	if !at.known {
		return netip.Addr{}
	}
	for _, held := range h.Held {
		if addr := held.Prefix.Addr(); held.Link == at.name && addr.Is6() == six && !addr.IsLinkLocalUnicast() {
			return addr
		}
	}
	return netip.Addr{}
}
