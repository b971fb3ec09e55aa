package filter

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Suppose is the host with a rule added or removed. The rule is written as
// the command that would do it, in the notation of nft or of iptables.
func (h *Host) Suppose(text string) (*Host, []*Rule, error) {
	if h.Rules == nil {
		return nil, nil, errors.New("the tables were not read")
	}
	words := strings.Fields(text)
	for len(words) > 0 && (words[0] == "sudo" || words[0] == "nft" || words[0] == "-e" || words[0] == "-a" ||
		words[0] == "-ea") {
		words = words[1:]
	}
	if len(words) == 0 {
		return nil, nil, errors.New("an empty change")
	}
	switch {
	case strings.HasPrefix(words[0], "ip") && strings.Contains(words[0], "tables"):
		return h.supposeXt(strings.HasPrefix(words[0], "ip6"), strings.Contains(words[0], "legacy"), words[1:])
	case strings.HasPrefix(words[0], "-"):
		return h.supposeXt(false, false, words)
	case words[0] == "add" || words[0] == "insert" || words[0] == "delete":
		return h.supposeNft(words)
	}
	return nil, nil, fmt.Errorf(
		"%q: expected a command of nft (add rule inet filter input …) or of iptables (-I INPUT …)",
		shorten(text),
	)
}

// changed is the host with other rules in one chain.
func (h *Host) changed(c *Chain, rules []*Rule) *Host {
	out := *h
	out.Instead = map[*Chain][]*Rule{}
	for chain, list := range h.Instead {
		out.Instead[chain] = list
	}
	out.Instead[c] = rules
	return &out
}

func (h *Host) supposeXt(six, legacy bool, words []string) (*Host, []*Rule, error) {
	name := "filter"
	if len(words) > 1 && (words[0] == "-t" || words[0] == "--table") {
		name, words = words[1], words[2:]
	}
	if len(words) < 2 {
		return nil, nil, errors.New("expected -A, -I or -D, a chain, and a rule")
	}
	var c *Chain
	for _, t := range h.Rules.Tables {
		if t.Xtable == NotXtables || t.Name != name || !t.Family.covers(six) || legacy && t.Xtable != Legacy {
			continue
		}
		if found := t.Chains[words[1]]; found != nil {
			c = found
		}
	}
	if c == nil {
		return nil, nil, fmt.Errorf("there is no chain %s in a table %s of iptables", shorten(words[1]), shorten(name))
	}
	rules := slices.Clone(h.rulesOf(c))
	at, rest := len(rules), words[2:]
	if words[0] != "-A" && words[0] != "--append" {
		at = 0
		if len(rest) > 0 {
			if n, err := strconv.Atoi(rest[0]); err == nil {
				if n < 1 || n > len(rules)+1 {
					return nil, nil, fmt.Errorf("the chain %s has no place %d", c.Name, n)
				}
				at, rest = n-1, rest[1:]
			}
		}
	}
	switch words[0] {
	case "-A", "-I", "--append", "--insert":
	case "-D", "--delete":
		if len(words) == 2 {
			return nil, nil, errors.New("expected the rule to delete, or its number")
		}
		if len(rest) > 0 {
			at = slices.IndexFunc(
				rules,
				func(r *Rule) bool { return sameWords(r.Words(), "-A "+c.Name+" "+strings.Join(rest, " ")) },
			)
			if at < 0 {
				return nil, nil, fmt.Errorf("the chain %s has no such rule", c.Name)
			}
		}
		if at >= len(rules) {
			return nil, nil, fmt.Errorf("the chain %s has no such rule", c.Name)
		}
		gone := rules[at]
		return h.changed(c, slices.Delete(rules, at, at+1)), []*Rule{gone}, nil
	default:
		return nil, nil, fmt.Errorf("%q: expected -A, -I or -D", words[0])
	}
	in := &savedReader{set: h.Rules, line: 1, table: c.Table}
	r := &Rule{Chain: c, Number: at + 1, Text: "-A " + c.Name + " " + strings.Join(rest, " ")}
	split, err := in.split(strings.Join(rest, " "))
	if err != nil {
		return nil, nil, err
	}
	if err := in.rule(r, split); err != nil {
		return nil, nil, err
	}
	for i := range r.Body {
		// Of a change that is typed, a condition that nobody understands is
		// more likely mistyped than new.
		if c := r.Body[i].Cond; c != nil && c.Op == Opaque && strings.HasSuffix(c.Why, " is not understood") {
			return nil, nil, errors.New(c.Why)
		}
		r.Body[i].Act.bind(c.Table)
	}
	return h.changed(c, slices.Insert(rules, at, r)), []*Rule{r}, nil
}

