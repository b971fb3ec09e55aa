package program

import (
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// NginxBlock is one block of settings, as far as it bears on addresses.
type NginxBlock struct {
	file           *fact.AccessFile
	head           []string
	within         *NginxBlock
	blocks         []*NginxBlock
	rules          []NginxRule
	names, listens []string
	defaults       []string // those of listens at which it takes requests of any name
	includes       bool     // other files, which may have rules
}

// NginxRule is one allow or deny.
type NginxRule struct {
	Text   string
	Number int
	file   *fact.AccessFile
}

// NginxForwards reports whether settings judge by more than the connection's
// address.
func NginxForwards(lines []fact.Line) bool {
	return slices.ContainsFunc(lines, func(l fact.Line) bool {
		text := strings.TrimSpace(l.Text)
		return strings.HasPrefix(text, "set_real_ip_from") || strings.HasPrefix(text, "satisfy")
	})
}

// NginxServers is the server blocks of a file, with what they include of others.
func NginxServers(f *fact.AccessFile, others []fact.AccessFile) []*NginxBlock {
	r := nginxReader{files: others}
	r.into(&NginxBlock{file: f}, f, 0)
	return r.servers
}

// nginxReader reads blocks of settings.
type nginxReader struct {
	files   []fact.AccessFile
	servers []*NginxBlock
	read    int // files that were read into others
}

// mostRead bounds how many files are read into others: settings may include each other.
const mostRead = 400

// into reads a file into a block.
func (r *nginxReader) into(at *NginxBlock, f *fact.AccessFile, depth int) {
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
				inner := &NginxBlock{file: f, head: words, within: at}
				at.blocks = append(at.blocks, inner)
				at = inner
				if inner.is("server") {
					r.servers = append(r.servers, inner)
				}
			case '}':
				if at.within != nil {
					at = at.within
				}
			default:
				if len(words) > 1 && words[0] == "include" && (at.is("server") || at.is("location")) {
					r.include(at, f, strings.Trim(words[1], `"'`), depth)
				}
				at.take(words, l.Number, f)
			}
			text = strings.TrimSpace(text[end+1:])
		}
	}
}

// include reads the files that a pattern leads to into a block. A name that leads to none
// that was read is remembered: whatever it says may decide.
func (r *nginxReader) include(at *NginxBlock, from *fact.AccessFile, pattern string, depth int) {
	found := false
	for i := range r.files {
		f := &r.files[i]
		for _, folder := range []string{"", "/etc/nginx", path.Dir(from.Path)} {
			full := pattern
			if !path.IsAbs(full) {
				full = path.Join(folder, full)
			}
			if ok, err := path.Match(full, f.Path); err != nil || !ok || f.Kind != fact.ListNginx {
				continue
			}
			found = true
			if r.read++; depth == mostIncludes || r.read > mostRead {
				at.includes = true
			} else {
				r.into(at, f, depth+1)
			}
			break
		}
	}
	if !found && !strings.ContainsAny(pattern, "*?[") {
		at.includes = true
	}
}

func (b *NginxBlock) is(kind string) bool { return len(b.head) > 0 && b.head[0] == kind }

func (b *NginxBlock) take(words []string, number int, from *fact.AccessFile) {
	if len(words) < 2 {
		return
	}
	switch words[0] {
	case "allow", "deny":
		b.rules = append(b.rules, NginxRule{strings.Join(words, " ") + ";", number, from})
	case "server_name":
		b.names = append(b.names, words[1:]...)
	case "listen":
		b.listens = append(b.listens, words[1])
		if slices.Contains(words, "default_server") || slices.Contains(words, "default") {
			b.defaults = append(b.defaults, words[1])
		}
	}
}

// NginxDenies finds the rule that denies a source, and its file; nil where
// nothing does, or it is not certain which block answers.
func NginxDenies(servers []*NginxBlock, source netip.Addr, target fact.Target) (*fact.AccessFile, NginxRule) {
	var named, all []*NginxBlock // on this port
	for _, s := range servers {
		switch {
		case len(s.listens) > 0 && !slices.ContainsFunc(s.listens,
			func(text string) bool { return listensOn(text, target.Port) }):
			continue
		case slices.Contains(s.names, target.Name):
			named = append(named, s)
		case slices.ContainsFunc(s.names, func(name string) bool {
			return strings.ContainsAny(name, "*~") ||
				strings.HasPrefix(name, ".")
		}):
			return nil, NginxRule{} // a pattern may take the name
		}
		all = append(all, s)
	}
	if len(named) == 0 {
		named = defaultOf(all, target.Port)
	}
	if len(named) != 1 {
		return nil, NginxRule{}
	}
	asked, _, _ := strings.Cut(target.Path, "?")
	if asked == "" {
		asked = "/"
	}
	b, certain := named[0].location(asked)
	for ; b != nil && certain; b = b.within {
		if b.includes && (b.is("server") || b.is("location")) {
			return nil, NginxRule{}
		}
		if len(b.rules) > 0 {
			if r := b.denies(source); r.Number > 0 {
				return r.file, r
			}
			return nil, NginxRule{} // inherited only where the block has none of its own
		}
	}
	return nil, NginxRule{}
}

// defaultOf is the server that takes requests of names that none has: the one that says so,
// or else the first (ngx_http_core_module, "listen").
func defaultOf(servers []*NginxBlock, port uint16) []*NginxBlock {
	for _, s := range servers {
		if slices.ContainsFunc(s.defaults, func(text string) bool { return listensOn(text, port) }) {
			return []*NginxBlock{s}
		}
	}
	return servers[:min(1, len(servers))]
}

// location is the innermost block that answers a path, and whether that is
// certain: expressions are not evaluated.
func (b *NginxBlock) location(asked string) (*NginxBlock, bool) {
	best, longest := b, -1
	for _, l := range b.blocks {
		if !l.is("location") || len(l.head) < 2 || strings.HasPrefix(l.head[1], "@") {
			continue
		}
		prefix, mark := l.head[len(l.head)-1], l.head[1]
		switch {
		case mark == "~" || mark == "~*":
			return b, false
		case mark == "=" && asked == prefix:
			return l, true
		case mark != "=" && strings.HasPrefix(asked, prefix) && len(prefix) > longest:
			best, longest = l, len(prefix)
		}
	}
	if best == b {
		return b, true
	}
	return best.location(asked)
}

// denies is the rule that turns a source away; empty if none does.
func (b *NginxBlock) denies(source netip.Addr) NginxRule {
	for _, r := range b.rules {
		words := strings.Fields(strings.TrimSuffix(r.Text, ";"))
		p, err := NetPattern(words[1])
		if words[1] != "all" && (err != nil || !p.Contains(source)) {
			continue
		}
		if words[0] == "deny" {
			return r
		}
		break
	}
	return NginxRule{}
}

// listensOn reports whether a listen directive names a port, or none.
func listensOn(text string, port uint16) bool {
	if at := strings.LastIndexByte(text, ':'); at >= 0 && !strings.HasSuffix(text, "]") {
		text = text[at+1:]
	}
	n, err := strconv.ParseUint(text, 10, 16)
	return err != nil || uint16(n) == port
}
