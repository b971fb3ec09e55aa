package filter

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// FromJSON reads what nft -j list ruleset writes (libnftables-json(5)).
func FromJSON(text []byte) (*Ruleset, error) {
	if len(text) > MostText {
		return nil, &SyntaxError{1, 1, fmt.Sprintf("%d MiB of text; at most %d are read", len(text)>>20, MostText>>20)}
	}
	var doc struct {
		Nftables []map[string]json.RawMessage `json:"nftables"`
	}
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, positioned(text, err)
	}
	if doc.Nftables == nil {
		return nil, &SyntaxError{1, 1, `expected an object with the list "nftables"`}
	}
	in := &jsonReader{set: &Ruleset{Links: map[uint32]Link{}}, tables: map[tableKey]*Table{}}
	// Tables come first, then what they hold, whatever the order in the file.
	for _, pass := range []map[string]func(json.RawMessage) error{
		{"table": in.table}, {"chain": in.chain, "set": in.newSet, "map": in.newSet}, {"element": in.element}, {"rule": in.rule},
	} {
		for i, item := range doc.Nftables {
			for name, body := range item {
				read := pass[name]
				if read == nil {
					continue
				}
				if err := read(body); err != nil {
					return nil, fmt.Errorf("nftables[%d]: %s: %w", i, name, err)
				}
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
var priorities = map[string]int{"raw": -300, "mangle": -150, "dstnat": -100, "filter": 0, "security": 50, "srcnat": 100}

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
		Prio                                    any
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
	c := &Chain{Table: t, Name: v.Name, Hook: NoHook, Type: v.Type, seen: t.handle<<32 | v.Handle&0xffffffff, Drop: v.Policy == "drop"}
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
		if t.Family == Bridge || t.Family == Netdev || t.Family == ARP || c.Hook == Ingress || c.Hook == NoHook {
			in.set.Opaque = append(in.set.Opaque, fmt.Sprintf("chain %s of table %s filters elsewhere", c.Name, t.Title()))
			c.Hook = NoHook
		}
	}
	t.add(c)
	return nil
}
