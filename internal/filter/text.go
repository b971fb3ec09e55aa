package filter

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// Words is the rule as its keeper knows it: the text it was read from, or
// else written anew in the notation of nft or of iptables.
func (r *Rule) Words() string {
	if r.Text != "" {
		return r.Text
	}
	w := &writer{rule: r, xt: r.Chain.Table.Xtable != NotXtables}
	if w.xt {
		w.add("-A", r.Chain.Name)
	}
	for i := 0; i < len(r.Body); i++ {
		switch c := r.Body[i].Cond; {
		case c == nil:
			w.act(r.Body[i].Act)
		case w.span(i):
			i++ // it takes two
		default:
			w.cond(c, i)
		}
	}
	if r.Comment != "" && !w.xt {
		w.add("comment " + strconv.Quote(r.Comment))
	}
	return strings.Join(w.words, " ")
}

// span writes two conditions that together are a range, as the kernel's own tool
// reads them back: from one value on, and up to another.
func (w *writer) span(at int) bool {
	body := w.rule.Body
	if w.xt || at+1 >= len(body) || body[at+1].Cond == nil {
		return false
	}
	low, high := body[at].Cond, body[at+1].Cond
	if low.Op != GreaterEqual || high.Op != LessEqual || len(low.Parts) != 1 || len(high.Parts) != 1 {
		return false
	}
	p, q := &low.Parts[0], &high.Parts[0]
	if p.Source != q.Source || p.Key != q.Key || p.Offset != q.Offset || p.Len != q.Len || p.Mask != nil ||
		q.Mask != nil {
		return false
	}
	w.add(w.name(p), w.ranged(p, low.A, high.A))
	return true
}

// six reports whether a rule is for IPv6: by its table, or by a condition of its
// own.
func (w *writer) six() bool {
	if w.rule.Chain.Table.Family == IPv6 {
		return true
	}
	return slices.ContainsFunc(w.rule.Body, func(op Op) bool {
		c := op.Cond
		if c == nil || c.Op != Equal || len(c.Parts) != 1 || c.Parts[0].Source != FromMeta {
			return false
		}
		return c.Parts[0].Key == metaNfproto && len(c.A) == 1 && c.A[0] == byte(IPv6) ||
			c.Parts[0].Key == metaProtocol && bytes.Equal(c.A, []byte{0x86, 0xdd})
	})
}

// said reports whether a condition says again what an earlier one of the rule
// says.
func (w *writer) said(c *Cond, at int) bool {
	return slices.ContainsFunc(w.rule.Body[:min(at, len(w.rule.Body))], func(op Op) bool {
		o := op.Cond
		return o != nil && o.Op == c.Op && len(o.Parts) == 1 && len(c.Parts) == 1 && o.Parts[0].Source == FromMeta &&
			c.Parts[0].Source == FromMeta && o.Parts[0].Key == c.Parts[0].Key && bytes.Equal(o.A, c.A)
	})
}

// writer writes one rule.
type writer struct {
	rule  *Rule
	xt    bool
	words []string
}

func (w *writer) add(words ...string) {
	for _, each := range words {
		if each != "" {
			w.words = append(w.words, each)
		}
	}
}

// implied reports whether a later condition of the rule says the same anyway:
// a port names its protocol, an address its family.
func (w *writer) implied(at int, key uint8) bool {
	for _, op := range w.rule.Body[at+1:] {
		if op.Cond == nil || len(op.Cond.Parts) == 0 {
			continue
		}
		source, icmp := op.Cond.Parts[0].Source, op.Cond.Parts[0].Key == metaL4proto && len(op.Cond.A) == 1 &&
			(op.Cond.A[0] == ICMP || op.Cond.A[0] == ICMPv6)
		if key == metaNfproto && source == FromMeta && icmp {
			return true // each is of one family
		}
		if key == metaL4proto && source == FromTransport || key == metaNfproto && source == FromNetwork {
			return true
		}
	}
	return false
}

