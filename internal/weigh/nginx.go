package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// nginxJudge evaluates allow and deny of nginx: in the location that answers,
// or the nearest block around it that has any, the first that matches decides.
func nginxJudge(v *view, t *try, a *fact.Access, source netip.Addr) (string, []Symptom, string, listLine) {
	if v.scheme.Wire != "http" || t.climb.reply == nil || t.climb.reply.Reply.Status != 403 {
		return "", nil, "", listLine{}
	}
	var servers []*nginxBlock
	for i := range a.Files {
		if f := &a.Files[i]; f.Kind == "nginx" {
			if nginxForwards(f.Lines) {
				return "", nil, "", listLine{} // another address than the connection's counts
			}
			servers = append(servers, nginxServers(f)...)
		}
	}
	file, rule := nginxDenies(servers, source, t.target)
	if file == nil {
		return "", nil, "", listLine{}
	}
	line := listLine{file: file.Path, text: fmt.Sprintf("line %d (%s)", rule.number, rule.text), allow: "allow " + source.String() + ";", since: v.readBy(t, file.Changed)}
	return "rules/not-on-list", []Symptom{ErrorAnswer}, fmt.Sprintf("%s, %s, keeps %s out", line.file, line.text, source), line
}

// nginxForwards reports whether settings judge by more than the connection's
// address.
func nginxForwards(lines []fact.Line) bool {
	return slices.ContainsFunc(lines, func(l fact.Line) bool {
		text := strings.TrimSpace(l.Text)
		return strings.HasPrefix(text, "set_real_ip_from") || strings.HasPrefix(text, "satisfy")
	})
}

// nginxBlock is one block of settings, as far as it bears on addresses.
type nginxBlock struct {
	file           *fact.AccessFile
	head           []string
	within         *nginxBlock
	blocks         []*nginxBlock
	rules          []nginxRule
	names, listens []string
	includes       bool // other files, which may have rules
}

// nginxRule is one allow or deny.
type nginxRule struct {
	text   string
	number int
}

// nginxServers is the server blocks of a file.
func nginxServers(f *fact.AccessFile) []*nginxBlock {
	var servers []*nginxBlock
	at := &nginxBlock{file: f}
	for _, l := range f.Lines {
		text, _, _ := strings.Cut(strings.TrimSpace(l.Text), "#")
		for text != "" {
			end := strings.IndexAny(text, "{};")
			if end < 0 {
				break
			}
			words := strings.Fields(text[:end])
			switch text[end] {
			case '{':
				inner := &nginxBlock{file: f, head: words, within: at}
				at.blocks = append(at.blocks, inner)
				at = inner
				if inner.is("server") {
					servers = append(servers, inner)
				}
			case '}':
				if at.within != nil {
					at = at.within
				}
			default:
				at.take(words, l.Number)
			}
			text = strings.TrimSpace(text[end+1:])
		}
	}
	return servers
}

func (b *nginxBlock) is(kind string) bool { return len(b.head) > 0 && b.head[0] == kind }

func (b *nginxBlock) take(words []string, number int) {
	if len(words) < 2 {
		return
	}
	switch words[0] {
	case "allow", "deny":
		b.rules = append(b.rules, nginxRule{strings.Join(words, " ") + ";", number})
	case "server_name":
		b.names = append(b.names, words[1:]...)
	case "listen":
		b.listens = append(b.listens, words[1])
	case "include":
		b.includes = true
	}
}

// nginxDenies finds the rule that denies a source, and its file; nil where
// nothing does, or it is not certain which block answers.
func nginxDenies(servers []*nginxBlock, source netip.Addr, target fact.Target) (*fact.AccessFile, nginxRule) {
	var named, others []*nginxBlock
	for _, s := range servers {
		switch {
		case len(s.listens) > 0 && !slices.ContainsFunc(s.listens, func(text string) bool { return listensOn(text, target.Port) }):
		case slices.Contains(s.names, target.Name):
			named = append(named, s)
		case slices.ContainsFunc(s.names, func(name string) bool { return strings.ContainsAny(name, "*~") || strings.HasPrefix(name, ".") }):
			return nil, nginxRule{} // a pattern may take the name
		case len(s.names) == 0 || slices.Contains(s.names, "_"):
			others = append(others, s)
		}
	}
	if len(named) == 0 {
		named = others
	}
	if len(named) != 1 {
		return nil, nginxRule{}
	}
	path, _, _ := strings.Cut(target.Path, "?")
	if path == "" {
		path = "/"
	}
	b, certain := named[0].location(path)
	for ; b != nil && certain; b = b.within {
		if b.includes && (b.is("server") || b.is("location")) {
			return nil, nginxRule{}
		}
		if len(b.rules) > 0 {
			if r := b.denies(source); r.number > 0 {
				return b.file, r
			}
			return nil, nginxRule{} // inherited only where the block has none of its own
		}
	}
	return nil, nginxRule{}
}

// location is the innermost block that answers a path, and whether that is
// certain: expressions are not evaluated.
func (b *nginxBlock) location(path string) (*nginxBlock, bool) {
	best, longest := b, -1
	for _, l := range b.blocks {
		if !l.is("location") || len(l.head) < 2 || strings.HasPrefix(l.head[1], "@") {
			continue
		}
		prefix, mark := l.head[len(l.head)-1], l.head[1]
		switch {
		case mark == "~" || mark == "~*":
			return b, false
		case mark == "=" && path == prefix:
			return l, true
		case mark != "=" && strings.HasPrefix(path, prefix) && len(prefix) > longest:
			best, longest = l, len(prefix)
		}
	}
	if best == b {
		return b, true
	}
	return best.location(path)
}

// denies is the rule that turns a source away; empty if none does.
func (b *nginxBlock) denies(source netip.Addr) nginxRule {
	for _, r := range b.rules {
		words := strings.Fields(strings.TrimSuffix(r.text, ";"))
		p, err := netPattern(words[1])
		if words[1] != "all" && (err != nil || !p.Contains(source)) {
			continue
		}
		if words[0] == "deny" {
			return r
		}
		break
	}
	return nginxRule{}
}

// listensOn reports whether a listen directive names a port, or none.
func listensOn(text string, port uint16) bool {
	if at := strings.LastIndexByte(text, ':'); at >= 0 && !strings.HasSuffix(text, "]") {
		text = text[at+1:]
	}
	n, err := strconv.ParseUint(text, 10, 16)
	return err != nil || uint16(n) == port
}
