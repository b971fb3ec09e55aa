package filter

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
)

func (in *jsonReader) rule(b json.RawMessage) error {
	var v struct {
		Family, Table, Chain, Comment string
		Handle                        uint64
		Expr                          inPlace
	}
	if err := json.Unmarshal(b, &v); err != nil {
		return err
	}
	t, err := in.find(v.Family, v.Table)
	if err != nil {
		return err
	}
	c := t.Chains[v.Chain]
	if c == nil {
		return fmt.Errorf("there is no chain %q in table %s", shorten(v.Chain), t.Title())
	}
	if in.set.rules++; in.set.rules > mostRules {
		return fmt.Errorf("more than %d rules", mostRules)
	}
	r := &Rule{Chain: c, Handle: v.Handle, Number: len(c.Rules) + 1, Comment: v.Comment}
	in.at, in.six = t, false
	for raw := range elements(v.Expr) {
		r.Body = append(r.Body, in.statement(raw)...)
	}
	t.share.rule(r)
	c.Rules = append(c.Rules, r)
	return nil
}

// statement reads one statement of a rule.
func (in *jsonReader) statement(raw json.RawMessage) []Op {
	name, body, ok := single(raw)
	if !ok && (json.Unmarshal(raw, &name) != nil || name == "") { // "accept", without an object
		return []Op{opaque("a statement is not understood", false)}
	}
	if read, ok := statements()[name]; ok {
		return read(in, body)
	}
	return []Op{opaque(fmt.Sprintf("the statement %q is not understood", shorten(name)), false)}
}

// statements is how each statement is read.
func statements() map[string]func(*jsonReader, json.RawMessage) []Op {
	statementsOnce.Do(makeStatements)
	return statementsMade
}

// Tables of methods that use them in turn are made when they are first used.
var (
	statementsOnce sync.Once
	statementsMade map[string]func(*jsonReader, json.RawMessage) []Op
)

func makeStatements() {
	does := func(d Doing) func(*jsonReader, json.RawMessage) []Op {
		return func(*jsonReader, json.RawMessage) []Op { return []Op{act(d)} }
	}
	plain := func(text string) func(*jsonReader, json.RawMessage) []Op {
		return func(*jsonReader, json.RawMessage) []Op { return []Op{nothing(text)} }
	}
	state := func(what string) func(*jsonReader, json.RawMessage) []Op {
		return func(*jsonReader, json.RawMessage) []Op { return []Op{opaque("it depends on "+what, true)} }
	}
	proxy := func(*jsonReader, json.RawMessage) []Op { return []Op{puzzle("a proxy takes it")} }
	statementsMade = map[string]func(*jsonReader, json.RawMessage) []Op{
		"match": (*jsonReader).match, "accept": does(Accept), "drop": does(Drop), "return": does(Return),
		"continue": does(Continue), "queue": does(Queue),
		"notrack": does(NoTrack), "jump": jsonJump(Jump), "goto": jsonJump(Goto), "reject": (*jsonReader).reject,
		"dnat": jsonNAT(DNAT), "snat": jsonNAT(SNAT), "masquerade": jsonNAT(Masquerade), "redirect": jsonNAT(Redirect),
		"vmap": (*jsonReader).vmap, "mangle": (*jsonReader).mangle, "set": (*jsonReader).update,
		"map":     (*jsonReader).update,
		"counter": plain("counter"), "log": plain("log"), "last": plain("last"), "flow": plain("flow"),
		"ct helper": plain("helper"), "ct timeout": plain("timeout"),
		"ct expectation": plain("expectation"), "comment": plain("comment"), "dup": plain("copied"),
		"limit": state("a rate limit"), "quota": state("a quota"), "ct count": state("a limit of connections"),
		"tproxy": proxy, "synproxy": proxy,
		"xt": func(_ *jsonReader, b json.RawMessage) []Op {
			return []Op{opaque("a match or target of iptables, which nft's JSON does not tell", false)}
		},
	}
}

func jsonJump(d Doing) func(*jsonReader, json.RawMessage) []Op {
	return func(_ *jsonReader, b json.RawMessage) []Op {
		var v struct{ Target string }
		if err := json.Unmarshal(b, &v); err != nil {
			return []Op{puzzle("a jump is not understood")}
		}
		return []Op{{Act: &Act{Doing: d, Chain: v.Target}}}
	}
}

