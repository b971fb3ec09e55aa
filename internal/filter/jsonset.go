package filter

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// setKinds are the types of a set's keys, as selectors.
var setKinds = map[string]selector{
	"ipv4_addr": {part: Part{Len: 4}, kind: kindAddr4}, "ipv6_addr": {part: Part{Len: 16}, kind: kindAddr6},
	"inet_service": {part: Part{Len: 2}, kind: kindPort}, "inet_proto": {part: Part{Len: 1}, kind: kindProto},
	"ifname": {part: Part{Len: 16}, kind: kindIfname}, "iface_index": {part: Part{Len: 4}, kind: kindIfindex},
	"mark":         {part: Part{Len: 4}, kind: kindHost},
	"icmp_type":    {part: Part{Len: 1}, kind: kindICMP4},
	"icmpv6_type":  {part: Part{Len: 1}, kind: kindICMP6},
	"ct_state":     {part: Part{Len: 4}, kind: kindBits, names: stateBits},
	"ether_type":   {part: Part{Len: 2}, kind: kindNames, names: map[string]uint32{"ip": 0x0800, "ip6": 0x86dd}},
	"fib_addrtype": {part: Part{Len: 4, Source: FromFib}, kind: kindHost, names: typeNumbers},
	"nf_proto":     {part: Part{Len: 1}, kind: kindNames, names: map[string]uint32{"ipv4": 2, "ipv6": 10}},
}

func (in *jsonReader) newSet(b json.RawMessage) error {
	var v struct {
		Family, Table, Name string
		Type                any
		Map                 any
		Flags               any
		Elem                []json.RawMessage
	}
	if err := json.Unmarshal(b, &v); err != nil {
		return err
	}
	t, err := in.find(v.Family, v.Table)
	if err != nil {
		return err
	}
	if len(t.Sets) >= mostSets {
		return errors.New("too many sets")
	}
	s := &Set{Name: v.Name, IsMap: v.Map != nil}
	t.Sets[v.Name] = s
	kinds, ok := kindsOf(v.Type)
	if !ok {
		s.Why = fmt.Sprintf("the keys of the set %s are not understood", v.Name)
		return nil
	}
	s.shape(kinds)
	var data []selector
	if v.Map != nil && v.Map != "verdict" {
		if data, ok = kindsOf(v.Map); !ok {
			s.Why = "the values of the map " + v.Name + " are not understood"
			return nil
		}
	}
	in.at = t
	return in.fill(s, kinds, data, v.Elem)
}

func kindsOf(v any) ([]selector, bool) {
	var names []string
	switch v := v.(type) {
	case string:
		names = strings.Split(strings.ReplaceAll(v, " ", ""), ".")
	case []any:
		for _, each := range v {
			names = append(names, fmt.Sprint(each))
		}
	}
	var kinds []selector
	for _, name := range names {
		k, ok := setKinds[name]
		if !ok {
			return nil, false
		}
		kinds = append(kinds, k)
	}
	return kinds, len(kinds) > 0
}

// shape sets a set's key to some fields.
func (s *Set) shape(kinds []selector) {
	s.KeyLen, s.Fields = 0, nil
	for _, k := range kinds {
		n := int(k.part.Len)
		if len(kinds) > 1 {
			s.Fields = append(s.Fields, n)
			n = (n + 3) &^ 3
		}
		s.KeyLen += n
	}
}

func (in *jsonReader) element(b json.RawMessage) error {
	var v struct {
		Family, Table, Name string
		Elem                []json.RawMessage
	}
	if err := json.Unmarshal(b, &v); err != nil {
		return err
	}
	t, err := in.find(v.Family, v.Table)
	if err != nil {
		return err
	}
	if s := t.Sets[v.Name]; s != nil && s.Why == "" {
		s.Why = "elements of the set " + v.Name + " stand apart from it"
	}
	return nil
}