// sameWords compares rules without regard to the matches that options imply.
func sameWords(a, b string) bool {
	plain := func(s string) []string {
		var list []string
		words := strings.Fields(s)
		for i := 0; i < len(words); i++ {
			if words[i] == "-m" && i+1 < len(words) && slices.Contains([]string{"tcp", "udp"}, words[i+1]) {
				i++
				continue
			}
			list = append(list, strings.TrimSuffix(strings.TrimSuffix(words[i], "/32"), "/128"))
		}
		slices.Sort(list)
		return list
	}
	return slices.Equal(plain(a), plain(b))
}

func (h *Host) supposeNft(words []string) (*Host, []*Rule, error) {
	if len(words) < 5 || words[1] != "rule" {
		return nil, nil, errors.New("expected add, insert or delete, then: rule FAMILY TABLE CHAIN …")
	}
	verb := words[0]
	fam, ok := familyOf(words[2])
	if !ok { // the family may be left out, and is ip then
		words = append([]string{words[0], words[1], "ip"}, words[2:]...)
		fam = IPv4
	}
	var c *Chain
	for _, t := range h.Rules.Tables {
		if t.Family == fam && t.Name == words[3] {
			c = t.Chains[words[4]]
		}
	}
	if c == nil {
		return nil, nil, fmt.Errorf("there is no chain %s in table %s %s", shorten(words[4]), fam, shorten(words[3]))
	}
	rules, rest := slices.Clone(h.rulesOf(c)), words[5:]
	at := len(rules)
	if verb == "insert" {
		at = 0
	}
	if len(rest) > 1 && slices.Contains([]string{"handle", "position", "index"}, rest[0]) {
		n, err := strconv.ParseUint(rest[1], 10, 32)
		if err != nil {
			return nil, nil, fmt.Errorf("%q: expected a number", shorten(rest[1]))
		}
		at = int(n)
		if rest[0] != "index" {
			at = slices.IndexFunc(rules, func(r *Rule) bool { return r.Handle == n })
		}
		if at < 0 || at >= len(rules) {
			return nil, nil, fmt.Errorf("the chain %s has no rule with %s %d", c.Name, rest[0], n)
		}
		if verb == "add" {
			at++
		}
		rest = rest[2:]
	}
	if verb == "delete" {
		if at >= len(rules) {
			return nil, nil, errors.New("expected: delete rule FAMILY TABLE CHAIN handle N")
		}
		gone := rules[at]
		return h.changed(c, slices.Delete(rules, at, at+1)), []*Rule{gone}, nil
	}
	r := &Rule{Chain: c, Number: at + 1, Text: strings.Join(rest, " ")}
	body, err := h.nftBody(c.Table, r.Text)
	if err != nil {
		return nil, nil, err
	}
	r.Body = body
	for i := range r.Body {
		// Of a change that is typed, a condition that nobody understands is
		// more likely mistyped than new.
		if c := r.Body[i].Cond; c != nil && c.Op == Opaque && strings.HasSuffix(c.Why, " is not understood") {
			return nil, nil, errors.New(c.Why)
		}
		r.Body[i].Act.bind(c.Table)
	}
	return h.changed(c, slices.Insert(rules, at, r)), []*Rule{r}, nil
}