func (in *jsonReader) reject(b json.RawMessage) []Op {
	var v struct {
		Type string
		Expr any
	}
	a := &Act{Doing: Reject}
	if len(b) > 0 && string(b) != "null" {
		if err := json.Unmarshal(b, &v); err != nil {
			return []Op{puzzle("a refusal is not understood")}
		}
	}
	if with, ok := nftRefusals[fmt.Sprint(v.Expr)]; ok {
		a.With = with
	}
	return in.refusal(v.Type, a)
}

// refusal is a refusal with what its kind implies: ICMP of one family refuses
// packets of that family alone, a reset only TCP.
func (in *jsonReader) refusal(kind string, a *Act) []Op {
	var ops []Op
	switch {
	case kind == "tcp reset":
		a.With = ByReset
		ops = append(ops, whenProto(TCP, false))
	case in.at.Family == Inet && (kind == "icmp" || kind == "icmpv6"):
		ops = append(ops, whenFamily(kind == "icmpv6"))
	}
	return append(ops, Op{Act: a})
}

// nftRefusals are the kinds of refusal as nft writes them.
var nftRefusals = map[string]Refusal{
	"net-unreachable":  ByNetUnreachable,
	"host-unreachable": ByHostUnreachable,
	"prot-unreachable": ByProtoUnreachable,
	"port-unreachable": ByPortUnreachable,
	"net-prohibited":   ByNetProhibited,
	"host-prohibited":  ByHostProhibited,
	"admin-prohibited": ByAdminProhibited,
	"no-route":         ByNetUnreachable,
	"addr-unreachable": ByHostUnreachable,
	"policy-fail":      ByPolicyFail,
	"reject-route":     ByRejectRoute,
}

// left reads the left side of a match: the field, and bits that are cut out
// of it.
func (in *jsonReader) left(raw json.RawMessage) (selector, bool) {
	name, body, ok := single(raw)
	if !ok {
		return selector{}, false
	}
	v := map[string]json.RawMessage{name: body}
	switch {
	case v["payload"] != nil:
		var p struct {
			Protocol, Field, Base string
			Offset, Len           int
		}
		if json.Unmarshal(v["payload"], &p) != nil {
			return selector{}, false
		}
		if p.Base != "" {
			base, ok := map[string]Source{"ll": FromLink, "nh": FromNetwork, "th": FromTransport}[p.Base]
			if !ok || p.Offset%8 != 0 || p.Len%8 != 0 || p.Len <= 0 || p.Len > 128 || p.Offset < 0 ||
				p.Offset > 1<<18 {
				return selector{opaque: "it looks at single bits of the packet"}, true
			}
			return selector{part: Part{Source: base, Offset: uint16(p.Offset / 8), Len: uint8(p.Len / 8)}}, true
		}
		s := headerSelector(in.at.Family, p.Protocol, p.Field)
		if p.Protocol == "ip6" || p.Protocol == "icmpv6" {
			in.six = true
		}
		return s, true
	case v["meta"] != nil:
		var m struct{ Key string }
		if json.Unmarshal(v["meta"], &m) != nil {
			return selector{}, false
		}
		return metaSelector(m.Key), true
	case v["ct"] != nil:
		var c struct{ Key, Dir string }
		if json.Unmarshal(v["ct"], &c) != nil {
			return selector{}, false
		}
		return ctSelector(in.at.Family, c.Key, c.Dir), true
	case v["fib"] != nil:
		var f struct {
			Result string
			Flags  []string
		}
		if json.Unmarshal(v["fib"], &f) != nil {
			return selector{}, false
		}
		return fibSelector(f.Result, f.Flags), true
	case v["&"] != nil:
		var pair []json.RawMessage
		if json.Unmarshal(v["&"], &pair) != nil || len(pair) != 2 {
			return selector{}, false
		}
		s, ok := in.left(pair[0])
		if !ok || s.opaque != "" {
			return s, ok
		}
		mask, _, err := in.value(&s, pair[1])
		if err != nil || s.part.Mask != nil {
			return selector{opaque: "bits are cut out in a way that is not understood"}, true
		}
		s.part.Mask, s.part.Xor = mask, make([]byte, len(mask))
		return s, true
	case v["numgen"] != nil:
		return selector{opaque: "it depends on a number that changes", state: true}, true
	case v["tcp option"] != nil, v["exthdr"] != nil, v["ip option"] != nil:
		return selector{opaque: "the options of the packet are not known"}, true
	}
	for name := range v {
		return selector{opaque: fmt.Sprintf("%q is not understood", shorten(name))}, true
	}
	return selector{}, false
}

