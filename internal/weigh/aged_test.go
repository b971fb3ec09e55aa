package weigh

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// aged is a set in which one host is known by a record of long before the try alone.
func aged(set fact.Set, vantage string, by time.Duration) fact.Set {
	vantages := slices.Clone(set.Vantages)
	for i := range vantages {
		if vantages[i].ID == vantage {
			vantages[i].Means, vantages[i].Ended = fact.Record, set.Ask.Began.Add(-by)
		}
	}
	old := fact.New(set.Ask, vantages)
	old.Facts = slices.Clone(set.Facts)
	for i := range old.Facts {
		if old.Facts[i].Vantage == vantage {
			old.Facts[i].At = old.Facts[i].At.Add(-by)
		}
	}
	old.Ended, old.Behind = set.Ended, set.Behind
	return old
}

// TestOldProvesNothing makes of each server a record that is a month old: what rests on it is
// proven no more.
func TestOldProvesNothing(t *testing.T) {
	names, sets := recorded(t)
	const month = 30 * 24 * time.Hour
	for _, name := range names {
		set := sets[name]
		for _, v := range set.Vantages {
			if v.Role == fact.Client {
				continue
			}
			judged, _ := Weigh(aged(set, v.ID, month))
			for _, c := range judged.Causes {
				rests := slices.ContainsFunc(set.Facts, func(f fact.Fact) bool {
					return f.Vantage == v.ID && slices.Contains(c.Because, f.ID)
				})
				if c.Certainty == trail.Proven && rests {
					t.Errorf("%s: %s is proven by a record of a month ago: %s %v", name, c.ID, c.Summary, c.Because)
				}
			}
		}
	}
}

// elsewhere is a set in which one host has other addresses than it had.
func elsewhere(set fact.Set, vantage string) fact.Set {
	other := subset(set, func(int) bool { return true })
	other.Facts = slices.Clone(set.Facts)
	for i, f := range other.Facts {
		if f.Vantage != vantage || f.Addresses == nil {
			continue
		}
		moved := *f.Addresses
		moved.Held = slices.Clone(moved.Held)
		for j, held := range moved.Held {
			if bytes := held.Prefix.Addr().AsSlice(); !held.Prefix.Addr().IsLoopback() {
				bytes[len(bytes)-1] ^= 0x80
				addr, _ := netip.AddrFromSlice(bytes)
				moved.Held[j].Prefix = netip.PrefixFrom(addr, held.Prefix.Bits())
			}
		}
		other.Facts[i].Addresses = &moved
	}
	return other
}

// byName is causes whose proof finds the host by its own name, wherever its addresses are.
var byName = map[string]bool{"login/key-version": true, "names/search-suffix": true}

// TestAnotherHostProvesNothing gives each server other addresses: what was read on it is then
// of another host than the one that the client tried.
func TestAnotherHostProvesNothing(t *testing.T) {
	names, sets := recorded(t)
	for _, name := range names {
		set := sets[name]
		before, _ := Weigh(set)
		was := map[string]bool{}
		for _, c := range before.Causes {
			was[c.ID] = c.Certainty == trail.Proven
		}
		for _, v := range set.Vantages {
			if v.Role != fact.Server {
				continue
			}
			judged, _ := Weigh(elsewhere(set, v.ID))
			for _, c := range judged.Causes {
				rests := slices.ContainsFunc(set.Facts, func(f fact.Fact) bool {
					return f.Vantage == v.ID && slices.Contains(c.Because, f.ID)
				})
				if c.Certainty == trail.Proven && rests && was[c.ID] && !byName[c.ID] {
					t.Errorf("%s: %s is proven by another host: %s %v", name, c.ID, c.Summary, c.Because)
				}
			}
		}
	}
}