func (w *writer) cond(c *Cond, at int) {
	switch c.Op {
	case Opaque:
		w.add("(" + c.Why + ")")
		return
	case AnyOf, AllOf, NoneOf:
		w.several(c)
		return
	}
	p := &c.Parts[0]
	if !w.xt && c.Op == Equal && p.Source == FromMeta && (p.Key == metaL4proto || p.Key == metaNfproto) &&
		(w.implied(at, p.Key) || w.said(c, at)) {
		return
	}
	if w.xt {
		w.xtCond(c)
		return
	}
	var names []string
	for i := range c.Parts {
		names = append(names, w.name(&c.Parts[i]))
	}
	name := strings.Join(names, " . ")
	switch c.Op {
	case InSet, NotInSet:
		w.add(name, map[bool]string{true: "!="}[c.Op == NotInSet], w.set(c))
		return
	}
	value, bits := w.value(c, p)
	op := map[Compare]string{NotEqual: "!=", NotWithin: "!=", Less: "<", LessEqual: "<=", Greater: ">",
		GreaterEqual: ">="}[c.Op]
	if bits {
		op = map[bool]string{true: "!="}[c.Op == Equal]
	}
	w.add(name, op, value)
}

// name is what nft calls a field.
func (w *writer) name(p *Part) string {
	switch p.Source {
	case FromNetwork:
		if w.six() || p.Offset == 8 && p.Len > 4 || p.Offset == 24 {
			switch {
			case p.Offset == 7:
				return "ip6 hoplimit"
			case p.Offset == 8:
				return "ip6 saddr"
			case p.Offset == 24:
				return "ip6 daddr"
			case p.Offset == 6:
				return "ip6 nexthdr"
			}
		}
		if name, ok := map[uint16]string{12: "ip saddr", 16: "ip daddr", 9: "ip protocol", 8: "ip ttl",
			2: "ip length"}[p.Offset]; ok {
			return name
		}
		return fmt.Sprintf("@nh,%d,%d", int(p.Offset)*8, int(p.Len)*8)
	case FromTransport:
		proto := w.proto()
		if proto == "icmp" || proto == "icmpv6" {
			if name, ok := map[uint16]string{0: "type", 1: "code"}[p.Offset]; ok {
				return proto + " " + name
			}
		}
		switch {
		case p.Offset == 0 && p.Len == 2:
			return proto + " sport"
		case p.Offset == 2 && p.Len == 2:
			return proto + " dport"
		case p.Offset == 13 && p.Len == 1:
			return "tcp flags"
		}
		return fmt.Sprintf("@th,%d,%d", int(p.Offset)*8, int(p.Len)*8)
	case FromMeta:
		if strings.HasPrefix(metaNames[p.Key], "iif") || strings.HasPrefix(metaNames[p.Key], "oif") {
			return metaNames[p.Key]
		}
		return "meta " + metaNames[p.Key]
	case FromCT:
		return "ct " + map[uint8]string{0: "original ", 1: "reply "}[p.Flags] + ctNames[p.Key]
	case FromFib:
		var flags []string
		for i, name := range []string{"saddr", "daddr", "mark", "iif", "oif"} {
			if p.Flags&(1<<i) != 0 {
				flags = append(flags, name)
			}
		}
		return "fib " + strings.Join(
			flags,
			" . ",
		) + " " + map[uint8]string{fibOif: "oif", fibOifname: "oifname", fibType: "type"}[p.Key]
	case FromLink:
		return "ether"
	}
	return "(" + p.Why + ")"
}

// proto is the protocol that the rule itself names.
func (w *writer) proto() string {
	for _, op := range w.rule.Body {
		c := op.Cond
		if c != nil && c.Op == Equal && len(c.A) == 1 &&
			(c.Parts[0].Source == FromMeta && c.Parts[0].Key == metaL4proto || c.Parts[0].Source == FromNetwork &&
				(c.Parts[0].Offset == 9 || c.Parts[0].Offset == 6)) {
			return protoName(c.A[0])
		}
	}
	return "th"
}

