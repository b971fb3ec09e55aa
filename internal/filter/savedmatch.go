package filter

import (
	"net/netip"
	"strconv"
	"strings"
)

// portRange reads a port, or two with a colon between.
func (q *ruleReader) portRange(v word, text string, between string) (Range, error) {
	from, to, ranged := strings.Cut(text, between)
	if !ranged {
		to = from
	}
	if ranged && from == "" {
		from = "0"
	}
	if ranged && to == "" {
		to = "65535"
	}
	var out Range
	for i, t := range []string{from, to} {
		n, err := strconv.ParseUint(t, 10, 16)
		if err != nil {
			number, ok := services[t]
			if !ok {
				return out, q.wrong(v.column, "%q: expected a port", shorten(text))
			}
			n = uint64(number)
		}
		if i == 0 {
			out.Low = uint16(n)
		} else {
			out.High = uint16(n)
		}
	}
	return out, nil
}

func (q *ruleReader) port(_ *Rule, w, v word) error {
	r, err := q.portRange(v, v.text, ":")
	if err != nil {
		return err
	}
	q.add(whenPort(strings.HasPrefix(w.text, "--s"), r.Low, r.High, q.not))
	return nil
}

func (q *ruleReader) ports(_ *Rule, w, v word) error {
	var list []Range
	for text := range strings.SplitSeq(v.text, ",") {
		r, err := q.portRange(v, text, ":")
		if err != nil {
			return err
		}
		list = append(list, r)
	}
	which := map[byte]uint8{'s': 0, 'd': 1, 'p': 2}[w.text[2]]
	q.add(multiport(which, list, q.not)...)
	return nil
}

func (q *ruleReader) flags(_ *Rule, w, v word) error {
	if len(q.words) == 0 {
		return q.wrong(w.column, "--tcp-flags: expected two lists of flags")
	}
	second := q.next()
	var masks [2]uint8
	for i, each := range []word{v, second} {
		for name := range strings.SplitSeq(each.text, ",") {
			switch bit, ok := flagBits[strings.ToLower(name)]; {
			case ok:
				masks[i] |= uint8(bit)
			case name == "ALL":
				masks[i] |= 0x3f
			case name != "NONE":
				return q.wrong(each.column, "%q: expected flags of TCP", shorten(name))
			}
		}
	}
	q.add(whenFlags(masks[0], masks[1], q.not))
	return nil
}

func (q *ruleReader) icmp(_ *Rule, w, v word) error {
	six := w.text == "--icmpv6-type"
	q.of(six)
	text, code, coded := strings.Cut(v.text, "/")
	if text == "any" && !six {
		return nil
	}
	names, low, high := icmp4Types, uint8(0), uint8(255)
	if six {
		names = icmp6Types
	}
	kind, ok := names[text]
	if !ok {
		n, err := strconv.ParseUint(text, 10, 8)
		if err != nil {
			q.add(opaque("the ICMP type "+v.text+" is not understood", false))
			return nil
		}
		kind = uint32(n)
	}
	if coded {
		n, err := strconv.ParseUint(code, 10, 8)
		if err != nil {
			return q.wrong(v.column, "%q: expected TYPE or TYPE/CODE", shorten(v.text))
		}
		low, high = uint8(n), uint8(n)
	}
	if kind == 255 && !six {
		return nil
	}
	q.add(icmpType(uint8(kind), low, high, q.not, true)...)
	return nil
}

var xtStates = map[string]uint32{
	"INVALID":     ctInvalid,
	"ESTABLISHED": ctEstablished,
	"RELATED":     ctRelated,
	"NEW":         ctNew,
	"SNAT":        xtSNAT,
	"DNAT":        xtDNAT,
	"UNTRACKED":   xtUntracked,
}

func (q *ruleReader) states(_ *Rule, _, v word) error {
	var bits uint32
	for name := range strings.SplitSeq(v.text, ",") {
		bit, ok := xtStates[name]
		if !ok {
			return q.wrong(v.column, "%q: expected states such as NEW or ESTABLISHED", shorten(name))
		}
		bits |= bit
	}
	q.add(ctStates(bits, q.not))
	return nil
}

