package scene

import (
	"net/netip"
	"slices"

	"uakari/internal/fact"
)

// SeenFrom reports whether the server has a connection from the client's own
// address, to whatever port: then no translation between them changes it.
func (v *Scene) SeenFrom(t *Try, source netip.Addr) bool {
	for _, f := range v.Facts(t.Server, fact.LookPeers) {
		if f.Peers != nil && slices.ContainsFunc(f.Peers.List, func(p fact.Peer) bool { return p.Addr == source }) {
			return true
		}
	}
	return false
}

// Source is the address that the client's packets to the target come from,
// whether they go there without a router, and the fact that says so.
func (v *Scene) Source(t *Try) (addr netip.Addr, direct bool, id string) {
	for _, f := range v.Facts(v.Client, fact.LookRoute) {
		if f.Route != nil && f.Route.Outcome == "found" && f.Order.Target.Addr == t.Target.Addr {
			return f.Route.Source, !f.Route.Via.IsValid(), f.ID
		}
	}
	return netip.Addr{}, false, ""
}
