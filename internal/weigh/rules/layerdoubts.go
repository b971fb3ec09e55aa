package rules

import (
	"fmt"
	"net/netip"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/sheet"
)

// LayerDoubts is rules of a sheet that can never match, since an earlier one
// takes all that they name, and those that meet an opposite one.
func LayerDoubts(s *fact.Sheet) []string {
	var list []string
	for i := range s.Layers {
		l := &s.Layers[i]
		for _, side := range []struct {
			name  string
			rules []fact.SheetRule
		}{{"in", l.In}, {"out", l.Out}} {
			for b := range side.rules {
				for a := range b {
					first, second := &side.rules[a], &side.rules[b]
					switch {
					case l.Order == "first" && coversRule(s, first, second):
						list = append(
							list,
							fmt.Sprintf(
								"sheet %s, layer %s, %s: rule %d can never match, rule %d takes all of it",
								s.Name,
								l.Name,
								side.name,
								b+1,
								a+1,
							),
						)
					case l.Order == "any" && first.Do != second.Do &&
						(coversRule(s, first, second) || coversRule(s, second, first)):
						list = append(
							list,
							fmt.Sprintf(
								"sheet %s, layer %s, %s: rules %d and %d say opposite things of the same packets; "+
									"the deny wins",
								s.Name,
								l.Name,
								side.name,
								a+1,
								b+1,
							),
						)
					default:
						continue
					}
					break
				}
			}
		}
	}
	return list
}

// coversRule reports whether every packet that b names is named by a too.
func coversRule(s *fact.Sheet, a, b *fact.SheetRule) bool {
	if a.Transport != "" && a.Transport != b.Transport {
		return false
	}
	if len(a.NotFrom)+len(a.NotTo) > 0 {
		return false // what it leaves out may be what b is for
	}
	return coversAddrs(s, a.From, b.From) && coversAddrs(s, a.To, b.To) && coversPorts(a.Ports, b.Ports)
}

func coversAddrs(s *fact.Sheet, a, b []string) bool {
	if len(a) == 0 {
		return true
	}
	inner := sheet.Nets(s, b)
	if len(inner) == 0 {
		return false
	}
	for _, p := range inner {
		if !slices.ContainsFunc(
			sheet.Nets(s, a),
			func(q netip.Prefix) bool { return q.Bits() <= p.Bits() && q.Contains(p.Addr()) },
		) {
			return false
		}
	}
	return true
}

func coversPorts(a, b []string) bool {
	if len(a) == 0 {
		return true
	}
	if len(b) == 0 {
		return false
	}
	for _, text := range b {
		low, high, _ := fact.Ports(text)
		if _, left := cutPorts([]portRange{{low, high}}, a); len(left) > 0 {
			return false
		}
	}
	return true
}