// concat reads the fields that are looked up together.
func (in *jsonReader) concat(raw json.RawMessage) ([]selector, bool) {
	list := slices.Values([]json.RawMessage{raw})
	if name, parts, _ := single(raw); name == "concat" {
		list = elements(parts)
	}
	var out []selector
	for each := range list {
		s, ok := in.left(each)
		if !ok {
			return nil, false
		}
		out = append(out, s)
	}
	return out, true
}

var jsonCompares = map[string]Compare{
	"==": Equal,
	"in": Equal,
	"":   Equal,
	"!=": NotEqual,
	"<":  Less,
	"<=": LessEqual,
	">":  Greater,
	">=": GreaterEqual,
}

func (in *jsonReader) match(b json.RawMessage) []Op {
	var v struct {
		Op          string
		Left, Right inPlace
	}
	puzzled := []Op{opaque("a match is not understood", false)}
	if err := json.Unmarshal(b, &v); err != nil {
		return puzzled
	}
	left, ok := in.concat(json.RawMessage(v.Left))
	op, known := jsonCompares[v.Op]
	if !ok || !known {
		return puzzled
	}
	var ops []Op
	for i := range left {
		if left[i].opaque != "" {
			return []Op{opaque(left[i].opaque, left[i].state)}
		}
		ops = append(ops, left[i].needs...)
	}
	return append(ops, in.right(left, op, v.Op, json.RawMessage(v.Right))...)
}

// right reads the right side of a match, with what it is compared by.
func (in *jsonReader) right(left []selector, op Compare, word string, raw json.RawMessage) []Op {
	puzzled := []Op{opaque("a match is not understood", false)}
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return puzzled
	}
	if name, ok := v.(string); ok && strings.HasPrefix(name, "@") {
		return []Op{in.member(left, in.at.Sets[name[1:]], name[1:], op == NotEqual)}
	}
	if m, ok := v.(map[string]any); ok && m["set"] != nil {
		var set struct{ Set json.RawMessage }
		if json.Unmarshal(raw, &set) != nil {
			return puzzled
		}
		s, ok := in.anonymous(left, set.Set, false)
		if !ok {
			return puzzled
		}
		return []Op{in.member(left, s, "", op == NotEqual)}
	}
	if len(left) != 1 {
		low, _, ok := in.values(left, raw)
		if !ok {
			return puzzled
		}
		s := &Set{Elems: []Elem{{Key: low}}}
		s.shape(left)
		s.index()
		return []Op{in.member(left, s, "", op == NotEqual)}
	}
	s := &left[0]
	low, high, err := in.value(s, raw)
	if err != nil {
		return []Op{opaque(err.Error(), false)}
	}
	if (s.kind == kindBits || s.kind == kindFlags) && s.part.Mask == nil && (word == "in" || isList(v)) {
		part := s.part
		part.Mask, part.Xor = low, make([]byte, len(low))
		return []Op{when(part, map[bool]Compare{true: Equal, false: NotEqual}[op == NotEqual], make([]byte, len(low)))}
	}
	if s.part.Source == FromFib && s.part.Key == fibOif && len(low) == 4 && isBool(v) {
		s.part.Flags |= fibThere
	}
	return []Op{s.compare(op, low, high)}
}

func isList(v any) bool { _, ok := v.([]any); return ok }
func isBool(v any) bool { _, ok := v.(bool); return ok }

// member is whether fields are in a set.
func (in *jsonReader) member(left []selector, s *Set, name string, not bool) Op {
	c := &Cond{Op: InSet, Set: s, Name: name}
	if not {
		c.Op = NotInSet
	}
	for i := range left {
		c.Parts = append(c.Parts, left[i].part)
	}
	return Op{Cond: c}
}

// anonymous reads a set or a map that stands in the rule itself.
func (in *jsonReader) anonymous(left []selector, raw json.RawMessage, isMap bool) (*Set, bool) {
	var elems []json.RawMessage
	if json.Unmarshal(raw, &elems) != nil {
		elems = []json.RawMessage{raw}
	}
	s := &Set{IsMap: isMap}
	s.shape(left)
	if err := in.fill(s, left, nil, elems); err != nil {
		return nil, false
	}
	s.index()
	return s, true
}