// fill reads a set's elements: keys, or pairs of a key and a value.
func (in *jsonReader) fill(s *Set, kinds, data []selector, elems []json.RawMessage) error {
	for _, raw := range elems {
		var e Elem
		key := raw
		if s.IsMap {
			var pair []json.RawMessage
			if err := json.Unmarshal(raw, &pair); err != nil || len(pair) != 2 {
				s.Why = "an element of the map " + s.Name + " is not understood"
				continue
			}
			key = pair[0]
			if data == nil {
				ops := in.statement(pair[1])
				if len(ops) != 1 || ops[0].Act == nil {
					s.Why = "a verdict of the map " + s.Name + " is not understood"
					continue
				}
				e.Verdict = ops[0].Act
			} else {
				low, _, ok := in.values(data, pair[1])
				if !ok {
					s.Why = "a value of the map " + s.Name + " is not understood"
					continue
				}
				e.Data = low
			}
		}
		var wrapped struct {
			Elem map[string]json.RawMessage `json:"elem"`
		}
		if json.Unmarshal(key, &wrapped) == nil && wrapped.Elem["val"] != nil {
			key = wrapped.Elem["val"]
			for _, state := range []string{"limit", "quota", "ct count"} {
				if wrapped.Elem[state] != nil {
					e.State = "a " + state + " is attached to an element of the set " + s.Name
				}
			}
		}
		if string(key) == `"*"` {
			s.Other = &e
			continue
		}
		low, high, ok := in.values(kinds, key)
		if !ok {
			s.Why = "an element of the set " + s.Name + " is not understood"
			continue
		}
		e.Key, e.End = low, high
		s.Elems = append(s.Elems, e)
	}
	return nil
}

// values encodes one key: a value, or a concatenation of values, each of
// which may be a range.
func (in *jsonReader) values(kinds []selector, raw json.RawMessage) (low, high []byte, ok bool) {
	parts := []json.RawMessage{raw}
	var concat struct {
		Concat []json.RawMessage `json:"concat"`
	}
	if json.Unmarshal(raw, &concat) == nil && concat.Concat != nil {
		parts = concat.Concat
	}
	if len(parts) != len(kinds) {
		return nil, nil, false
	}
	ranged := false
	for i, part := range parts {
		a, b, err := in.value(&kinds[i], part)
		if err != nil {
			return nil, nil, false
		}
		if b == nil {
			b = a
		} else {
			ranged = true
		}
		low, high = append(low, a...), append(high, b...)
		if len(parts) > 1 {
			for len(low)%4 != 0 {
				low, high = append(low, 0), append(high, 0)
			}
		}
	}
	if !ranged {
		high = nil
	}
	return low, high, true
}

// value encodes one value of a field; high is nil unless it is a range.
func (in *jsonReader) value(s *selector, raw json.RawMessage) (low, high []byte, err error) {
	var v any
	if err := json.Unmarshal(raw, &v); err != nil {
		return nil, nil, err
	}
	text, err := valueText(s, v)
	if err != nil {
		return nil, nil, err
	}
	return s.value(text, in.set.Links)
}

// valueText is a JSON value in the notation of text.
func valueText(s *selector, v any) (string, error) {
	switch v := v.(type) {
	case string:
		return v, nil
	case float64:
		return strconv.FormatUint(uint64(v), 10), nil
	case bool:
		return map[bool]string{true: "1", false: "0"}[v], nil
	case []any:
		var bits uint32
		for _, each := range v {
			n, err := s.number(fmt.Sprint(each))
			if err != nil {
				return "", err
			}
			bits |= n
		}
		return strconv.FormatUint(uint64(bits), 10), nil
	case map[string]any:
		if p, ok := v["prefix"].(map[string]any); ok {
			return fmt.Sprintf("%v/%v", p["addr"], p["len"]), nil
		}
		if r, ok := v["range"].([]any); ok && len(r) == 2 {
			a, err := valueText(s, r[0])
			b, err2 := valueText(s, r[1])
			return a + "-" + b, errors.Join(err, err2)
		}
		if bits, ok := v["|"].([]any); ok {
			return valueText(s, flat(bits))
		}
	}
	return "", errors.New("a value is not understood")
}

// flat is the operands of nested "or"s.
func flat(list []any) []any {
	var out []any
	for _, each := range list {
		if m, ok := each.(map[string]any); ok {
			if inner, ok := m["|"].([]any); ok {
				out = append(out, flat(inner)...)
				continue
			}
		}
		out = append(out, each)
	}
	return out
}
