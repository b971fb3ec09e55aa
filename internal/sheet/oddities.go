package sheet

import (
	"net/netip"
	"uakari/internal/fact"
)

func Nets(s *fact.Sheet, list []string) []netip.Prefix {
	var out []netip.Prefix
	for _, text := range list {
		if group, ok := s.Groups[text]; ok {
			out = append(out, Nets(s, group)...)
		} else if p, err := fact.Net(text); err == nil {
			out = append(out, p)
		}
	}
	return out
}
