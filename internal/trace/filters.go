package trace

import (
	"context"
	"fmt"
	"sync"

	"uakari/internal/fact"
)

// Filters adds what the filters, lists and checks of hosts are now to a set: of
// those that another set has, and this one has not, since nothing asked for them.
func Filters(ctx context.Context, set, before fact.Set, at []Vantage) fact.Set {
	type place struct {
		host  string
		order fact.Order
	}
	looked := func(set fact.Set) map[place]bool {
		seen := map[place]bool{}
		for _, f := range set.Facts {
			if f.Tables != nil || f.Access != nil || f.Kernel != nil || f.Settings != nil {
				seen[place{hostOf(set, f.Vantage), f.Order}] = true
			}
		}
		return seen
	}
	then, now := looked(before), looked(set)
	var mu sync.Mutex // guards set
	var wg sync.WaitGroup
	for _, v := range at {
		info := v.Info()
		for each := range then {
			if each.host != info.Host || now[each] {
				continue
			}
			now[each] = true // a host may be several vantages
			wg.Go(func() {
				v.Look(ctx, each.order, func(f fact.Fact) {
					mu.Lock()
					defer mu.Unlock()
					f.Vantage, f.ID = info.ID, fmt.Sprintf("e%d", len(set.Facts)+1)
					set.Facts = append(set.Facts, f)
				})
			})
		}
	}
	wg.Wait()
	return set
}

func hostOf(set fact.Set, id string) string {
	for _, v := range set.Vantages {
		if v.ID == id {
			return v.Host
		}
	}
	return ""
}
