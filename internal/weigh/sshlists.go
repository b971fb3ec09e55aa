package weigh

import (
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// sshLine is one directive of sshd's settings, where it stands.
type sshLine struct {
	file, word string // the word in lower case
	args       []string
	number     int
}

func (l sshLine) String() string {
	return fmt.Sprintf("%s, line %d (%s)", l.file, l.number, strings.TrimSpace(l.word+" "+strings.Join(l.args, " ")))
}

// sshSettings is what sshd's settings say for one login (sshd_config(5)): of
// single values the first, of lists all lines; a Match block that applies goes
// before what stands outside of any.
type sshSettings struct {
	found   map[string][]sshLine
	unknown []string // why a block or an entry may or may not apply
}

// sshLogin is the login that settings are read for.
type sshLogin struct {
	account string
	groups  []string // nil: not known
	source  netip.Addr
	port    uint16
	names   bool // the server looks up which name the source has (UseDNS)
}

// mostIncludes bounds how deep settings include each other.
const mostIncludes = 16

// sshSettingsFor reads the files of a look; nil if sshd's were not among them.
func sshSettingsFor(a *fact.Access, login sshLogin) *sshSettings {
	var files []fact.AccessFile
	for _, f := range a.Files {
		if f.Kind == "sshd" {
			files = append(files, f)
		}
	}
	if len(files) == 0 {
		return nil
	}
	s := &sshSettings{found: map[string][]sshLine{}}
	within := map[string][]sshLine{}
	type block struct {
		applies filter.Tri
		inside  bool
	}
	now, outer := block{applies: filter.Yes}, []block(nil)
	lines := sshLines(files, files[0], 0)
	login.names = usesNames(lines)
	for _, l := range lines {
		switch {
		case l.word == "include":
			outer = append(outer, now)
		case l.word == endOfInclude: // a block ends with the file that it is in
			now, outer = outer[len(outer)-1], outer[:len(outer)-1]
		case l.word == "match":
			now = block{login.matches(l.args), true}
			if now.applies == filter.Unknown {
				s.unknown = append(s.unknown, "whether "+l.String()+" applies is not known")
			}
		case now.applies != filter.Yes:
		case now.inside:
			within[l.word] = append(within[l.word], l)
		default:
			s.found[l.word] = append(s.found[l.word], l)
		}
	}
	for word, lines := range within {
		s.found[word] = lines
	}
	return s
}

// sshLines is the directives of a file, with those of the files that it
// includes in their place.
func sshLines(files []fact.AccessFile, f fact.AccessFile, depth int) []sshLine {
	var list []sshLine
	for _, line := range f.Lines {
		text, _, _ := strings.Cut(strings.TrimSpace(line.Text), " #")
		fields := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\t' || r == '=' || r == '"' })
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		l := sshLine{f.Path, strings.ToLower(fields[0]), fields[1:], line.Number}
		list = append(list, l)
		if l.word != "include" {
			continue
		}
		for _, pattern := range l.args {
			if !path.IsAbs(pattern) {
				pattern = path.Join("/etc/ssh", pattern)
			}
			for _, other := range files {
				if ok, err := path.Match(pattern, other.Path); err == nil && ok && depth < mostIncludes && other.Path != f.Path {
					list = append(list, sshLines(files, other, depth+1)...)
				}
			}
		}
		list = append(list, sshLine{word: endOfInclude})
	}
	return list
}

// endOfInclude stands where an included file ends.
const endOfInclude = "end of include"

// usesNames reports whether the server looks up the names of its clients; by
// itself it does not.
func usesNames(lines []sshLine) bool {
	at := slices.IndexFunc(lines, func(l sshLine) bool { return l.word == "usedns" && len(l.args) > 0 })
	return at >= 0 && strings.EqualFold(lines[at].args[0], "yes")
}

// matches reports whether a Match line applies: every criterion must.
func (s sshLogin) matches(args []string) filter.Tri {
	all := filter.Yes
	for i := 0; i < len(args); i++ {
		word := strings.ToLower(args[i])
		if word == "all" {
			continue
		}
		value := ""
		if i++; i < len(args) {
			value = args[i]
		}
		m := filter.Unknown
		switch word {
		case "user":
			m = patternList(value, func(p string) bool { return globMatches(p, s.account) })
		case "group":
			if s.groups != nil {
				m = patternList(value, func(p string) bool {
					return slices.ContainsFunc(s.groups, func(g string) bool { return globMatches(p, g) })
				})
			}
		case "address", "host":
			if word == "address" || !s.names {
				m = patternList(value, func(p string) bool { return sourcePattern(p, s.source) })
			}
		case "localport":
			m = patternList(value, func(p string) bool { return p == fmt.Sprint(s.port) })
		}
		switch {
		case m == filter.No:
			return filter.No
		case m == filter.Unknown:
			all = filter.Unknown
		}
	}
	return all
}

// patternList is a list with commas: one that matches and begins with "!"
// decides against all others.
func patternList(list string, match func(string) bool) filter.Tri {
	result := filter.No
	for p := range strings.SplitSeq(list, ",") {
		not, negated := strings.CutPrefix(p, "!")
		switch {
		case negated && match(not):
			return filter.No
		case !negated && match(p):
			result = filter.Yes
		}
	}
	return result
}

func sourcePattern(p string, source netip.Addr) bool {
	if net, err := netPattern(p); err == nil {
		return net.Contains(source)
	}
	return globMatches(p, source.String())
}

// listed is the first entry of a list that names the account, as far as the
// source goes, and the first that names it from elsewhere.
func (s *sshSettings) listed(word string, login sshLogin) (here, elsewhere *sshLine) {
	for i, l := range s.found[word] {
		for _, entry := range l.args {
			user, host, bound := strings.Cut(entry, "@")
			if !globMatches(user, login.account) {
				continue
			}
			if !bound || sourcePattern(host, login.source) {
				return &s.found[word][i], elsewhere
			}
			if _, err := netPattern(host); err != nil && usesNames(s.found["usedns"]) && strings.Trim(host, "0123456789.*?:") != "" {
				s.unknown = append(s.unknown, "which name the server finds for "+login.source.String()+" is not known")
			}
			if elsewhere == nil {
				elsewhere = &s.found[word][i]
			}
		}
	}
	return nil, elsewhere
}

// grouped is the first line of a list that names a group of the account.
func (s *sshSettings) grouped(word string, login sshLogin) *sshLine {
	for i, l := range s.found[word] {
		for _, p := range l.args {
			if slices.ContainsFunc(login.groups, func(g string) bool { return globMatches(p, g) }) {
				return &s.found[word][i]
			}
		}
	}
	return nil
}

// refuses is why sshd does not let an account in, before it looks at any
// secret, in the order in which it asks itself; no cause if it does.
func (s *sshSettings) refuses(login sshLogin, mechanism string) (cause, text string, by *sshLine) {
	if by, _ := s.listed("denyusers", login); by != nil {
		return "login/no-right", fmt.Sprintf("%s shuts out %s from %s", by, login.account, login.source), by
	}
	if lines := s.found["allowusers"]; len(lines) > 0 {
		here, elsewhere := s.listed("allowusers", login)
		switch {
		case here != nil:
		case elsewhere != nil:
			return "login/not-from-here", fmt.Sprintf("%s lets %s in from elsewhere, and not from %s", elsewhere, login.account, login.source), elsewhere
		default:
			return "login/no-right", fmt.Sprintf("%s does not name %s", lines[0], login.account), &lines[0]
		}
	}
	if login.groups != nil {
		if by := s.grouped("denygroups", login); by != nil {
			return "login/no-right", fmt.Sprintf("%s shuts out a group of %s", by, login.account), by
		}
		if lines := s.found["allowgroups"]; len(lines) > 0 && s.grouped("allowgroups", login) == nil {
			return "login/missing-group", fmt.Sprintf("%s names no group of %s", lines[0], login.account), &lines[0]
		}
	}
	if lines := s.found["permitrootlogin"]; len(lines) > 0 && login.account == "root" && len(lines[0].args) > 0 {
		switch value := strings.ToLower(lines[0].args[0]); {
		case value == "no":
			return "login/no-right", lines[0].String() + " shuts out root", &lines[0]
		case strings.HasSuffix(value, "-password") && mechanism != "publickey":
			return "login/mechanism-off", lines[0].String() + " lets root in by key alone", &lines[0]
		}
	}
	return "", "", nil
}

// sshListReason says, by sshd's own settings, why a login was refused.
func (v *view) sshListReason(w *wants, t *try, login, account *fact.Fact, r *Reading) {
	if t.server == "" || v.scheme.Wire != "ssh" {
		return
	}
	w.add(Want{Look: fact.LookAccess, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Door},
		Want{Look: fact.LookRoute, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: Door},
		Want{Look: fact.LookPeers, At: fact.Server, On: t.server, Gate: Door})
	who := sshLogin{account: login.Login.Account, source: v.localAddress(t), port: t.target.Port}
	if account != nil && account.Account != nil && account.Account.Known {
		who.groups = account.Account.Groups
	}
	if !who.source.IsValid() {
		return
	}
	for _, f := range v.facts(t.server, fact.LookAccess) {
		if f.Access == nil {
			continue
		}
		s := sshSettingsFor(f.Access, who)
		if s == nil {
			continue
		}
		cause, text, by := s.refuses(who, login.Login.Mechanism)
		if cause == "" {
			continue
		}
		logged := strings.Contains(r.Summary, "from "+who.source.String()) // the server's own log line of this try
		r.Cause, r.Most, r.Short = cause, "", slices.Clone(s.unknown)
		r.Summary = fmt.Sprintf("%s is refused: %s", login.Login.Account, text)
		r.Because = union(r.Because, factIDs(f))
		r.Values["source"], r.Values["file"], r.Values["line"] = who.source.String(), by.file, strings.TrimSpace(by.word+" "+strings.Join(by.args, " "))
		at := slices.IndexFunc(f.Access.Files, func(file fact.AccessFile) bool { return file.Path == by.file })
		if since := v.readBy(t, f.Access.Files[at].Changed); since != "" {
			r.Short = append(r.Short, since)
		}
		if cause == "login/missing-group" && len(account.Account.Others) > 0 {
			r.Short = append(r.Short, "groups also come from "+strings.Join(account.Account.Others, ", ")+", which were not asked")
		}
		if cause == "login/not-from-here" && !logged {
			if _, direct, _ := v.source(t); !direct && !v.seenFrom(t, who.source) && !v.onSame(t) {
				r.Short = append(r.Short, "a translation on the way may show the server another address than "+who.source.String())
			}
		}
		return
	}
}
