package filter

import (
	"net/netip"
	"slices"
	"strings"
)

// plainTargets is targets that are one act, whatever their options say more.
var plainTargets = map[string]Doing{
	"ACCEPT":     Accept,
	"DROP":       Drop,
	"RETURN":     Return,
	"REJECT":     Reject,
	"QUEUE":      Queue,
	"NFQUEUE":    Queue,
	"DNAT":       DNAT,
	"SNAT":       SNAT,
	"MASQUERADE": Masquerade,
	"REDIRECT":   Redirect,
	"NOTRACK":    NoTrack,
}

func (q *ruleReader) jump(_ *Rule, w, v word) error {
	name := v.text
	if q.final != nil {
		return q.wrong(w.column, "a second %s", w.text)
	}
	a := &Act{}
	q.final = a
	if doing, plain := plainTargets[name]; plain {
		a.Doing = doing
		q.target = []Op{{Act: a}}
		return nil
	}
	switch name {
	case "MARK":
		a.Doing = Puzzle
		a.Why = "what MARK sets is not understood"
	case "CONNMARK":
		q.connmark(a)
	case "CT":
		a.Doing, a.Text = Nothing, "ct"
		for _, each := range q.words {
			if each.text == "--notrack" {
				a.Doing = NoTrack
			}
		}
	case "NETMAP":
		a.Doing, a.Why = Puzzle, "addresses are mapped net to net"
	default:
		switch {
		case q.table.Chains[name] != nil:
			a.Doing, a.Chain = Jump, name
			if w.text == "-g" || w.text == "--goto" {
				a.Doing = Goto
			}
		case harmless[name]:
			a.Doing, a.Text = Nothing, strings.ToLower(name)
		case strings.ToUpper(name) == name:
			a.Doing, a.Why = Puzzle, "the target "+name+" is not understood"
		default:
			a.Doing, a.Chain = Jump, name // declared later, or missing
		}
	}
	q.target = []Op{{Act: a}}
	return nil
}

// connmark reads which way a mark is copied.
func (q *ruleReader) connmark(a *Act) {
	a.Doing, a.Why = Puzzle, "what CONNMARK does is not understood"
	masked := slices.ContainsFunc(q.words, func(w word) bool {
		return (strings.HasSuffix(w.text, "mask")) && strings.HasPrefix(w.text, "--")
	})
	full := true
	for i, w := range q.words {
		if strings.HasSuffix(w.text, "mask") && i+1 < len(q.words) && q.words[i+1].text != "0xffffffff" {
			full = false
		}
	}
	for _, w := range q.words {
		switch {
		case masked && !full:
		case w.text == "--save-mark":
			a.Doing = SaveMark
		case w.text == "--restore-mark":
			a.Doing = RestoreMark
		}
	}
}

func (q *ruleReader) rejectWith(_ *Rule, _, v word) error {
	if q.final == nil {
		return q.wrong(v.column, "--reject-with without -j REJECT")
	}
	with, ok := rejectNames[v.text]
	if !ok {
		return q.wrong(v.column, "%q: expected a kind of refusal such as icmp-port-unreachable", shorten(v.text))
	}
	if strings.HasPrefix(v.text, "icmp6") {
		q.of(true)
	} else if strings.HasPrefix(v.text, "icmp-") {
		q.of(false)
	}
	q.final.With = with
	return nil
}

// rejectNames are the kinds of refusal as iptables writes them.
var rejectNames = map[string]Refusal{
	"icmp-net-unreachable":   ByNetUnreachable,
	"net-unreach":            ByNetUnreachable,
	"icmp-host-unreachable":  ByHostUnreachable,
	"host-unreach":           ByHostUnreachable,
	"icmp-proto-unreachable": ByProtoUnreachable,
	"proto-unreach":          ByProtoUnreachable,
	"icmp-port-unreachable":  ByPortUnreachable,
	"port-unreach":           ByPortUnreachable,
	"icmp-net-prohibited":    ByNetProhibited,
	"net-prohib":             ByNetProhibited,
	"icmp-host-prohibited":   ByHostProhibited,
	"host-prohib":            ByHostProhibited,
	"icmp-admin-prohibited":  ByAdminProhibited,
	"admin-prohib":           ByAdminProhibited,
	"tcp-reset":              ByReset,
	"tcp-rst":                ByReset,
	"icmp6-no-route":         ByNetUnreachable,
	"no-route":               ByNetUnreachable,
	"icmp6-adm-prohibited":   ByAdminProhibited,
	"adm-prohibited":         ByAdminProhibited,
	"icmp6-addr-unreachable": ByHostUnreachable,
	"addr-unreach":           ByHostUnreachable,
	"icmp6-port-unreachable": ByPortUnreachable,
	"icmp6-policy-fail":      ByPolicyFail,
	"icmp6-reject-route":     ByRejectRoute,
}

// to reads where a translation leads: ADDRESS[-ADDRESS][:PORT[-PORT]].
func (q *ruleReader) to(_ *Rule, w, v word) error {
	if q.final == nil || q.final.Doing != DNAT && q.final.Doing != SNAT {
		return q.wrong(w.column, "%s without a translation", w.text)
	}
	text := v.text
	host, ports := text, ""
	if rest, ok := strings.CutPrefix(text, "["); ok {
		inside, after, closed := strings.Cut(rest, "]")
		if !closed {
			return q.wrong(v.column, "%q: expected ADDRESS or ADDRESS:PORT", shorten(text))
		}
		host, ports = inside, strings.TrimPrefix(after, ":")
	} else if strings.Count(text, ":") == 1 {
		host, ports, _ = strings.Cut(text, ":")
	}
	if host != "" {
		from, to, ranged := strings.Cut(host, "-")
		if !ranged {
			to = from
		}
		low, err := netip.ParseAddr(from)
		high, err2 := netip.ParseAddr(to)
		if err != nil || err2 != nil {
			return q.wrong(v.column, "%q: expected ADDRESS or ADDRESS:PORT", shorten(text))
		}
		q.of(low.Is6())
		q.final.Addr, q.final.AddrTo = constant(low.AsSlice()), constant(high.AsSlice())
	}
	if ports != "" {
		return q.toPorts(nil, w, word{ports, v.column, false})
	}
	return nil
}

func (q *ruleReader) toPorts(_ *Rule, w, v word) error {
	if q.final == nil {
		return q.wrong(w.column, "%s without a translation", w.text)
	}
	text, _, _ := strings.Cut(v.text, "/")
	r, err := q.portRange(v, text, "-")
	if err != nil {
		return err
	}
	q.final.Port, q.final.PortTo = constant(be16(r.Low)), constant(be16(r.High))
	return nil
}

func (q *ruleReader) setMark(_ *Rule, w, v word) error {
	value, mask, ok := valueMask(v.text)
	if !ok || q.final == nil {
		return q.wrong(v.column, "%q: expected VALUE or VALUE/MASK after a target", shorten(v.text))
	}
	doing := SetMark
	if q.final.Doing == Puzzle && strings.Contains(q.final.Why, "CONNMARK") {
		doing = SetCTMark
	}
	switch w.text {
	case "--set-mark":
		mask |= value
	case "--and-mark":
		mask, value = ^value, 0
	case "--or-mark":
		mask = value
	case "--xor-mark":
		mask = 0
	}
	q.final.Doing, q.final.Parts, q.final.Keep = doing, constant(le32(value)), ^mask
	return nil
}
