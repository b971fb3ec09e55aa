package filter

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
)

// FromJSON reads what nft -j list ruleset writes (libnftables-json(5)).
func FromJSON(text []byte) (*Ruleset, error) {
	if len(text) > MostText {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("%d MiB of text; at most %d are read", len(text)>>20, MostText>>20)}
	}
	items, err := jsonItems(text)
	if err != nil {
		return nil, err
	}
	in := &jsonReader{set: &Ruleset{Links: map[uint32]Link{}}, tables: map[tableKey]*Table{}}
	// Tables come first, then what they hold, whatever the order in the file.
	for _, pass := range []map[string]func(json.RawMessage) error{
		{"table": in.table},
		{"chain": in.chain, "set": in.newSet, "map": in.newSet},
		{"element": in.element},
		{"rule": in.rule},
	} {
		for i, item := range items {
			read := pass[item.name]
			if read == nil {
				continue
			}
			if err := read(item.body); err != nil {
				return nil, fmt.Errorf("nftables[%d]: %s: %w", i, item.name, err)
			}
		}
		for _, t := range in.set.Tables {
			for _, s := range t.Sets {
				if pass["element"] != nil {
					s.index()
				}
			}
		}
	}
	return in.set, in.set.finish()
}

// jsonItem is one item of the list, as a part of the text.
type jsonItem struct {
	name string
	body json.RawMessage
}

// jsonItems takes the list apart without copying it: it may be long.
func jsonItems(text []byte) ([]jsonItem, error) {
	var doc struct {
		Nftables inPlace `json:"nftables"`
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, positioned(text, err)
	}
	if len(doc.Nftables) == 0 || doc.Nftables[0] != '[' {
		return nil, &SyntaxError{1, 1, `expected an object with the list "nftables"`}
	}
	var items []jsonItem
	for raw := range elements(doc.Nftables) {
		name, body, _ := single(raw) // one of another kind too: the others keep their numbers
		items = append(items, jsonItem{name, body})
	}
	return items, nil
}

// blanks is what may stand between the parts of JSON.
const blanks = " \t\r\n"

// elements is the elements of a list, as parts of the text, which is known to
// be JSON.
func elements(list []byte) iter.Seq[json.RawMessage] {
	return func(yield func(json.RawMessage) bool) {
		if len(list) == 0 || list[0] != '[' {
			return
		}
		for rest := list[1:]; ; {
			rest = bytes.TrimLeft(rest, blanks+",")
			size := extent(rest)
			if size == 0 || rest[0] == ']' || !yield(json.RawMessage(rest[:size])) {
				return
			}
			rest = rest[size:]
		}
	}
}

// single is the one key of an object and its value; ok is false for anything
// else.
func single(raw []byte) (name string, body json.RawMessage, ok bool) {
	inner, found := bytes.CutPrefix(bytes.TrimLeft(raw, blanks), []byte("{"))
	if !found {
		return "", nil, false
	}
	inner = bytes.TrimLeft(inner, blanks)
	size := extent(inner)
	if size < 2 || inner[0] != '"' || bytes.IndexByte(inner[:size], '\\') >= 0 {
		return "", nil, false
	}
	name, inner = string(inner[1:size-1]), bytes.TrimLeft(inner[size:], blanks+":")
	size = extent(inner)
	return name, json.RawMessage(inner[:size]), bytes.HasPrefix(bytes.TrimLeft(inner[size:], blanks), []byte("}"))
}

// inPlace is a part of the text that is decoded, which it does not copy.
type inPlace []byte

// UnmarshalJSON keeps the part where it is: json gives it the text itself.
func (p *inPlace) UnmarshalJSON(b []byte) error {
	*p = b
	return nil
}

// extent is how long the value at the beginning of a text is, which is known to
// be JSON.
func extent(text []byte) int {
	depth := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '"':
			for i++; i < len(text) && text[i] != '"'; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			if depth == 0 {
				return min(i+1, len(text))
			}
		case '{', '[':
			depth++
		case '}', ']':
			if depth--; depth <= 0 {
				return i + min(1, depth+1) // one that closes what is around it does not belong to it
			}
		case ',':
			if depth == 0 {
				return i
			}
		}
	}
	return len(text)
}

