package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// turnedAway is the symptoms that an access list may give.
var turnedAway = []Symptom{ServerFirstClosed, ServerFirstSilent, ServerFirstRefused, ClientFirstClosed, RefusedByCode, ErrorAnswer}

// accessReadings reads the files by which the service, or the wrapper before
// it, lets addresses in.
func (v *view) accessReadings(w *wants, t *try) []Reading {
	if t.server == "" || !slices.Contains(turnedAway, t.symptom) {
		return nil
	}
	w.add(Want{Look: fact.LookAccess, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Door},
		Want{Look: fact.LookRoute, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: Door},
		Want{Look: fact.LookPeers, At: fact.Server, On: t.server, Gate: Door})
	source := v.localAddress(t)
	if !source.IsValid() {
		return nil
	}
	var readings []Reading
	if r, ok := v.reverseReading(w, t, source); ok {
		readings = append(readings, r)
	}
	for _, f := range v.facts(t.server, fact.LookAccess) {
		if f.Access == nil {
			continue
		}
		for _, judge := range accessJudges {
			cause, shows, text, line := judge(v, t, f.Access, source)
			if text == "" {
				continue
			}
			r := Reading{Gate: Door, Cause: cause, Shows: shows, Because: factIDs(f), Vantage: t.server, Summary: text,
				Values: v.place(t, values{"source": source.String(), "file": line.file, "line": line.text, "allow": line.allow,
					"opens": orElse(line.opens, "lets "+source.String()+" in, and nobody else")})}
			if _, direct, _ := v.source(t); !line.any && !direct && !v.seenFrom(t, source) && !v.onSame(t) {
				r.Short = append(r.Short, "a translation on the way may show the server another address than "+source.String())
			}
			if line.since != "" {
				r.Short = append(r.Short, line.since)
			}
			readings = append(readings, r)
		}
	}
	return readings
}

// localAddress is the client's own end of its connection.
func (v *view) localAddress(t *try) netip.Addr {
	if c := t.climb.connect; c != nil && c.Connect.Local.IsValid() {
		return c.Connect.Local.Addr().Unmap().WithZone("")
	}
	source, _, _ := v.source(t)
	return source
}

// listLine is what of a list decides.
type listLine struct {
	file, text string
	allow      string // the line that would let the client in
	any        bool   // every source fares alike, but this host's own
	opens      string // what that line does beside; "": it lets the client in, and nobody else
	since      string // why the running service may not have read it yet
}

// accessJudges read one kind of list each. They return no text where nothing
// keeps the source out.
var accessJudges = []func(v *view, t *try, a *fact.Access, source netip.Addr) (cause string, shows []Symptom, text string, line listLine){
	wrapperJudge, hbaJudge, nginxJudge, redisJudge, mysqlJudge, plainJudge,
}

// wrapperJudge evaluates hosts.allow and hosts.deny (hosts_access(5)): the
// first file that matches decides, and what neither names is let in.
func wrapperJudge(v *view, t *try, a *fact.Access, source netip.Addr) (string, []Symptom, string, listLine) {
	daemon := ""
	for _, l := range v.taking(t) {
		if slices.Contains(a.Wrapped, l.Program) {
			daemon = l.Program
		}
	}
	if daemon == "" {
		return "", nil, "", listLine{}
	}
	for _, kind := range []string{"hosts.allow", "hosts.deny"} {
		for _, f := range a.Files {
			if f.Kind != kind {
				continue
			}
			for _, rule := range wrapperRules(f.Lines) {
				m := rule.matches(daemon, source)
				if m == filter.No {
					continue
				}
				denies := kind == "hosts.deny"
				if rule.option == "deny" {
					denies = true
				} else if rule.option == "allow" {
					denies = false
				}
				if m == filter.Unknown || !denies {
					return "", nil, "", listLine{} // let in, or nobody can say
				}
				return "rules/wrapper-deny", []Symptom{ServerFirstClosed, ServerFirstSilent, ServerFirstRefused, ClientFirstClosed},
					fmt.Sprintf("%s, line %d (%s), keeps %s from %s", f.Path, rule.number, rule.text, source, daemon),
					listLine{file: f.Path, text: rule.text, allow: fmt.Sprintf("%s: %s", daemon, bracketed(source))}
			}
		}
	}
	return "", nil, "", listLine{}
}

func bracketed(a netip.Addr) string {
	if a.Is6() {
		return "[" + a.String() + "]"
	}
	return a.String()
}

// wrapperRule is one line of hosts.allow or hosts.deny.
type wrapperRule struct {
	number           int
	text             string
	daemons, clients []string
	option           string // "allow" or "deny", if the line says so itself
}

// wrapperRules reads lines; one that ends in a backslash goes on in the next.
func wrapperRules(lines []fact.Line) []wrapperRule {
	var rules []wrapperRule
	for i := 0; i < len(lines); i++ {
		number, text := lines[i].Number, lines[i].Text
		for strings.HasSuffix(text, "\\") && i+1 < len(lines) {
			i++
			text = strings.TrimSuffix(text, "\\") + lines[i].Text
		}
		text = strings.TrimSpace(text)
		if text == "" || text[0] == '#' {
			continue
		}
		fields := splitColons(text)
		if len(fields) < 2 {
			continue
		}
		r := wrapperRule{number: number, text: text, daemons: wrapperWords(fields[0]), clients: wrapperWords(fields[1])}
		for _, option := range fields[2:] {
			switch word := strings.ToLower(strings.TrimSpace(option)); word {
			case "allow", "deny":
				r.option = word
			}
		}
		rules = append(rules, r)
	}
	return rules
}

