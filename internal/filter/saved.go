package filter

import (
	"bytes"
	"fmt"
	"strings"

	"uakari/internal/settingsfile"

	"unicode/utf8"
)

// Bounds of what is read from files.
const (
	// MostText is the longest saved text that is read, in bytes.
	MostText  = 64 << 20
	mostRules = 1 << 20
)

// SyntaxError is a fault of a saved text.
type SyntaxError struct {
	Line, Column int
	What         string
}

func (e *SyntaxError) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.What) }

// Parse reads saved tables, either nftables' JSON or the text of
// iptables-save(8), told apart by how they begin.
func Parse(text []byte) (*Ruleset, error) {
	if len(text) > MostText {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("%d MiB of text; at most %d are read", len(text)>>20, MostText>>20)}
	}
	if settingsfile.IsRegistry(text) {
		return fromRegistryText(text)
	}
	text = []byte(settingsfile.Decode(text))
	if isListing(text) {
		return fromListing(string(text))
	}
	switch trimmed := bytes.TrimLeft(text, " \t\r\n"); {
	case len(trimmed) == 0:
		return nil, &SyntaxError{1, 1, "the file is empty; expected nftables JSON or iptables-save text"}
	case trimmed[0] == '{':
		return FromJSON(text)
	case trimmed[0] == '*' || trimmed[0] == '#' || trimmed[0] == ':' || trimmed[0] == '-':
		return FromSaved(text, nil)
	case bytes.HasPrefix(trimmed, []byte("table ")):
		return nil, &SyntaxError{
			1,
			1,
			"this is nft's own notation; expected its JSON (nft -j list ruleset) or iptables-save text",
		}
	}
	return nil, &SyntaxError{
		1,
		1,
		"expected nftables JSON (nft -j list ruleset), iptables-save text, or an export or listing of the firewall " +
			"of Windows",
	}
}

// xtPriorities are the priorities at which the kernel calls each of the older
// tables (include/uapi/linux/netfilter_ipv4.h).
var xtPriorities = map[string]int{"raw": -300, "mangle": -150, "nat": -100, "filter": 0, "security": 50}

var xtHooks = map[string]Hook{
	"PREROUTING":  Prerouting,
	"INPUT":       Input,
	"FORWARD":     Forward,
	"OUTPUT":      Output,
	"POSTROUTING": Postrouting,
}

// savedReader reads the text of iptables-save.
type savedReader struct {
	set    *Ruleset
	ipsets map[string]*Set
	table  *Table
	line   int
	four   bool // something in the block belongs to IPv4
	sixth  bool // or to IPv6
	hint   Family
	seen   int
}

type word struct {
	text   string
	column int
	quoted bool
}

// FromSaved reads the text of iptables-save(8). IP sets are by their names.
func FromSaved(text []byte, ipsets map[string]*Set) (*Ruleset, error) {
	if len(text) > MostText {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("%d MiB of text; at most %d are read", len(text)>>20, MostText>>20)}
	}
	in := &savedReader{set: &Ruleset{}, ipsets: ipsets}
	// Rules are parts of the one text.
	for line := range strings.Lines(string(text)) {
		in.line++
		if err := in.read(strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r")); err != nil {
			return nil, err
		}
	}
	if in.table != nil {
		return nil, in.wrong(1, "the table %s ends without COMMIT: the dump is cut off", in.table.Name)
	}
	if len(in.set.Tables) == 0 {
		return nil, in.wrong(1, "no table; expected a line such as *filter")
	}
	for _, t := range in.set.Tables {
		for _, c := range t.order {
			for _, r := range c.Rules {
				for i := range r.Body {
					if a := r.Body[i].Act; a != nil && (a.Doing == Jump || a.Doing == Goto) &&
						t.Chains[a.Chain] == nil {
						r.Body[i] = puzzle("the chain " + a.Chain + " does not exist")
					}
				}
			}
		}
	}
	return in.set, in.set.finish()
}

func (in *savedReader) wrong(column int, format string, args ...any) error {
	return &SyntaxError{in.line, column, fmt.Sprintf(format, args...)}
}

