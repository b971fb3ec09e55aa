package program

import (
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/settingsfile"
)

// Address lists of the common shapes, as programs without a way of their own
// write them. A line of such a list is "allow" or "deny", and what it names.

// ListedIn takes a list out of settings: what it allows and denies, in the
// order of the file.
func (l List) ListedIn(values []settingsfile.Value) []fact.Line {
	var lines []fact.Line
	for _, v := range values {
		verb, says := "", []string(nil)
		for _, side := range []struct {
			verb string
			keys []Key
		}{{"allow", l.Allow}, {"deny", l.Deny}} {
			for _, k := range side.keys {
				if parts := k.In(v); len(parts) > 0 {
					verb, says = side.verb, parts
				}
			}
		}
		if verb == "" {
			continue
		}
		between := func(r rune) bool { return strings.ContainsRune(" \t,;'\"{}", r) }
		for _, item := range strings.FieldsFunc(strings.Join(says, " "), between) {
			if source(item) {
				lines = append(lines, fact.Line{Number: v.Line, Text: verb + " " + item})
			}
		}
		if strings.TrimSpace(v.Text) == "" {
			lines = append(lines, fact.Line{Number: v.Line, Text: verb + " all"})
		}
	}
	return lines
}

// ByWords is what settings of a program that nobody knows say by their words about
// whom it lets in: the lines whose name is about that, and which name addresses. What
// else is in them is kept nowhere.
func ByWords(text string) []fact.Line {
	var lines []fact.Line
	number := 0
	for line := range strings.Lines(text) {
		number++
		m := aboutSources().FindStringSubmatch(line)
		if m == nil {
			continue
		}
		verb := "allow"
		if deniesByWord().MatchString(m[1]) {
			verb = "deny"
		}
		between := func(r rune) bool { return strings.ContainsRune(" \t\r\n,;='\"{}()", r) }
		for _, item := range strings.FieldsFunc(m[2], between) {
			parts := firstParts().FindStringSubmatch(item)
			if parts != nil {
				item = parts[1] // "10.20." of "10.20.*"
			}
			_, err := NetPattern(strings.Trim(item, "[]"))
			if parts != nil || err == nil || slices.Contains([]string{"*", "0/0", "localhost"}, item) {
				lines = append(lines, fact.Line{Number: number, Text: verb + " " + item})
			}
		}
	}
	return lines
}

var (
	aboutSources = sync.OnceValue(func() *regexp.Regexp {
		const name = `allow|permit|trusted|only[_-]?from|white-?list|den(?:y|ied)|block(?:ed)?[_-]?(?:hosts?|ips?|net)|` +
			`black-?list|acl|\brange`
		const of = `from|hosts?|connections|clients?|address\w*|ips?`
		return regexp.MustCompile(`(?i)^[^#;/\w]*([\w.-]*(?:` + name + `)[\w.-]*(?:[ \t]+(?:` + of + `))*)` +
			`['"]?[ \t]*[=: \t([{]+(.*\d.*)`)
	})
	firstParts = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`^((?:\d{1,3}\.){1,3})(?:\*(?:\.\*)*)?$`)
	})
	deniesByWord = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?i)den(?:y|ied)|block|black`) })
)

// source reports whether a word can be a source: an address, a network, a name
// or a word for all. What cannot is kept nowhere.
func source(word string) bool {
	return word != "" && len(word) < 256 && !strings.ContainsFunc(word, func(r rune) bool {
		return r > 'z' ||
			!strings.ContainsRune("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789.:/-_*![]", r)
	})
}

var everybody = []string{"all", "any", "*", "0/0", "0.0.0.0/0", "::/0", "0.0.0.0"}

// AddressesDeny is whether a list of addresses keeps a source out, by which
// line, nil for none; known is false where names in it, which are not looked
// up here, may decide otherwise.
func AddressesDeny(f fact.AccessFile, from netip.Addr) (denies bool, by *fact.Line, known bool) {
	var allow, deny, first, last, narrow *fact.Line
	allows, denials, unread, bits := false, false, false, -1
	for i := range f.Lines {
		line := &f.Lines[i]
		verb, item, _ := strings.Cut(line.Text, " ")
		if rest, ok := strings.CutPrefix(item, "!"); ok {
			verb, item = map[string]string{"allow": "deny", "deny": "allow"}[verb], rest
		}
		allows, denials = allows || verb == "allow", denials || verb == "deny"
		width, ok := covers(item, from)
		if width < 0 {
			unread = unread || !ok
			continue
		}
		if last = line; first == nil {
			first = line
		}
		if verb == "allow" && allow == nil {
			allow = line
		}
		if verb == "deny" && deny == nil {
			deny = line
		}
		if width > bits {
			narrow, bits = line, width
		}
	}
	kept := func(l *fact.Line) bool { return strings.HasPrefix(l.Text, "deny ") != strings.Contains(l.Text, " !") }
	decide := func(l *fact.Line) (bool, *fact.Line, bool) {
		if l == nil {
			return f.Else == "deny", nil, !unread
		}
		return kept(l), l, !unread || f.Order == "narrowest"
	}
	switch f.Order {
	case "first":
		return decide(first)
	case "last":
		return decide(last)
	case "narrowest":
		return decide(narrow)
	case "unless":
		return deny != nil, deny, deny != nil || !unread
	}
	// "listed", and "allow": who is allowed is in, whoever else is denied.
	switch {
	case allow != nil:
		return false, allow, true
	case deny != nil:
		return true, deny, !unread
	case allows && !denials:
		return true, nil, !unread
	}
	return f.Else == "deny", nil, !unread
}

// covers is how many bits of an address an item of a list fixes, if it covers
// the address at all; -1 if not. ok is false for a name.
func covers(item string, from netip.Addr) (bits int, ok bool) {
	from = from.Unmap()
	item = strings.ToLower(strings.Trim(item, "[]"))
	switch {
	case slices.Contains(everybody, item):
		return 0, true
	case item == "none":
		return -1, true
	case item == "localhost" || item == "local":
		if from.IsLoopback() {
			return from.BitLen(), true
		}
		return -1, true
	}
	p, err := NetPattern(item)
	if err != nil {
		p, err = shortened(item)
	}
	switch {
	case err != nil:
		return -1, false
	case p.Contains(from):
		return p.Bits(), true
	}
	return -1, true
}

// shortened reads the first parts of an IPv4 address: "10.20." and "10.20".
func shortened(item string) (netip.Prefix, error) {
	parts := strings.Split(strings.TrimSuffix(item, "."), ".")
	bits := 8 * len(parts)
	for len(parts) < 4 {
		parts = append(parts, "0")
	}
	addr, err := netip.ParseAddr(strings.Join(parts, "."))
	if err != nil {
		return netip.Prefix{}, err
	}
	return addr.Prefix(min(bits, 32))
}
