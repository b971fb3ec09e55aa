package weigh

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// stand is lines of settings by the place where they were seen.
type stand struct {
	places []string
	lines  map[string][]string
}

// Differences is what differs, on the hosts that both sets saw, of what bears
// on a connection and somebody sets: filters, routes, kernel settings, hosts
// entries, access lists, settings, certificates and units.
func Differences(before, after fact.Set) []string {
	was, is := standing(before), standing(after)
	var list []string
	for _, place := range is.places {
		old, seen := was.lines[place]
		if !seen {
			continue // nobody looked there before
		}
		now := is.lines[place]
		for _, line := range now {
			if !slices.Contains(old, line) {
				list = append(list, fmt.Sprintf("%s: now has %s", place, line))
			}
		}
		for _, line := range old {
			if !slices.Contains(now, line) {
				list = append(list, fmt.Sprintf("%s: no longer has %s", place, line))
			}
		}
	}
	const most = 40
	if len(list) > most {
		list = append(list[:most], fmt.Sprintf("and %d more", len(list)-most))
	}
	return list
}

func standing(set fact.Set) stand {
	s := stand{lines: map[string][]string{}}
	hosts := map[string]string{}
	for _, v := range set.Vantages {
		hosts[v.ID] = v.Host
	}
	put := func(f *fact.Fact, what string, lines ...string) {
		place := hosts[f.Vantage] + ", " + what
		if _, seen := s.lines[place]; !seen {
			s.places = append(s.places, place)
			s.lines[place] = []string{}
		}
		for _, line := range lines {
			if !slices.Contains(s.lines[place], line) {
				s.lines[place] = append(s.lines[place], line)
			}
		}
	}
	for i := range set.Facts {
		standOf(&set.Facts[i], put)
	}
	return s
}

// standOf gives what one fact says of settings.
func standOf(f *fact.Fact, put func(f *fact.Fact, what string, lines ...string)) {
	switch {
	case f.Tables != nil:
		if rules, err := filter.FromFacts(f.Tables); err == nil {
			put(f, "packet filters", rules.Lines()...)
		}
	case f.Routes != nil:
		put(f, "routes", f.Routes.List...)
	case f.HostsFile != nil:
		var lines []string
		for _, a := range f.HostsFile.Addrs {
			lines = append(lines, fmt.Sprintf("%s %s", a, f.HostsFile.Name))
		}
		put(f, f.HostsFile.Path+" for "+f.HostsFile.Name, lines...)
	case f.Setup != nil:
		put(f, f.Setup.Path, "resolvers "+joined(f.Setup.Servers), "search "+strings.Join(f.Setup.Search, " "))
	case f.Kernel != nil:
		for _, key := range []string{"net/ipv4/ip_forward", "net/ipv6/conf/all/forwarding",
			"net/ipv4/conf/all/rp_filter", "net/core/somaxconn", "net/ipv4/tcp_abort_on_overflow"} {
			if value, ok := f.Kernel.Settings[key]; ok {
				put(f, "kernel settings", key+" = "+value)
			}
		}
	case f.Access != nil:
		for _, file := range f.Access.Files {
			var lines []string
			for _, l := range file.Lines {
				lines = append(lines, strings.TrimSpace(l.Text))
			}
			put(f, file.Path, lines...)
		}
	case f.Settings != nil:
		for _, each := range f.Settings.List {
			put(f, each.At.File, each.At.Named()+" = "+each.Value)
		}
	case f.Proxy != nil:
		put(f, "proxy of the environment", f.Proxy.Value)
	case f.Service != nil && f.Order.Target.Again == 0:
		for _, p := range f.Service.Programs {
			for _, u := range p.Units {
				put(f, "units", fmt.Sprintf("%s %s at boot", u.Name, cmp.Or(u.Enabled, "as it was")))
			}
		}
	}
}

func joined[T fmt.Stringer](list []T) string {
	var texts []string
	for _, each := range list {
		texts = append(texts, each.String())
	}
	return strings.Join(texts, " ")
}
