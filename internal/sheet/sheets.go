package sheet

import (
	"net/netip"
	"slices"
	"uakari/internal/fact"
)

// HoldsAny reports whether a list of addresses, nets and groups has an
// address.
func HoldsAny(s *fact.Sheet, list []string, addr netip.Addr) bool {
	return slices.ContainsFunc(Nets(s, list), func(p netip.Prefix) bool { return p.Contains(addr) })
}