func (q *ruleReader) status(_ *Rule, _, v word) error {
	var bits uint32
	for name := range strings.SplitSeq(v.text, ",") {
		bit, ok := map[string]uint32{"EXPECTED": 1, "SEEN_REPLY": 2, "ASSURED": 4, "CONFIRMED": 8}[name]
		if !ok {
			q.add(opaque("--ctstatus "+name+" is not understood", false))
			return nil
		}
		bits |= bit
	}
	q.add(whenBits(tracked(ctStatus), bits, q.not))
	return nil
}

func (q *ruleReader) direction(_ *Rule, _, v word) error {
	want := byte(0)
	if v.text == "REPLY" {
		want = 1
	}
	q.add(when(tracked(ctDirection), equalOrNot(q.not), []byte{want}))
	return nil
}

// valueMask reads a number with a mask behind it, if any.
func valueMask(text string) (value, mask uint32, ok bool) {
	v, m, masked := strings.Cut(text, "/")
	a, err := strconv.ParseUint(v, 0, 32)
	b := uint64(1<<32 - 1)
	if masked {
		var err2 error
		if b, err2 = strconv.ParseUint(m, 0, 32); err2 != nil {
			return 0, 0, false
		}
	}
	return uint32(a), uint32(b), err == nil
}

func (q *ruleReader) mark(_ *Rule, _, v word) error {
	value, mask, ok := valueMask(v.text)
	if !ok {
		return q.wrong(v.column, "%q: expected VALUE or VALUE/MASK", shorten(v.text))
	}
	part := meta(metaMark)
	if q.match == "connmark" {
		part = tracked(ctMark)
	}
	q.add(whenMark(part, value, mask, q.not))
	return nil
}

func (q *ruleReader) addrRange(_ *Rule, w, v word) error {
	from, to, ok := strings.Cut(v.text, "-")
	if !ok {
		to = from
	}
	low, err := netip.ParseAddr(from)
	high, err2 := netip.ParseAddr(to)
	if err != nil || err2 != nil || low.Is6() != high.Is6() {
		return q.wrong(v.column, "%q: expected ADDRESS-ADDRESS", shorten(v.text))
	}
	q.of(low.Is6())
	q.add(whenAddrs(w.text == "--src-range", low, high, q.not))
	return nil
}

func (q *ruleReader) addrType(_ *Rule, w, v word) error {
	var kinds uint32
	for name := range strings.SplitSeq(v.text, ",") {
		n, ok := typeNumbers[strings.ToLower(name)]
		if !ok {
			return q.wrong(v.column, "%q: expected a type of address such as LOCAL", shorten(name))
		}
		kinds |= 1 << n
	}
	addr := uint8(fibDaddr)
	if w.text == "--src-type" {
		addr = fibSaddr
	}
	q.add(whenXTType(addr, kinds, q.not, 0))
	return nil
}

func (q *ruleReader) set(_ *Rule, w, v word) error {
	if len(q.words) == 0 {
		return q.wrong(w.column, "--match-set NAME: expected src or dst after it")
	}
	var sources []bool
	for name := range strings.SplitSeq(q.next().text, ",") {
		sources = append(sources, name == "src")
	}
	s := q.ipsets[v.text]
	if s == nil {
		q.add(opaque("the set "+v.text+" was not read", false))
		return nil
	}
	q.add(whenMember(s, sources, s.KeyLen > 8 || q.hint == IPv6, q.not))
	return nil
}

func (q *ruleReader) packetType(_ *Rule, _, v word) error {
	n, ok := map[string]byte{"unicast": 0, "host": 0, "broadcast": 1, "multicast": 2, "otherhost": 3}[v.text]
	if !ok {
		return q.wrong(v.column, "%q: expected unicast, broadcast or multicast", shorten(v.text))
	}
	q.add(when(meta(metaPkttype), equalOrNot(q.not), []byte{n}))
	return nil
}

func (q *ruleReader) ownerOf(*Rule, word, word) error {
	q.add(owner())
	return nil
}