// splitColons splits at colons that are not within brackets, as those of IPv6
// addresses are, nor behind a backslash.
func splitColons(text string) []string {
	var list []string
	depth, begin := 0, 0
	for i := range len(text) {
		switch text[i] {
		case '[':
			depth++
		case ']':
			depth--
		case ':':
			if depth <= 0 && (i == 0 || text[i-1] != '\\') {
				list = append(list, text[begin:i])
				begin = i + 1
			}
		}
	}
	return append(list, text[begin:])
}

func wrapperWords(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\t' || r == ',' })
}

func (r wrapperRule) matches(daemon string, source netip.Addr) filter.Tri {
	d := listMatches(r.daemons, func(pattern string) filter.Tri {
		name, _, at := strings.Cut(pattern, "@")
		m := triOf(name == "ALL" || name == daemon)
		if at && m == filter.Yes {
			return filter.Unknown // of the server's addresses, only for one
		}
		return m
	})
	if d == filter.No {
		return filter.No
	}
	c := listMatches(r.clients, func(pattern string) filter.Tri { return clientMatches(pattern, source) })
	if c == filter.Yes {
		return d
	}
	return c
}

func triOf(b bool) filter.Tri {
	if b {
		return filter.Yes
	}
	return filter.No
}

// listMatches is whether a list matches: "A EXCEPT B" is what A matches and B
// does not.
func listMatches(words []string, match func(string) filter.Tri) filter.Tri {
	at := slices.Index(words, "EXCEPT")
	head, rest := words, []string(nil)
	if at >= 0 {
		head, rest = words[:at], words[at+1:]
	}
	result := filter.No
	for _, w := range head {
		switch match(w) {
		case filter.Yes:
			result = filter.Yes
		case filter.Unknown:
			if result == filter.No {
				result = filter.Unknown
			}
		}
		if result == filter.Yes {
			break
		}
	}
	if rest == nil || result == filter.No {
		return result
	}
	switch listMatches(rest, match) {
	case filter.Yes:
		return filter.No
	case filter.Unknown:
		return filter.Unknown
	}
	return result
}

// clientMatches is one pattern of a client list. Names of hosts are unknown:
// the server looks them up by itself.
func clientMatches(pattern string, source netip.Addr) filter.Tri {
	if user, host, ok := strings.Cut(pattern, "@"); ok && user != "" {
		if m := clientMatches(host, source); m == filter.No || user == "ALL" {
			return m
		}
		return filter.Unknown // the server asks the client who it is
	}
	switch pattern {
	case "ALL":
		return filter.Yes
	case "LOCAL", "KNOWN", "UNKNOWN", "PARANOID":
		return filter.Unknown
	}
	text := strings.NewReplacer("[", "", "]", "").Replace(pattern)
	if p, err := netPattern(text); err == nil {
		// A net that is not written by its first address matches nothing.
		host, _, _ := strings.Cut(text, "/")
		return triOf(p.Contains(source) && host == p.Addr().String())
	}
	switch {
	case strings.HasSuffix(pattern, ".") && strings.Trim(pattern, "0123456789.") == "":
		return triOf(strings.HasPrefix(source.String(), pattern))
	case strings.ContainsAny(pattern, "*?") && strings.Trim(pattern, "0123456789.*?") == "":
		return triOf(globMatches(pattern, source.String()))
	}
	return filter.Unknown
}

// netPattern reads an address, a net, or an address with a mask.
func netPattern(text string) (netip.Prefix, error) {
	if a, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(a, a.BitLen()), nil
	}
	host, mask, ok := strings.Cut(text, "/")
	if m, err := netip.ParseAddr(mask); ok && err == nil && m.Is4() {
		a, err := netip.ParseAddr(host)
		if err != nil {
			return netip.Prefix{}, err
		}
		bits, b := 0, m.As4()
		for bits < 32 && b[bits/8]&(0x80>>(bits%8)) != 0 {
			bits++
		}
		return netip.PrefixFrom(a, bits).Masked(), nil
	}
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return p, err
	}
	return p.Masked(), nil
}

// globMatches matches * and ?.
func globMatches(pattern, s string) bool {
	if pattern == "" {
		return s == ""
	}
	if pattern[0] == '*' {
		return globMatches(pattern[1:], s) || s != "" && globMatches(pattern, s[1:])
	}
	return s != "" && (pattern[0] == '?' || pattern[0] == s[0]) && globMatches(pattern[1:], s[1:])
}

