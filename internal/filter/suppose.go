package filter

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net/netip"
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
	for len(words) > 0 && (words[0] == "sudo" || words[0] == "nft" || words[0] == "-e" || words[0] == "-a" || words[0] == "-ea") {
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
	return nil, nil, fmt.Errorf("%q: expected a command of nft (add rule inet filter input …) or of iptables (-I INPUT …)", shorten(text))
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
			at = slices.IndexFunc(rules, func(r *Rule) bool { return sameWords(r.Words(), "-A "+c.Name+" "+strings.Join(rest, " ")) })
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
			body = append(body, statements[w](in, nil)...)
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

// Opening is packets whose fate a change turns.
type Opening struct {
	Proto    uint8
	Ports    Range
	To       netip.Addr
	From     []netip.Prefix
	Count    *big.Int // addresses
	Accepted bool     // what becomes of them after the change
	// Asked is the address that was asked about, if it is one of many.
	Asked netip.Addr

	spans []interval
}

// mostCases bounds how many kinds of packets are compared.
const mostCases = 40000

// Differences compares two states of one host for every packet that the
// changed rules may meet: by set arithmetic over sources, destinations and
// ports, cut where any rule makes a difference. It reports false if there were
// too many cases to compare them all.
func Differences(before, after *Host, changed []*Rule, asked Packet, hop Hop) ([]Opening, bool) {
	six := asked.Six()
	cuts := newCuts(six)
	for _, h := range []*Host{before, after} {
		for _, t := range h.Rules.Tables {
			for _, c := range t.order {
				for _, r := range h.rulesOf(c) {
					cuts.rule(r)
				}
			}
		}
	}
	var regions []region
	for _, r := range changed {
		regions = append(regions, regionOf(r, six, asked)...)
	}
	tos := []netip.Addr{asked.To}
	for _, held := range after.Held {
		if a := held.Prefix.Addr(); a.Is6() == six && !a.IsLoopback() && !slices.Contains(tos, a) && len(tos) < 8 {
			tos = append(tos, a)
		}
	}
	var found []Opening
	cases, whole := 0, true
	for _, g := range regions {
		froms := cuts.pieces(0, g.from)
		ports := cuts.pieces(1, g.port)
		for _, to := range tos {
			if !g.to.holds(to) {
				continue
			}
			for _, port := range ports {
				open := Opening{Proto: g.proto, Ports: Range{uint16(port.lowPort()), uint16(port.highPort())}, To: to, Count: new(big.Int)}
				shut := open
				shut.Count = new(big.Int)
				for _, from := range froms {
					if cases++; cases > mostCases {
						return merged(found), false
					}
					p := Packet{Proto: g.proto, From: from.lowAddr(six), To: to, ToPort: uint16(port.lowPort()), Flags: SYN}
					if g.proto == ICMP || g.proto == ICMPv6 {
						p.ICMPType, p.ToPort = Echo(six), 0
					}
					if p.From == to || p.From.IsUnspecified() || p.From.IsMulticast() {
						continue
					}
					was, now := passes(before, p, hop), passes(after, p, hop)
					switch {
					case was == Unknown || now == Unknown:
						whole = whole && was == now
					case was == No && now == Yes:
						open.spans = append(open.spans, from)
					case was == Yes && now == No:
						shut.spans = append(shut.spans, from)
					}
				}
				open.Accepted = true
				for _, o := range []Opening{open, shut} {
					if o.finish(asked, six) {
						found = append(found, o)
					}
				}
			}
		}
	}
	return merged(found), whole
}

// passes reports whether a host lets a packet through.
func passes(h *Host, p Packet, hop Hop) Tri {
	hop.Host = h
	switch Request(p, []Hop{hop}).Verdict {
	case Accepts:
		return Yes
	case Drops, Rejects:
		return No
	}
	return Unknown
}

// merged joins openings that differ in their ports alone and meet.
func merged(list []Opening) []Opening {
	var out []Opening
	for _, o := range list {
		if n := len(out); n > 0 {
			last := &out[n-1]
			if last.Proto == o.Proto && last.To == o.To && last.Accepted == o.Accepted && last.Ports.High+1 == o.Ports.Low && slices.Equal(last.From, o.From) {
				last.Ports.High = o.Ports.High
				continue
			}
		}
		if !slices.ContainsFunc(out, func(x Opening) bool {
			return x.Proto == o.Proto && x.To == o.To && x.Accepted == o.Accepted && x.Ports == o.Ports && slices.Equal(x.From, o.From)
		}) {
			out = append(out, o)
		}
	}
	return out
}

// String tells an opening: "443/tcp of 10.20.0.14 to 10.20.7.0/24 (256 addresses)".
func (o Opening) String() string {
	ports := ""
	switch {
	case o.Proto == ICMP || o.Proto == ICMPv6:
	case o.Ports.Low == 0 && o.Ports.High == 65535:
		ports = "every port, "
	case o.Ports.Low == o.Ports.High:
		ports = fmt.Sprintf("%d/", o.Ports.Low)
	default:
		ports = fmt.Sprintf("%d-%d/", o.Ports.Low, o.Ports.High)
	}
	const most = 4
	if len(o.From) == 1 && o.From[0].Bits() == 0 {
		return fmt.Sprintf("%s%s of %s to every address", ports, protoName(o.Proto), o.To)
	}
	var names []string
	for i, p := range o.From {
		if i == most {
			names = append(names, "…")
			break
		}
		if p.IsSingleIP() {
			names = append(names, p.Addr().String())
		} else {
			names = append(names, p.String())
		}
	}
	count := o.Count.String() + " addresses"
	if o.Count.IsInt64() && o.Count.Int64() == 1 {
		count = "1 address"
	} else if len(count) > 22 {
		count = "very many addresses"
	}
	if o.Asked.IsValid() && o.Count.IsInt64() {
		return fmt.Sprintf("%s%s of %s to %s: %s and %d others", ports, protoName(o.Proto), o.To, strings.Join(names, ", "), o.Asked, o.Count.Int64()-1)
	}
	return fmt.Sprintf("%s%s of %s to %s (%s)", ports, protoName(o.Proto), o.To, strings.Join(names, ", "), count)
}
