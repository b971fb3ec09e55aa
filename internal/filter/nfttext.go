package filter

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// nftWords splits a rule's text; braces and commas stand for themselves.
func nftWords(text string) ([]string, error) {
	var words []string
	for at := 0; at < len(text); {
		switch c := text[at]; {
		case c == ' ' || c == '\t' || c == '\n':
			at++
		case c == '{' || c == '}' || c == ',' || c == ':' && at+1 < len(text) && text[at+1] == ' ':
			words = append(words, string(c))
			at++
		case c == '"':
			end := strings.IndexByte(text[at+1:], '"')
			if end < 0 {
				return nil, errors.New("the quotation does not end")
			}
			words = append(words, text[at+1:at+1+end])
			at += end + 2
		default:
			begin := at
			for at < len(text) && !strings.ContainsRune(" \t\n{},\"", rune(text[at])) {
				at++
			}
			words = append(words, text[begin:at])
		}
	}
	return words, nil
}

// nftBody reads the conditions and the verdict of a rule in nft's notation,
// as far as rules that are supposed need it.
func (h *Host) nftBody(t *Table, text string) ([]Op, error) {
	words, err := nftWords(text)
	if err != nil {
		return nil, err
	}
	in := &jsonReader{set: h.Rules, at: t}
	var body []Op
	next := func() string {
		if len(words) == 0 {
			return ""
		}
		w := words[0]
		words = words[1:]
		return w
	}
	for len(words) > 0 {
		w := next()
		switch w {
		case "accept", "drop", "return", "continue", "masquerade", "notrack":
			body = append(body, statements()[w](in, nil)...)
		case "counter":
			body = append(body, nothing("counter"))
		case "log":
			for len(words) > 1 && slices.Contains([]string{"prefix", "level", "group"}, words[0]) {
				next()
				next()
			}
			body = append(body, nothing("log"))
		case "comment":
			next()
		case "jump", "goto":
			target := next()
			if t.Chains[target] == nil {
				return nil, fmt.Errorf("there is no chain %q", shorten(target))
			}
			doing := Jump
			if w == "goto" {
				doing = Goto
			}
			body = append(body, Op{Act: &Act{Doing: doing, Chain: target}})
		case "reject":
			a := &Act{Doing: Reject}
			kind := ""
			if len(words) > 1 && words[0] == "with" {
				next()
				if kind = next(); kind == "tcp" {
					kind += " " + next()
				} else {
					if len(words) > 0 && words[0] == "type" {
						next()
					}
					with, ok := nftRefusals[next()]
					if !ok {
						return nil, errors.New("a refusal that is not understood")
					}
					a.With = with
				}
			}
			body = append(body, in.refusal(kind, a)...)
		default:
			ops, rest, err := in.textMatch(append([]string{w}, words...))
			if err != nil {
				return nil, err
			}
			body, words = append(body, ops...), rest
		}
	}
	return body, nil
}

// textMatch reads one match: a field, a comparison, a value or a set.
func (in *jsonReader) textMatch(words []string) ([]Op, []string, error) {
	take := func(n int) ([]string, error) {
		if len(words) < n+1 {
			return nil, fmt.Errorf("%q: expected a field and a value", strings.Join(words, " "))
		}
		out := words[:n]
		words = words[n:]
		return out, nil
	}
	var s selector
	switch w := words[0]; {
	case headerFields[w] != nil:
		f, err := take(2)
		if err != nil {
			return nil, nil, err
		}
		s = headerSelector(in.at.Family, f[0], f[1])
	case w == "meta":
		f, err := take(2)
		if err != nil {
			return nil, nil, err
		}
		s = metaSelector(f[1])
	case w == "ct":
		f, err := take(2)
		if err != nil {
			return nil, nil, err
		}
		s = ctSelector(in.at.Family, f[1], "")
	default:
		if _, err := take(1); err != nil {
			return nil, nil, err
		}
		s = metaSelector(w)
	}
	if s.opaque != "" {
		return nil, nil, errors.New(s.opaque)
	}
	op, word := Equal, "in"
	if c, ok := jsonCompares[words[0]]; ok && words[0] != "in" {
		op, word = c, words[0]
		words = words[1:]
	}
	if len(words) == 0 {
		return nil, nil, errors.New("a field without a value")
	}
	var value any
	switch {
	case words[0] == "{":
		end := slices.Index(words, "}")
		if end < 0 {
			return nil, nil, errors.New("a set that does not end")
		}
		var list []any
		for _, each := range words[1:end] {
			if each != "," {
				list = append(list, each)
			}
		}
		value, words = map[string]any{"set": list}, words[end+1:]
	default:
		list := []any{words[0]}
		words = words[1:]
		for len(words) > 1 && words[0] == "," {
			list, words = append(list, words[1]), words[2:]
		}
		value = list[0]
		if len(list) > 1 {
			value = list
		}
	}
	raw, err := json.Marshal(value)
	if err != nil {
		return nil, nil, err
	}
	ops := append(slices.Clone(s.needs), in.right([]selector{s}, op, word, raw)...)
	for _, o := range ops {
		if o.Cond != nil && o.Cond.Op == Opaque {
			return nil, nil, errors.New(o.Cond.Why)
		}
	}
	return ops, words, nil
}
