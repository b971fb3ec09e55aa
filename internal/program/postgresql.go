package program

import (
	"iter"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// HBALine is one line of PostgreSQL's list that is about connections over TCP.
type HBALine struct {
	Number                    int
	Databases, Accounts, Addr string
	Method, Text              string
}

// HBALines reads a list; ok is false where not all of it is here.
func HBALines(file *fact.AccessFile, encrypted bool) (list []HBALine, ok bool) {
	for _, line := range file.Lines {
		body, _, _ := strings.Cut(line.Text, "#")
		f := strings.Fields(body)
		if len(f) > 0 && (strings.HasPrefix(f[0], "include") || strings.HasSuffix(body, "\\")) {
			return nil, false
		}
		if len(f) < 5 || !strings.HasPrefix(f[0], "host") {
			continue
		}
		if f[0] == "hostssl" && !encrypted || f[0] == "hostnossl" && encrypted || f[0] == "hostgssenc" {
			continue
		}
		addr, method := f[3], f[4]
		if strings.Count(addr, ".") == 3 && !strings.Contains(addr, "/") && len(f) > 5 &&
			strings.Count(f[4], ".") == 3 {
			addr, method = addr+"/"+f[4], f[5]
		}
		list = append(list, HBALine{line.Number, f[1], f[2], addr, method, strings.Join(f, " ")})
	}
	return list, true
}

// Servers is the directories that a line sends accounts to (the manual's "LDAP
// Authentication"): the line's own host and port, or those of its URL.
func (l HBALine) Servers(path string) []fact.Upstream {
	if l.Method != "ldap" {
		return nil
	}
	options := map[string]string{}
	for name, value := range hbaOptions(l.Text) {
		options[name] = value
	}
	up := fact.Upstream{Scheme: "ldap", Port: 389, Path: path, Line: l.Number}
	if options["ldapscheme"] == "ldaps" {
		up.Scheme, up.Port = "ldaps", 636
	}
	if port, err := strconv.ParseUint(options["ldapport"], 10, 16); err == nil {
		up.Port = uint16(port)
	}
	hosts := strings.Fields(options["ldapserver"])
	if u, err := url.Parse(options["ldapurl"]); err == nil && u.Hostname() != "" {
		hosts, up.Scheme = []string{u.Hostname()}, u.Scheme
		if u.Scheme == "ldaps" {
			up.Port = 636
		}
		if port, err := strconv.ParseUint(u.Port(), 10, 16); err == nil {
			up.Port = uint16(port)
		}
	}
	var list []fact.Upstream
	for _, host := range hosts {
		up.Host = host
		list = append(list, up)
	}
	return list
}

// hbaOptions is the options at the end of a line: name=value, where a value may
// be in quotes.
func hbaOptions(text string) iter.Seq2[string, string] {
	return func(yield func(string, string) bool) {
		for rest := text; rest != ""; {
			var word string
			quoted := false
			end := strings.IndexFunc(rest, func(r rune) bool {
				if r == '"' {
					quoted = !quoted
				}
				return r == ' ' && !quoted
			})
			if word, rest = rest, ""; end >= 0 {
				word, rest = word[:end], word[end+1:]
			}
			if name, value, ok := strings.Cut(word, "="); ok && !yield(name, strings.Trim(value, `"`)) {
				return
			}
		}
	}
}

// SignInServers is the directories that a host's lists send an account to; ""
// for every account.
func SignInServers(a *fact.Access, account string) []fact.Upstream {
	var list []fact.Upstream
	for i := range a.Files {
		if a.Files[i].Kind != "pg_hba" {
			continue
		}
		lines, _ := HBALines(&a.Files[i], true)
		for _, l := range lines {
			if account != "" && hbaNamed(l.Accounts, account) != filter.Yes {
				continue
			}
			for _, up := range l.Servers(a.Files[i].Path) {
				if !slices.Contains(list, up) {
					list = append(list, up)
				}
			}
		}
	}
	return list
}

// hbaNamed reports whether a list of names holds one. Groups and expressions
// are unknown.
func hbaNamed(list, name string, special ...string) filter.Tri {
	result := filter.No
	for each := range strings.SplitSeq(list, ",") {
		switch each = strings.Trim(each, `"`); {
		case each == "all" || each == name:
			return filter.Yes
		case each == "":
		case each[0] == '+' || each[0] == '@' || each[0] == '/' || slices.Contains(special, each):
			result = filter.Unknown
		}
	}
	return result
}

// HBAFirst is the first line that is for a database, an account and a source;
// none, where one before it may be.
func HBAFirst(lines []HBALine, database, account string, source netip.Addr) (HBALine, bool) {
	for _, l := range lines {
		all := []filter.Tri{
			hbaNamed(l.Databases, database, "sameuser", "samerole", "samegroup"),
			hbaNamed(l.Accounts, account),
			HBAMatches(l.Addr, source),
		}
		switch {
		case slices.Contains(all, filter.No):
		case slices.Contains(all, filter.Unknown):
			return HBALine{}, false
		default:
			return l, true
		}
	}
	return HBALine{}, false
}
