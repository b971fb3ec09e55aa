package sheet

import (
	"net/netip"
	"slices"

	"uakari/internal/fact"
)

// Nets is the nets that a list of addresses, nets, ranges and groups is made of.
func Nets(s *fact.Sheet, list []string) []netip.Prefix { return nets(s, list, nil) }

func nets(s *fact.Sheet, list, within []string) []netip.Prefix {
	var out []netip.Prefix
	for _, text := range list {
		if group, ok := s.Groups[text]; ok {
			if !slices.Contains(within, text) { // a group that names itself was refused when it was read
				out = append(out, nets(s, group, append(slices.Clone(within), text))...)
			}
			continue
		}
		if more, err := fact.Nets(text); err == nil {
			out = append(out, more...)
		}
	}
	return out
}

// HoldsAny reports whether a list of addresses, nets, ranges and groups has an
// address.
func HoldsAny(s *fact.Sheet, list []string, addr netip.Addr) bool {
	return slices.ContainsFunc(Nets(s, list), func(p netip.Prefix) bool { return p.Contains(addr) })
}
