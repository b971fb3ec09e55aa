package trace

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"uakari/internal/fact"
)

// Filters adds what the filters of hosts are now to a set: of those whose
// filters another set has, and this one has not, since nothing asked for them.
func Filters(ctx context.Context, set, before fact.Set, at []Vantage) fact.Set {
	hosts := map[string]bool{}
	for _, f := range before.Facts {
		if f.Tables != nil {
			hosts[hostOf(before, f.Vantage)] = true
		}
	}
	var mu sync.Mutex // guards set
	var wg sync.WaitGroup
	for _, v := range at {
		info := v.Info()
		seen := slices.ContainsFunc(set.Facts, func(f fact.Fact) bool { return f.Tables != nil && hostOf(set, f.Vantage) == info.Host })
		if !hosts[info.Host] || seen {
			continue
		}
		wg.Go(func() {
			v.Look(ctx, fact.Order{Look: fact.LookTables}, func(f fact.Fact) {
				mu.Lock()
				defer mu.Unlock()
				f.Vantage, f.ID = info.ID, fmt.Sprintf("e%d", len(set.Facts)+1)
				set.Facts = append(set.Facts, f)
			})
		})
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