// hbaJudge evaluates PostgreSQL's list (pg_hba.conf) for any account: it
// keeps a source out if no line names it, or if a line refuses it for all.
func hbaJudge(v *view, t *try, a *fact.Access, source netip.Addr) (string, []Symptom, string, listLine) {
	var file *fact.AccessFile
	for i := range a.Files {
		if a.Files[i].Kind == "pg_hba" {
			if file != nil {
				return "", nil, "", listLine{} // several clusters: which one is asked is not known
			}
			file = &a.Files[i]
		}
	}
	if file == nil || v.scheme.Wire != "postgres" {
		return "", nil, "", listLine{}
	}
	encrypted := t.climb.handshake != nil && t.climb.handshake.Handshake.Ending == fact.Done
	lines, ok := hbaLines(file, encrypted)
	if !ok {
		return "", nil, "", listLine{}
	}
	text, deciding := "", ""
	for _, l := range lines {
		m := hbaMatches(l.addr, source)
		if m == filter.No {
			continue
		}
		if m == filter.Yes && l.method == "reject" && l.databases == "all" && l.accounts == "all" {
			text = fmt.Sprintf("%s, line %d, rejects %s for every account", file.Path, l.number, source)
			deciding = l.text
			break
		}
		return "", nil, "", listLine{} // some account may come in
	}
	if text == "" {
		text = fmt.Sprintf("no line of %s names %s", file.Path, source)
	}
	bits := source.BitLen()
	return "rules/not-on-list", []Symptom{RefusedByCode, ErrorAnswer, ServerFirstRefused, ClientFirstClosed}, text,
		listLine{file: file.Path, text: deciding, allow: fmt.Sprintf("host DATABASE ACCOUNT %s/%d scram-sha-256", source, bits), since: v.readBy(t, file.Changed)}
}

// hbaMatches is whether the address of a line names a source.
func hbaMatches(addr string, source netip.Addr) filter.Tri {
	switch addr {
	case "all":
		return filter.Yes
	case "samehost", "samenet":
		return filter.Unknown
	}
	if p, err := netPattern(addr); err == nil {
		return triOf(p.Contains(source))
	}
	return filter.Unknown
}

// readBy is the guard that the running service has read a file: a file that
// changed after the service last started or was told to read it again proves
// nothing; "" if it was read.
func (v *view) readBy(t *try, changed time.Time) string {
	p, _ := v.chosen(v.programsAt(t.server))
	if p == nil || len(p.Processes) == 0 {
		return "when the service read its settings was not seen"
	}
	var since time.Time
	for _, proc := range p.Processes {
		if since.IsZero() || proc.Since.Before(since) {
			since = proc.Since
		}
	}
	if u := mainUnit(p); u != nil && u.Since.After(since) {
		since = u.Since
	}
	if since.IsZero() || changed.After(since) {
		return "the file changed after the service started; whether it was read since is not known"
	}
	return ""
}

// redisJudge says which setting it is by which a store turned a source away:
// it protects itself while nobody needs a secret.
func redisJudge(v *view, t *try, a *fact.Access, source netip.Addr) (string, []Symptom, string, listLine) {
	if c := t.climb.reply; v.scheme.Wire != "redis" || c == nil || c.Reply.Code != "DENIED" {
		return "", nil, "", listLine{}
	}
	for _, f := range a.Files {
		if f.Kind != "redis" {
			continue
		}
		where := "by default"
		line := listLine{file: f.Path, any: true, allow: "requirepass SECRET", opens: "every client must send that secret from then on", since: v.readBy(t, f.Changed)}
		if p, _ := v.chosen(v.programsAt(t.server)); line.since == "" && (mainUnit(p) == nil || mainUnit(p).Active != "active") {
			line.since = "the store hides which file it was started with"
		}
		for _, l := range f.Lines {
			switch word, value, _ := strings.Cut(strings.TrimSpace(l.Text), " "); strings.ToLower(word) {
			case "requirepass", "user", "aclfile":
				return "", nil, "", listLine{} // there is a secret, or there may be: the reason is another
			case "protected-mode":
				where, line.text = fmt.Sprintf("by line %d", l.Number), strings.TrimSpace(l.Text)
				if strings.TrimSpace(value) == "no" {
					return "", nil, "", listLine{}
				}
			}
		}
		return "rules/not-on-list", []Symptom{ErrorAnswer, RefusedByCode, ClientFirstClosed},
			fmt.Sprintf("protected mode is on (%s, %s) and no secret is set: it keeps %s out", f.Path, where, source), line
	}
	return "", nil, "", listLine{}
}

// plainJudge evaluates a plain list that a card names: who is not on it is
// kept out.
func plainJudge(v *view, t *try, a *fact.Access, source netip.Addr) (string, []Symptom, string, listLine) {
	for _, f := range a.Files {
		if f.Kind != "list" {
			continue
		}
		for _, l := range f.Lines {
			text, _, _ := strings.Cut(l.Text, "#")
			if p, err := netPattern(strings.TrimSpace(text)); err == nil && p.Contains(source) {
				return "", nil, "", listLine{}
			}
		}
		return "rules/not-on-list", nil, fmt.Sprintf("%s does not name %s", f.Path, source), listLine{file: f.Path, allow: source.String(), since: v.readBy(t, f.Changed)}
	}
	return "", nil, "", listLine{}
}
