package filter

import (
	"net/netip"
	"slices"
)

// Routing is a host's routing tables and policy rules.
type Routing struct {
	Rules  []RouteRule // in the order in which they are asked
	Routes []Route
}

// RouteRule is one policy rule (ip-rule(8)).
type RouteRule struct {
	Priority int
	From, To netip.Prefix // invalid: any
	Mark     uint32
	MarkMask uint32 // 0: marks are not looked at
	In, Out  string // links; "": any
	Table    int
	Type     string // "unicast" or, of a rule that decides by itself, "blackhole", …
	Suppress int    // routes with at most this prefix length do not count; -1: all do
	Invert   bool
	Six      bool
	Opaque   string // what of the rule is not understood; "": nothing
}

// Route is one route.
type Route struct {
	Table  int
	Dst    netip.Prefix
	Type   string // "unicast", "local", "blackhole", "unreachable", "prohibit", "throw", …
	Dev    string
	Via    netip.Addr
	Source netip.Addr
	Metric int
	Down   bool // its link is down
	Many   []string
	Text   string
}

// lookUp is the route for an address; nil: none matches. It reports false if
// that cannot be told.
func (r *Routing) lookUp(to, from netip.Addr, mark uint32, in string) (*Route, bool) {
	six := to.Is6()
	for i := range r.Rules {
		rule := &r.Rules[i]
		if rule.Six != six {
			continue
		}
		if rule.Opaque != "" {
			if r.find(rule, to) == nil {
				continue // whether it matches makes no difference
			}
			return nil, false
		}
		if rule.matches(to, from, mark, in) == rule.Invert {
			continue
		}
		switch rule.Type {
		case "blackhole", "unreachable", "prohibit":
			return &Route{Type: rule.Type, Dst: netip.PrefixFrom(to, 0), Text: rule.Type + " (a policy rule)"}, true
		}
		found := r.find(rule, to)
		if found == nil || found.Type == "throw" {
			continue
		}
		return found, true
	}
	return nil, true
}

func (rule *RouteRule) matches(to, from netip.Addr, mark uint32, in string) bool {
	return (!rule.To.IsValid() || rule.To.Contains(to)) &&
		(!rule.From.IsValid() || rule.From.Bits() == 0 || from.IsValid() && rule.From.Contains(from)) &&
		(rule.MarkMask == 0 || mark&rule.MarkMask == rule.Mark) &&
		(rule.In == "" || rule.In == in) && rule.Out == ""
}

// find is the best route of a rule's table for an address.
func (r *Routing) find(rule *RouteRule, to netip.Addr) *Route {
	var best *Route
	for i := range r.Routes {
		c := &r.Routes[i]
		if c.Table != rule.Table || c.Dst.Addr().Is6() != to.Is6() || !c.Dst.Contains(to) || c.Down {
			continue
		}
		if best == nil || c.Dst.Bits() > best.Dst.Bits() || c.Dst.Bits() == best.Dst.Bits() && c.Metric < best.Metric {
			best = c
		}
	}
	if best != nil && rule.Suppress >= 0 && best.Dst.Bits() <= rule.Suppress {
		return nil
	}
	return best
}

// nowhere is the types of route that lead nowhere.
var nowhere = []string{"blackhole", "unreachable", "prohibit", "throw"}

// Leads reports whether the route leads to a link.
func (r *Route) Leads() bool { return r != nil && !slices.Contains(nowhere, r.Type) }
