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
	list = append(list, listsOpened(before, now)...)
	list = append(list, settingsLoosened(before, now)...)
	return append(list, sheetsOpened(before.Ask.Sheets, now.Ask.Sheets)...)
}

// everybody is how lists of programs write that it is for all.
var everybody = []string{"0.0.0.0/0", "::/0", "all", "ALL", "*", "%", "trust", "any"}

// listsOpened is the lines of programs' own lists that let everybody in, or ask
// nobody for a secret, and were not there then.
func listsOpened(before, now fact.Set) []string {
	bare := map[string]bool{} // lists that name addresses alone
	lines := func(set fact.Set) (map[string][]string, []string) {
		found, order := map[string][]string{}, []string{}
		names := map[string]string{}
		for _, v := range set.Vantages {
			names[v.ID] = v.Host
		}
		for _, f := range set.Facts {
			if f.Access == nil {
				continue
			}
			for _, file := range f.Access.Files {
				place := names[f.Vantage] + ": " + file.Path
				if _, known := found[place]; !known {
					order = append(order, place)
					found[place] = []string{}
				}
				bare[place] = file.Kind == "list"
				for _, line := range file.Lines {
					found[place] = append(found[place], strings.Join(strings.Fields(line.Text), " "))
				}
			}
		}
		return found, order
	}
	was, _ := lines(before)
	is, order := lines(now)
	var list []string
	for _, place := range order {
		old, seen := was[place]
		if !seen {
			continue // nobody read it then
		}
		for _, line := range is[place] {
			words := strings.FieldsFunc(line, func(r rune) bool {
				return r == ' ' || r == ',' || r == ';' ||
					r == ':'
			})
			if strings.HasSuffix(place, ".allow") || strings.Contains(line, "::/0") {
				words = strings.Fields(line)
			}
			if bare[place] && slices.Contains(everybody, line) && !slices.Contains(old, line) {
				list = append(list, fmt.Sprintf("%s: new is %q, a line of a list that lets everybody in", place, line))
				continue
			}
			opens := len(words) > 1 && !slices.Contains([]string{"deny", "reject"}, words[0]) &&
				words[len(words)-1] != "reject" &&
				slices.ContainsFunc(words[1:], func(w string) bool { return slices.Contains(everybody, w) })
			if opens && !slices.Contains(old, line) && (words[len(words)-1] == "trust" || !onlyNames(words)) {
				list = append(list, fmt.Sprintf("%s: new is %q, a line of a list that lets everybody in", place, line))
			}
		}
	}
	return list
}

// onlyNames reports whether a line of an access list of PostgreSQL's shape says
// all of databases and accounts alone, and names a net.
func onlyNames(words []string) bool {
	if len(words) < 4 || !strings.HasPrefix(words[0], "host") {
		return false
	}
	return !slices.Contains(everybody, words[3])
}

// sheetsOpened is what of the sheets denied then and is off or allows now.
func sheetsOpened(before, now []fact.Sheet) []string {
	var list []string
	for _, is := range now {
		at := slices.IndexFunc(before, func(s fact.Sheet) bool { return s.Name == is.Name })
		if at < 0 {
			continue
		}
		was := before[at]
		for _, l := range is.Layers {
			i := slices.IndexFunc(was.Layers, func(o fact.Layer) bool { return o.Name == l.Name })
			switch {
			case i < 0:
			case l.Off && !was.Layers[i].Off:
				list = append(list, fmt.Sprintf("sheet %s: the layer %s is off", is.Name, l.Name))
			case l.Otherwise == "allow" && was.Layers[i].Otherwise != "allow":
				list = append(list, fmt.Sprintf("sheet %s: the layer %s allows what no rule names", is.Name, l.Name))
			}
		}
		if is.SignIn == nil || was.SignIn == nil {
			continue
		}
		for _, r := range is.SignIn.Rules {
			i := slices.IndexFunc(was.SignIn.Rules, func(o fact.SignInRule) bool { return o.Name == r.Name })
			if i >= 0 && r.Off && !was.SignIn.Rules[i].Off && r.Do != "allow" {
				list = append(list, fmt.Sprintf("sheet %s: the sign-in rule %s is off", is.Name, r.Name))
			}
		}
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
		return w == "saddr" || w == "daddr" || w == "-s" || w == "-d" || w == "peer" || w == "state" ||
			w == "--ctstate" ||
			w == "iif" ||
			w == "iifname" ||
			w == "-i"
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