func protoName(n uint8) string {
	switch n {
	case ICMP:
		return "icmp"
	case TCP:
		return "tcp"
	case UDP:
		return "udp"
	case ICMPv6:
		return "icmpv6"
	}
	for name, number := range protoNumbers {
		if number == uint32(n) {
			return name
		}
	}
	return strconv.Itoa(int(n))
}

func (w *writer) act(a *Act) {
	switch a.Doing {
	case Accept, Drop, Return, Continue, Queue:
		word := map[Doing]string{Accept: "accept", Drop: "drop", Return: "return", Continue: "continue",
			Queue: "queue"}[a.Doing]
		if w.xt {
			w.add("-j", strings.ToUpper(word))
			return
		}
		w.add(word)
	case Reject:
		switch {
		case w.xt:
			w.add("-j", "REJECT", "--reject-with", a.With.String())
		case a.With == ByReset:
			w.add("reject with tcp reset")
		case a.With == ByPortUnreachable:
			w.add("reject")
		default:
			kind := "icmp "
			if w.rule.Chain.Table.Family == Inet {
				kind = "icmpx "
			}
			w.add("reject with " + strings.Replace(a.With.String(), "icmp-", kind, 1))
		}
	case Jump, Goto:
		switch {
		case w.xt:
			w.add(map[Doing]string{Jump: "-j", Goto: "-g"}[a.Doing], a.Chain)
		default:
			w.add(map[Doing]string{Jump: "jump", Goto: "goto"}[a.Doing], a.Chain)
		}
	case DNAT, SNAT, Masquerade, Redirect:
		w.translation(a)
	case SetMark, SetCTMark:
		name := map[Doing]string{SetMark: "meta mark set", SetCTMark: "ct mark set"}[a.Doing]
		value := "…"
		if len(a.Parts) == 1 && len(a.Parts[0].Const) == 4 {
			value = fmt.Sprintf("0x%08x", binary.LittleEndian.Uint32(a.Parts[0].Const))
		}
		if w.xt {
			value = "0x" + cmp.Or(strings.TrimLeft(value, "0x"), "0")
			if a.Keep != 0 {
				value += fmt.Sprintf("/%#x", ^a.Keep)
			}
			w.add(
				"-j",
				map[Doing]string{SetMark: "MARK --set-xmark", SetCTMark: "CONNMARK --set-xmark"}[a.Doing],
				value,
			)
			return
		}
		w.add(name, value)
	case SaveMark, RestoreMark:
		w.add(map[Doing]string{SaveMark: "-j CONNMARK --save-mark",
			RestoreMark: "-j CONNMARK --restore-mark"}[a.Doing])
	case NoTrack:
		w.add("notrack")
	case VerdictMap:
		var names []string
		for i := range a.Parts {
			names = append(names, w.name(&a.Parts[i]))
		}
		w.add(strings.Join(names, " . "), "vmap")
		if a.Set == nil || a.Set.Name != "" && !strings.HasPrefix(a.Set.Name, "__") {
			w.add("@" + a.Name)
		} else {
			w.add("{ " + strings.Join(w.elements(a.Set, a.Parts), ", ") + " }")
		}
	case Nothing:
		if w.xt {
			if a.Text != "counter" {
				w.add("-j", strings.ToUpper(a.Text))
			}
			return
		}
		w.add(a.Text)
	default:
		w.add("(" + a.Why + ")")
	}
}