func (in *jsonReader) vmap(b json.RawMessage) []Op {
	var v struct{ Key, Data json.RawMessage }
	puzzled := []Op{puzzle("a map of verdicts is not understood")}
	if json.Unmarshal(b, &v) != nil {
		return puzzled
	}
	left, ok := in.concat(v.Key)
	if !ok {
		return puzzled
	}
	a := &Act{Doing: VerdictMap}
	var ops []Op
	for i := range left {
		if left[i].opaque != "" {
			return []Op{puzzle(left[i].opaque)}
		}
		ops = append(ops, left[i].needs...)
		a.Parts = append(a.Parts, left[i].part)
	}
	var name string
	var set struct{ Set json.RawMessage }
	switch {
	case json.Unmarshal(v.Data, &name) == nil && strings.HasPrefix(name, "@"):
		a.Name, a.Set = name[1:], in.at.Sets[name[1:]]
	case json.Unmarshal(v.Data, &set) == nil && set.Set != nil:
		if a.Set, ok = in.anonymous(left, set.Set, true); !ok {
			return puzzled
		}
	default:
		return puzzled
	}
	return append(ops, Op{Act: a})
}

func (in *jsonReader) mangle(b json.RawMessage) []Op {
	var v struct{ Key, Value json.RawMessage }
	if json.Unmarshal(b, &v) != nil {
		return []Op{puzzle("a change of the packet is not understood")}
	}
	s, ok := in.left(v.Key)
	switch {
	case ok && s.part.Source == FromMeta && s.part.Key == metaMark,
		ok && s.part.Source == FromCT && s.part.Key == ctMark && s.opaque == "":
		doing := SetMark
		if s.part.Source == FromCT {
			doing = SetCTMark
		}
		if low, _, err := in.value(&s, v.Value); err == nil {
			return []Op{{Act: &Act{Doing: doing, Parts: constant(low)}}}
		}
		if from, ok := in.left(v.Value); ok && from.opaque == "" && from.part.Len == 4 {
			return []Op{{Act: &Act{Doing: doing, Parts: []Part{from.part}}}}
		}
		return []Op{puzzle("which mark is set is not understood")}
	case ok && (s.part.Source == FromNetwork || s.part.Source == FromTransport) &&
		(s.kind == kindAddr4 || s.kind == kindAddr6 || s.kind == kindPort):
		return []Op{puzzle("it changes the packet's own bytes")}
	}
	return []Op{nothing("a field is set")}
}

func (in *jsonReader) update(b json.RawMessage) []Op {
	var v struct {
		Set, Map string
		Stmt     []map[string]json.RawMessage
	}
	if json.Unmarshal(b, &v) != nil {
		return []Op{opaque("an update of a set is not understood", false)}
	}
	name := strings.TrimPrefix(cmp.Or(v.Set, v.Map), "@")
	for _, s := range v.Stmt {
		for kind := range s {
			if kind != "counter" && kind != "last" {
				return []Op{opaque("it depends on a "+kind+" kept for each key of the set "+name, true)}
			}
		}
	}
	return []Op{nothing("the set " + name + " is updated")}
}

func jsonNAT(d Doing) func(*jsonReader, json.RawMessage) []Op {
	return func(in *jsonReader, b json.RawMessage) []Op {
		a := &Act{Doing: d, Final: true}
		if len(b) == 0 || string(b) == "null" {
			return []Op{{Act: a}}
		}
		var v struct {
			Addr, Port json.RawMessage
			Family     string
			Flags      any
		}
		if json.Unmarshal(b, &v) != nil {
			return []Op{puzzle("a translation is not understood")}
		}
		a.Prefixed = strings.Contains(fmt.Sprint(v.Flags), "netmap")
		for _, each := range []struct {
			raw  json.RawMessage
			kind selector
			low  *[]Part
			high *[]Part
		}{
			{v.Addr, setKinds["ipv4_addr"], &a.Addr, &a.AddrTo},
			{v.Port, setKinds["inet_service"], &a.Port, &a.PortTo},
		} {
			if each.raw == nil {
				continue
			}
			kind := each.kind
			if bytes.Contains(each.raw, []byte(":")) && kind.kind == kindAddr4 {
				kind = setKinds["ipv6_addr"]
			}
			low, high, err := in.value(&kind, each.raw)
			if err != nil {
				return []Op{puzzle("to where it is translated is not understood")}
			}
			*each.low = constant(low)
			if high != nil {
				*each.high = constant(high)
			}
		}
		return []Op{{Act: a}}
	}
}
