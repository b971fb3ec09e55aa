package program

import (
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

// WrapperRule is one line of hosts.allow or hosts.deny.
type WrapperRule struct {
	Number           int
	Text             string
	daemons, clients []string
	Option           string // "allow" or "deny", if the line says so itself
}

func Bracketed(a netip.Addr) string {
	if a.Is6() {
		return "[" + a.String() + "]"
	}
	return a.String()
}

// WrapperRules reads lines; one that ends in a backslash goes on in the next.
func WrapperRules(lines []fact.Line) []WrapperRule {
	var rules []WrapperRule
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
		r := WrapperRule{Number: number, Text: text, daemons: wrapperWords(fields[0]),
			clients: wrapperWords(fields[1])}
		for _, option := range fields[2:] {
			switch word := strings.ToLower(strings.TrimSpace(option)); word {
			case "allow", "deny":
				r.Option = word
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

func (r WrapperRule) Matches(daemon string, source netip.Addr) filter.Tri {
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
	if p, err := NetPattern(text); err == nil {
		// A net that is not written by its first address matches nothing.
		host, _, _ := strings.Cut(text, "/")
		return triOf(p.Contains(source) && host == p.Addr().String())
	}
	switch {
	case strings.HasSuffix(pattern, ".") && strings.Trim(pattern, "0123456789.") == "":
		return triOf(strings.HasPrefix(source.String(), pattern))
	case strings.ContainsAny(pattern, "*?") && strings.Trim(pattern, "0123456789.*?") == "":
		return triOf(GlobMatches(pattern, source.String()))
	}
	return filter.Unknown
}

// NetPattern reads an address, a net, or an address with a mask.
func NetPattern(text string) (netip.Prefix, error) {
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

// GlobMatches matches * and ?.
func GlobMatches(pattern, s string) bool {
	if pattern == "" {
		return s == ""
	}
	if pattern[0] == '*' {
		return GlobMatches(pattern[1:], s) || s != "" && GlobMatches(pattern, s[1:])
	}
	return s != "" && (pattern[0] == '?' || pattern[0] == s[0]) && GlobMatches(pattern[1:], s[1:])
}

// HBAMatches is whether the address of a line names a source.
func HBAMatches(addr string, source netip.Addr) filter.Tri {
	switch addr {
	case "all":
		return filter.Yes
	case "samehost", "samenet":
		return filter.Unknown
	}
	if p, err := NetPattern(addr); err == nil {
		return triOf(p.Contains(source))
	}
	return filter.Unknown
}