func (w *writer) translation(a *Act) {
	to := ""
	if len(a.Addr) == 1 {
		if addr, ok := netip.AddrFromSlice(a.Addr[0].Const); ok {
			to = addr.String()
			if addr.Is6() && a.Port != nil {
				to = "[" + to + "]"
			}
		} else {
			to = "…"
		}
	}
	if len(a.Port) == 1 && len(a.Port[0].Const) == 2 {
		to += ":" + strconv.Itoa(int(binary.BigEndian.Uint16(a.Port[0].Const)))
	}
	word := map[Doing]string{DNAT: "dnat", SNAT: "snat", Masquerade: "masquerade", Redirect: "redirect"}[a.Doing]
	if w.xt {
		w.add("-j", strings.ToUpper(word))
		if to != "" {
			w.add(
				map[Doing]string{DNAT: "--to-destination", SNAT: "--to-source", Redirect: "--to-ports",
					Masquerade: "--to-ports"}[a.Doing],
				strings.TrimPrefix(to, ":"),
			)
		}
		return
	}
	w.add(word)
	if to != "" {
		if w.rule.Chain.Table.Family == Inet && len(a.Addr) == 1 {
			w.add(map[int]string{4: "ip", 16: "ip6"}[len(a.Addr[0].Const)])
		}
		w.add("to", to)
	}
}

// several writes conditions that are joined.
func (w *writer) several(c *Cond) {
	if w.xt && (c.Op == AnyOf || c.Op == NoneOf) && len(c.Conds) > 0 && c.Conds[0].Parts != nil &&
		c.Conds[0].Parts[0].Source == FromCT {
		var states []string
		for _, each := range c.Conds {
			states = append(states, strings.ToUpper(w.one(&each.Parts[0], each.Parts[0].Mask)))
		}
		w.add("-m conntrack", map[bool]string{true: "!"}[c.Op == NoneOf], "--ctstate", strings.Join(states, ","))
		return
	}
	var parts []string
	for _, each := range c.Conds {
		sub := &writer{rule: w.rule, xt: w.xt}
		sub.cond(each, len(w.rule.Body)-1)
		parts = append(parts, strings.Join(sub.words, " "))
	}
	joint := " or "
	if c.Op == AllOf {
		joint = " and "
	}
	w.add(map[bool]string{true: "not"}[c.Op == NoneOf], "("+strings.Join(parts, joint)+")")
}

// xtCond writes a condition as an option of iptables.
func (w *writer) xtCond(c *Cond) {
	p := &c.Parts[0]
	not := map[bool]string{true: "!"}[c.Op == NotEqual || c.Op == NotWithin || c.Op == NotInSet]
	value := ""
	switch {
	case c.Op == InSet || c.Op == NotInSet:
		if c.Set != nil && c.Set.Name != "" && !strings.HasPrefix(c.Set.Name, "__") {
			w.add("-m set", not, "--match-set", c.Set.Name)
			return
		}
		if c.Set != nil {
			value = strings.ReplaceAll(strings.Join(w.elements(c.Set, c.Parts), ","), "-", ":")
		}
		w.add("-m multiport", not, map[bool]string{true: "--sports", false: "--dports"}[p.Offset == 0], value)
		return
	default:
		value, _ = w.value(c, p)
	}
	option := ""
	switch name := w.name(p); name {
	case "ip saddr", "ip6 saddr":
		option = "-s"
		if c.Op == Within || c.Op == NotWithin {
			option = "--src-range"
		}
	case "ip daddr", "ip6 daddr":
		option = "-d"
		if c.Op == Within || c.Op == NotWithin {
			option = "--dst-range"
		}
	case "meta l4proto", "ip protocol", "ip6 nexthdr":
		option = "-p"
	case "iifname":
		option, value = "-i", strings.ReplaceAll(strings.Trim(value, `"`), "*", "+")
	case "oifname":
		option, value = "-o", strings.ReplaceAll(strings.Trim(value, `"`), "*", "+")
	case "meta mark":
		option = "-m mark --mark"
		if n, err := strconv.ParseUint(value, 0, 32); err == nil {
			value = fmt.Sprintf("%#x", n)
		}
	default:
		option = map[string]string{"sport": "--sport", "dport": "--dport"}[name[strings.LastIndexByte(name, ' ')+1:]]
		if option == "" {
			option = "(" + name + ")"
		}
		value = strings.ReplaceAll(value, "-", ":")
	}
	w.add(not, option, value)
}
