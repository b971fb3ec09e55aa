package program

import (
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// haproxyKeeps is the lines of HAProxy's settings that bear on addresses. What it writes
// into requests may be a secret, and is none of them.
const haproxyKeeps = `^\s*(global|defaults|frontend|listen|backend|bind|acl\s+\S+\s+src)\b|` +
	`^\s*(tcp-request\s+(connection|session|content)|http-request)\s+` +
	`(accept|allow|reject|deny|tarpit|silent-drop|set-src|expect-proxy|expect-netscaler-cip)\b`

// HAProxyRule is a rule that turns a source away.
type HAProxyRule struct {
	File   *fact.AccessFile
	Number int
	Text   string
	// Web is that a request is answered with an error; else the connection is cut.
	Web bool
	// Unsure is why it may not be this rule that decides; "" if it is.
	Unsure string
}

// haproxyFront is a section that takes connections.
type haproxyFront struct {
	file  *fact.AccessFile
	binds []string
	acls  map[string][]string // the sources of each, of all its lines
	rules []fact.Line
}

// haproxyFronts is the sections of settings that take connections.
func haproxyFronts(files []fact.AccessFile) (fronts []*haproxyFront) {
	for i := range files {
		if files[i].Kind != fact.ListHAProxy {
			continue
		}
		var at *haproxyFront
		for _, l := range files[i].Lines {
			text, _, _ := strings.Cut(l.Text, " #")
			words := strings.Fields(text)
			switch {
			case len(words) == 0:
			case words[0] == "frontend" || words[0] == "listen":
				at = &haproxyFront{file: &files[i], acls: map[string][]string{}}
				fronts = append(fronts, at)
			case slices.Contains([]string{"global", "defaults", "backend"}, words[0]):
				at = nil
			case at == nil || len(words) < 2:
			case words[0] == "bind":
				at.binds = append(at.binds, strings.Split(words[1], ",")...)
			case words[0] == "acl" && len(words) > 3:
				at.acls[words[1]] = append(at.acls[words[1]], words[3:]...)
			default:
				at.rules = append(at.rules, fact.Line{Number: l.Number, Text: strings.Join(words, " ")})
			}
		}
	}
	return fronts
}

// takes reports whether a front is bound to an address and port.
func (f *haproxyFront) takes(to netip.AddrPort) bool {
	return slices.ContainsFunc(f.binds, func(bind string) bool {
		at := strings.LastIndexByte(bind, ':')
		if at < 0 {
			return false
		}
		low, high, several := strings.Cut(bind[at+1:], "-")
		if !several {
			high = low
		}
		from, err := strconv.ParseUint(low, 10, 16)
		until, err2 := strconv.ParseUint(high, 10, 16)
		if err != nil || err2 != nil || uint64(to.Port()) < from || uint64(to.Port()) > until {
			return false
		}
		addr, err := netip.ParseAddr(strings.Trim(bind[:at], "[]"))
		return err != nil || addr.IsUnspecified() || addr == to.Addr()
	})
}

// HAProxyDenies finds the rule of the front at an address that turns a source away (its
// manual, "tcp-request", "http-request" and "Using ACLs"); false if none does. Of each
// stage the first rule that fits decides.
func HAProxyDenies(files []fact.AccessFile, source netip.Addr, to netip.AddrPort) (HAProxyRule, bool) {
	fronts := slices.DeleteFunc(haproxyFronts(files), func(f *haproxyFront) bool { return !f.takes(to) })
	if len(fronts) != 1 {
		return HAProxyRule{}, false
	}
	for _, stage := range []string{"tcp-request connection", "tcp-request session", "tcp-request content",
		"http-request"} {
		if r, denies := fronts[0].stage(stage, source); denies {
			return r, true
		}
	}
	return HAProxyRule{}, false
}

// stage is the first rule of a stage that turns a source away.
func (f *haproxyFront) stage(stage string, source netip.Addr) (HAProxyRule, bool) {
	unsure, maybe := "", HAProxyRule{}
	for _, l := range f.rules {
		rest, ours := strings.CutPrefix(l.Text, stage+" ")
		if !ours {
			continue
		}
		words := strings.Fields(rest)
		holds, about := f.condition(words, source)
		switch {
		case holds == never:
		case strings.HasPrefix(words[0], "set-src") || strings.HasPrefix(words[0], "expect-"):
			unsure = "another address than the connection's may count"
		case words[0] == "accept" || words[0] == "allow":
			if holds == always {
				return maybe, maybe.File != nil
			}
			unsure = "a rule before it may let the client in"
		case !about: // whoever it turns away, it is not for the address
		default:
			r := HAProxyRule{File: f.file, Number: l.Number, Text: l.Text, Unsure: unsure,
				Web: stage == "http-request" && words[0] != "reject" && words[0] != "silent-drop"}
			if holds == always {
				return r, true
			}
			if r.Unsure = "it asks for more than the address"; maybe.File == nil {
				maybe = r
			}
		}
	}
	return maybe, maybe.File != nil
}

// Whether a condition holds.
type holding uint8

const (
	never holding = iota
	perhaps
	always
)

func holdingOf(is bool) holding {
	if is {
		return always
	}
	return never
}

// condition is whether a rule's condition holds for a source, and whether it asks for the
// source at all.
func (f *haproxyFront) condition(words []string, source netip.Addr) (holds holding, about bool) {
	at := slices.IndexFunc(words, func(w string) bool { return w == "if" || w == "unless" })
	if at < 0 {
		return always, true // everybody is turned away
	}
	holds = never
	group := always
	for rest := words[at+1:]; len(rest) > 0; {
		term := rest[0]
		rest = rest[1:]
		if term == "||" || strings.EqualFold(term, "or") {
			holds, group = max(holds, group), always
			continue
		}
		not := strings.HasPrefix(term, "!")
		if term = strings.TrimPrefix(term, "!"); term == "" && len(rest) > 0 {
			term, rest = rest[0], rest[1:]
		}
		is := perhaps
		if term == "{" {
			end := slices.Index(rest, "}")
			if end < 0 {
				return perhaps, about
			}
			if end > 1 && rest[0] == "src" {
				is, about = among(rest[1:end], source), true
			}
			rest = rest[end+1:]
		} else if sources, named := f.acls[term]; named {
			is, about = among(sources, source), true
		} else if term == "LOCALHOST" {
			is, about = holdingOf(source.IsLoopback()), true
		} else if term == "TRUE" || term == "FALSE" {
			is = holdingOf(term == "TRUE")
		}
		if not {
			is = always - is
		}
		group = min(group, is)
	}
	if holds = max(holds, group); words[at] == "unless" {
		holds = always - holds
	}
	return holds, about
}

// among is whether a source is one of some patterns: addresses and networks, or a file of
// them, which is not read here.
func among(patterns []string, source netip.Addr) holding {
	is := never
	for _, p := range patterns {
		if strings.HasPrefix(p, "-") {
			if p != "-i" && p != "-n" && p != "--" {
				is = perhaps
			}
			continue
		}
		if net, err := NetPattern(p); err == nil && net.Contains(source) {
			return always
		}
	}
	return is
}
