package weigh

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// Wider is what of the filters of any host stopped packets then and does not
// now: rules that are gone, policies that were turned, profiles that are off, and
// rules that let everybody in. A try that gets through with the filter off shows
// that it was the filter, and nothing more.
func Wider(before, now fact.Set) []string {
	was, is := tablesByHost(before), tablesByHost(now)
	var list []string
	for _, host := range was.hosts {
		old, later := was.tables[host], is.tables[host]
		if later == nil {
			continue // nobody looked there now
		}
		then, err := filter.FromFacts(old)
		after, err2 := filter.FromFacts(later)
		if err != nil || err2 != nil {
			continue
		}
		had, has := then.Lines(), after.Lines()
		for _, line := range had {
			if !slices.Contains(has, line) && stops(line) {
				list = append(list, fmt.Sprintf("%s: gone is %s", host, line))
			}
		}
		for _, line := range has {
			if !slices.Contains(had, line) && letsAllIn(line) {
				list = append(list, fmt.Sprintf("%s: new is %s, which lets everybody in", host, line))
			}
		}
		list = append(list, profilesOff(host, old.Firewall, later.Firewall)...)
	}
	return list
}

type standingTables struct {
	hosts  []string
	tables map[string]*fact.Tables
}

func tablesByHost(set fact.Set) standingTables {
	t := standingTables{tables: map[string]*fact.Tables{}}
	names := map[string]string{}
	for _, v := range set.Vantages {
		names[v.ID] = v.Host
	}
	for i := range set.Facts {
		if f := &set.Facts[i]; f.Tables != nil {
			host := names[f.Vantage]
			if t.tables[host] == nil {
				t.hosts = append(t.hosts, host)
			}
			t.tables[host] = f.Tables
		}
	}
	return t
}

// stops reports whether a line of a filter, as it is told, stops packets.
func stops(line string) bool {
	low := strings.ToLower(line)
	return strings.HasSuffix(low, "policy drop") || strings.Contains(low, ": block ") ||
		slices.ContainsFunc(strings.Fields(low), func(w string) bool { return w == "drop" || w == "reject" })
}

// letsAllIn reports whether a line lets packets in from everywhere.
func letsAllIn(line string) bool {
	low := strings.ToLower(line)
	words := strings.Fields(low)
	accepts := slices.Contains(words, "accept") || strings.Contains(low, ": allow ")
	narrow := slices.ContainsFunc(words, func(w string) bool {
		return w == "saddr" || w == "daddr" || w == "-s" || w == "-d" || w == "peer" || w == "state" || w == "--ctstate" || w == "iif" || w == "iifname" || w == "-i"
	})
	return accepts && !narrow
}

// profilesOff is the profiles of a firewall of Windows that filtered then and do
// not now.
func profilesOff(host string, before, now *fact.Firewall) []string {
	if before == nil || now == nil {
		return nil
	}
	var list []string
	for _, p := range before.Profiles {
		at := slices.IndexFunc(now.Profiles, func(n fact.FirewallProfile) bool { return n.Name == p.Name })
		if at >= 0 && p.On != nil && *p.On && now.Profiles[at].On != nil && !*now.Profiles[at].On {
			list = append(list, fmt.Sprintf("%s: the profile %s is off", host, p.Name))
		}
	}
	return list
}