// positioned gives a JSON error its line and column.
func positioned(text []byte, err error) error {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	offset := int64(len(text))
	what := err.Error()
	switch {
	case errors.As(err, &syntax):
		offset = syntax.Offset
		if what == "unexpected end of JSON input" {
			what = "the text ends in the middle: the dump is cut off"
		}
	case errors.As(err, &kind):
		offset = kind.Offset
		what = fmt.Sprintf("%s: expected %s, not %s", kind.Field, kind.Type, kind.Value)
	}
	before := text[:max(0, min(int64(len(text)), offset))]
	line := bytes.Count(before, []byte("\n")) + 1
	column := len(before) - bytes.LastIndexByte(before, '\n') - 1
	return &SyntaxError{line, max(1, column), what}
}

type jsonReader struct {
	set    *Ruleset
	tables map[tableKey]*Table
	seen   int
	at     *Table
	six    bool // the rule is about IPv6 alone
}

func familyOf(name string) (Family, bool) {
	for f, n := range familyNames {
		if n == name {
			return f, true
		}
	}
	return 0, false
}

func (in *jsonReader) find(family, name string) (*Table, error) {
	f, ok := familyOf(family)
	if !ok {
		return nil, fmt.Errorf("family %q is not known", shorten(family))
	}
	t := in.tables[tableKey{f, name}]
	if t == nil {
		return nil, fmt.Errorf("there is no table %s %s", family, shorten(name))
	}
	return t, nil
}

func (in *jsonReader) table(b json.RawMessage) error {
	var v struct {
		Family, Name string
		Handle       uint64
		Flags        any
	}
	if err := json.Unmarshal(b, &v); err != nil {
		return err
	}
	f, ok := familyOf(v.Family)
	if !ok {
		return fmt.Errorf("family %q is not known", shorten(v.Family))
	}
	t := &Table{Family: f, Name: v.Name, Chains: map[string]*Chain{}, Sets: map[string]*Set{}, handle: v.Handle}
	in.tables[tableKey{f, v.Name}] = t
	if !strings.Contains(fmt.Sprint(v.Flags), "dormant") {
		in.set.Tables = append(in.set.Tables, t)
	}
	return nil
}

// priorities are the names that nft gives to priorities.
var priorities = map[string]int{"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50,
	"srcnat": 100}

func hookOf(name string) Hook {
	if at := slices.Index(hookNames, name); at >= 0 {
		return Hook(at)
	}
	return NoHook
}

func (in *jsonReader) chain(b json.RawMessage) error {
	var v struct {
		Family, Table, Name, Type, Hook, Policy string
		Handle                                  uint64
		Prio, Dev                               any
	}
	if err := json.Unmarshal(b, &v); err != nil {
		return err
	}
	t, err := in.find(v.Family, v.Table)
	if err != nil {
		return err
	}
	in.seen++
	if in.seen > mostChains {
		return errors.New("too many chains")
	}
	c := &Chain{
		Table: t,
		Name:  v.Name,
		Hook:  NoHook,
		Type:  v.Type,
		seen:  t.handle<<32 | v.Handle&0xffffffff,
		Drop:  v.Policy == "drop",
	}
	if v.Hook != "" {
		c.Hook = hookOf(v.Hook)
		switch prio := v.Prio.(type) {
		case float64:
			c.Priority = int(prio)
		case string:
			n, err := strconv.Atoi(prio)
			if err != nil {
				var ok bool
				if n, ok = priorities[prio]; !ok {
					return fmt.Errorf("priority %q is not known", shorten(prio))
				}
			}
			c.Priority = n
		}
		switch dev := v.Dev.(type) {
		case string:
			c.Links = []string{dev}
		case []any:
			for _, each := range dev {
				c.Links = append(c.Links, fmt.Sprint(each))
			}
		}
		if t.Family == Bridge || t.Family == ARP || c.Hook == NoHook {
			in.set.Opaque = append(
				in.set.Opaque,
				fmt.Sprintf("chain %s of table %s filters elsewhere", c.Name, t.Title()),
			)
			c.Hook = NoHook
		}
	}
	t.add(c)
	return nil
}