func (in *savedReader) read(line string) error {
	if !utf8.ValidString(line) {
		return in.wrong(1, "not UTF-8")
	}
	trimmed := strings.TrimSpace(line)
	switch {
	case trimmed == "":
		return nil
	case trimmed[0] == '#':
		if strings.Contains(trimmed, "ip6tables-save") {
			in.hint = IPv6
		} else if strings.Contains(trimmed, "iptables-save") {
			in.hint = IPv4
		}
		return nil
	case trimmed[0] == '*':
		return in.begin(trimmed[1:])
	case in.table == nil:
		return in.wrong(1, "%q outside a table; expected a line such as *filter", shorten(trimmed))
	case trimmed == "COMMIT":
		in.end()
		return nil
	case trimmed[0] == ':':
		return in.declare(trimmed[1:])
	}
	words, err := in.split(line)
	if err != nil {
		return err
	}
	if len(words) > 0 && strings.HasPrefix(words[0].text, "[") {
		words = words[1:] // counters
	}
	if len(words) < 2 || words[0].text != "-A" && words[0].text != "--append" {
		return in.wrong(1, "%q: expected -A CHAIN, a chain's declaration, or COMMIT", shorten(trimmed))
	}
	chain := in.table.Chains[words[1].text]
	if chain == nil {
		return in.wrong(words[1].column, "the chain %q was not declared", shorten(words[1].text))
	}
	in.set.rules++
	if in.set.rules > mostRules {
		return in.wrong(1, "more than %d rules", mostRules)
	}
	r := &Rule{Chain: chain, Number: len(chain.Rules) + 1, Text: strings.TrimSpace(line[words[0].column-1:])}
	if err := in.rule(r, words[2:]); err != nil {
		return err
	}
	in.table.share.rule(r)
	chain.Rules = append(chain.Rules, r)
	return nil
}

func shorten(s string) string {
	const most = 60
	if len(s) > most {
		return strings.ToValidUTF8(s[:most], "") + "…"
	}
	return s
}

func (in *savedReader) begin(name string) error {
	if in.table != nil {
		return in.wrong(1, "the table %s ends without COMMIT", in.table.Name)
	}
	if _, ok := xtPriorities[name]; !ok {
		return in.wrong(2, "%q: expected raw, mangle, nat, filter or security", shorten(name))
	}
	in.table = &Table{
		Name:   name,
		Xtable: OverNft,
		Chains: map[string]*Chain{},
		Sets:   map[string]*Set{},
		Family: in.hint,
	}
	in.four, in.sixth = false, false
	return nil
}

func (in *savedReader) end() {
	t := in.table
	if t.Family == 0 {
		switch {
		case in.sixth && !in.four:
			t.Family = IPv6
		case in.four:
			t.Family = IPv4
		default:
			t.Family = Inet // nothing tells: it may be either's
		}
	}
	in.set.Tables = append(in.set.Tables, t)
	in.table = nil
}

func (in *savedReader) declare(text string) error {
	f := strings.Fields(text)
	if len(f) < 2 {
		return in.wrong(1, "expected :CHAIN POLICY [packets:bytes]")
	}
	if in.table.Chains[f[0]] != nil {
		return in.wrong(2, "the chain %q is declared twice", shorten(f[0]))
	}
	if len(in.table.order) >= mostChains {
		return in.wrong(2, "too many chains")
	}
	in.seen++
	c := &Chain{Table: in.table, Name: f[0], Hook: NoHook, seen: uint64(in.seen)}
	if hook, ok := xtHooks[f[0]]; ok && f[1] != "-" {
		c.Hook, c.Type, c.Priority, c.Drop = hook, "filter", xtPriorities[in.table.Name], f[1] == "DROP"
		if f[1] != "DROP" && f[1] != "ACCEPT" {
			return in.wrong(2, "policy %q: expected ACCEPT or DROP", shorten(f[1]))
		}
		if in.table.Name == "nat" {
			c.Type = "nat"
			if hook == Input || hook == Postrouting {
				c.Priority = atSNAT
			}
		}
	}
	in.table.add(c)
	return nil
}

// split splits a line into words; quotes are of double quotation marks, with
// backslashes before what would end them.
func (in *savedReader) split(line string) ([]word, error) {
	var words []word
	for at := 0; at < len(line); {
		switch c := line[at]; {
		case c == ' ' || c == '\t':
			at++
		case c == '"':
			begin := at
			var b strings.Builder
			at++
			for at < len(line) && line[at] != '"' {
				if line[at] == '\\' && at+1 < len(line) {
					at++
				}
				b.WriteByte(line[at])
				at++
			}
			if at == len(line) {
				return nil, in.wrong(begin+1, "the quotation does not end")
			}
			at++
			words = append(words, word{b.String(), begin + 1, true})
		default:
			begin := at
			for at < len(line) && line[at] != ' ' && line[at] != '\t' {
				at++
			}
			words = append(words, word{line[begin:at], begin + 1, false})
		}
	}
	return words, nil
}
