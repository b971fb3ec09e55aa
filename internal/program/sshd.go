package program

import (
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// SSHLine is one directive of sshd's settings, where it stands.
type SSHLine struct {
	File, Word string // the word in lower case
	Args       []string
	number     int
}

// SSHSettings is what sshd's settings say for one login (sshd_config(5)): of
// single values the first, of lists all lines; a Match block that applies goes
// before what stands outside of any.
type SSHSettings struct {
	found   map[string][]SSHLine
	Unknown []string // why a block or an entry may or may not apply
}

// SSHLogin is the login that settings are read for.
type SSHLogin struct {
	Account string
	Groups  []string // nil: not known
	Source  netip.Addr
	Port    uint16
	names   bool // the server looks up which name the source has (UseDNS)
}

// mostIncludes bounds how deep settings include each other.
const mostIncludes = 16

// endOfInclude stands where an included file ends.
const endOfInclude = "end of include"

func (l SSHLine) String() string {
	return fmt.Sprintf("%s, line %d (%s)", l.File, l.number, strings.TrimSpace(l.Word+" "+strings.Join(l.Args, " ")))
}

// SSHSettingsFor reads the files of a look; nil if sshd's were not among them.
func SSHSettingsFor(a *fact.Access, login SSHLogin) *SSHSettings {
	var files []fact.AccessFile
	for _, f := range a.Files {
		if f.Kind == "sshd" {
			files = append(files, f)
		}
	}
	if len(files) == 0 {
		return nil
	}
	s := &SSHSettings{found: map[string][]SSHLine{}}
	within := map[string][]SSHLine{}
	type block struct {
		applies filter.Tri
		inside  bool
	}
	now, outer := block{applies: filter.Yes}, []block(nil)
	lines := SSHLines(files, files[0], 0)
	login.names = SSHUsesNames(lines)
	for _, l := range lines {
		switch {
		case l.Word == "include":
			outer = append(outer, now)
		case l.Word == endOfInclude: // a block ends with the file that it is in
			now, outer = outer[len(outer)-1], outer[:len(outer)-1]
		case l.Word == "match":
			now = block{login.matches(l.Args), true}
			if now.applies == filter.Unknown {
				s.Unknown = append(s.Unknown, "whether "+l.String()+" applies is not known")
			}
		case now.applies != filter.Yes:
		case now.inside:
			within[l.Word] = append(within[l.Word], l)
		default:
			s.found[l.Word] = append(s.found[l.Word], l)
		}
	}
	for word, lines := range within {
		s.found[word] = lines
	}
	return s
}

// SSHLines is the directives of a file, with those of the files that it
// includes in their place.
func SSHLines(files []fact.AccessFile, f fact.AccessFile, depth int) []SSHLine {
	var list []SSHLine
	for _, line := range f.Lines {
		text, _, _ := strings.Cut(strings.TrimSpace(line.Text), " #")
		fields := strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\t' || r == '=' || r == '"' })
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		l := SSHLine{f.Path, strings.ToLower(fields[0]), fields[1:], line.Number}
		list = append(list, l)
		if l.Word != "include" {
			continue
		}
		for _, pattern := range l.Args {
			if !path.IsAbs(pattern) {
				pattern = path.Join("/etc/ssh", pattern)
			}
			for _, other := range files {
				if ok, err := path.Match(pattern, other.Path); err == nil && ok && depth < mostIncludes &&
					other.Path != f.Path {
					list = append(list, SSHLines(files, other, depth+1)...)
				}
			}
		}
		list = append(list, SSHLine{Word: endOfInclude})
	}
	return list
}

// SSHUsesNames reports whether the server looks up the names of its clients; by
// itself it does not.
func SSHUsesNames(lines []SSHLine) bool {
	at := slices.IndexFunc(lines, func(l SSHLine) bool { return l.Word == "usedns" && len(l.Args) > 0 })
	return at >= 0 && strings.EqualFold(lines[at].Args[0], "yes")
}

// matches reports whether a Match line applies: every criterion must.
func (s SSHLogin) matches(args []string) filter.Tri {
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
			m = patternList(value, func(p string) bool { return GlobMatches(p, s.Account) })
		case "group":
			if s.Groups != nil {
				m = patternList(value, func(p string) bool {
					return slices.ContainsFunc(s.Groups, func(g string) bool { return GlobMatches(p, g) })
				})
			}
		case "address", "host":
			if word == "address" || !s.names {
				m = patternList(value, func(p string) bool { return sourcePattern(p, s.Source) })
			}
		case "localport":
			m = patternList(value, func(p string) bool { return p == fmt.Sprint(s.Port) })
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
	if net, err := NetPattern(p); err == nil {
		return net.Contains(source)
	}
	return GlobMatches(p, source.String())
}

// listed is the first entry of a list that names the account, as far as the
// source goes, and the first that names it from elsewhere.
func (s *SSHSettings) listed(word string, login SSHLogin) (here, elsewhere *SSHLine) {
	for i, l := range s.found[word] {
		for _, entry := range l.Args {
			user, host, bound := strings.Cut(entry, "@")
			if !GlobMatches(user, login.Account) {
				continue
			}
			if !bound || sourcePattern(host, login.Source) {
				return &s.found[word][i], elsewhere
			}
			if _, err := NetPattern(host); err != nil && SSHUsesNames(s.found["usedns"]) &&
				strings.Trim(host, "0123456789.*?:") != "" {
				s.Unknown = append(s.Unknown, "which name the server finds for "+login.Source.String()+" is not known")
			}
			if elsewhere == nil {
				elsewhere = &s.found[word][i]
			}
		}
	}
	return nil, elsewhere
}

// grouped is the first line of a list that names a group of the account.
func (s *SSHSettings) grouped(word string, login SSHLogin) *SSHLine {
	for i, l := range s.found[word] {
		for _, p := range l.Args {
			if slices.ContainsFunc(login.Groups, func(g string) bool { return GlobMatches(p, g) }) {
				return &s.found[word][i]
			}
		}
	}
	return nil
}

// Short is why a login by a public key alone is not enough, or is not taken at all, by
// the methods that the settings allow; no cause if one is enough.
func (s *SSHSettings) Short() (cause, text string, by *SSHLine) {
	if lines := s.found["pubkeyauthentication"]; len(lines) > 0 && len(lines[0].Args) > 0 &&
		strings.EqualFold(lines[0].Args[0], "no") {
		return "login/mechanism-off", lines[0].String() + " takes no keys", &lines[0]
	}
	lines := s.found["authenticationmethods"]
	if len(lines) == 0 || len(lines[0].Args) == 0 {
		return "", "", nil
	}
	keys := false
	for _, list := range lines[0].Args { // any of the lists is enough, all of its methods are wanted
		methods := strings.Split(strings.ToLower(list), ",")
		key := slices.Contains(methods, "publickey")
		if strings.EqualFold(list, "any") || strings.EqualFold(list, "none") || key && len(methods) == 1 {
			return "", "", nil
		}
		keys = keys || key
	}
	if !keys {
		return "login/mechanism-off", lines[0].String() + " takes no keys", &lines[0]
	}
	return "login/second-factor", lines[0].String() + " wants more than a key", &lines[0]
}

// Refuses is why sshd does not let an account in, before it looks at any
// secret, in the order in which it asks itself; no cause if it does.
func (s *SSHSettings) Refuses(login SSHLogin, mechanism string) (cause, text string, by *SSHLine) {
	if by, _ := s.listed("denyusers", login); by != nil {
		return "login/no-right", fmt.Sprintf("%s shuts out %s from %s", by, login.Account, login.Source), by
	}
	if lines := s.found["allowusers"]; len(lines) > 0 {
		here, elsewhere := s.listed("allowusers", login)
		switch {
		case here != nil:
		case elsewhere != nil:
			return "login/not-from-here", fmt.Sprintf(
				"%s lets %s in from elsewhere, and not from %s",
				elsewhere,
				login.Account,
				login.Source,
			), elsewhere
		default:
			return "login/no-right", fmt.Sprintf("%s does not name %s", lines[0], login.Account), &lines[0]
		}
	}
	if login.Groups != nil {
		if by := s.grouped("denygroups", login); by != nil {
			return "login/no-right", fmt.Sprintf("%s shuts out a group of %s", by, login.Account), by
		}
		if lines := s.found["allowgroups"]; len(lines) > 0 && s.grouped("allowgroups", login) == nil {
			return "login/missing-group", fmt.Sprintf("%s names no group of %s", lines[0], login.Account), &lines[0]
		}
	}
	if lines := s.found["permitrootlogin"]; len(lines) > 0 && login.Account == "root" && len(lines[0].Args) > 0 {
		switch value := strings.ToLower(lines[0].Args[0]); {
		case value == "no":
			return "login/no-right", lines[0].String() + " shuts out root", &lines[0]
		case strings.HasSuffix(value, "-password") && mechanism != "publickey":
			return "login/mechanism-off", lines[0].String() + " lets root in by key alone", &lines[0]
		}
	}
	return "", "", nil
}
