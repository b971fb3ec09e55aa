package filter

import (
	"fmt"
	"sync"
)

// exprReader turns the expressions of one rule into conditions and acts. It
// follows what each register holds.
type exprReader struct {
	in    *dumpReader
	table *Table
	rule  *Rule
	body  []Op
	regs  [16]*Part // at the four-byte register where the value begins
}

// slot is the four-byte register at which a register begins: the kernel
// numbers them both as four of 16 bytes and as sixteen of 4.
func slot(reg uint32) int {
	switch {
	case reg >= 1 && reg <= 4:
		return int(reg-1) * 4
	case reg >= 8 && reg <= 23:
		return int(reg - 8)
	}
	return -1
}

func (e *exprReader) put(reg uint32, p Part) {
	if at := slot(reg); at >= 0 {
		e.regs[at] = &p
		for i := at + 1; i < min(16, at+(int(p.Len)+3)/4); i++ {
			e.regs[i] = nil
		}
	}
}

// take is what some registers hold, as far as the bytes reach.
func (e *exprReader) take(reg uint32, n int) []Part {
	var parts []Part
	at := slot(reg)
	for n > 0 {
		if at < 0 || at >= 16 || e.regs[at] == nil {
			return []Part{{Source: FromNowhere, Len: uint8(min(n, 16)),
				Why: "a register holds what is not understood"}}
		}
		p := *e.regs[at]
		parts = append(parts, p)
		words := max(1, (int(p.Len)+3)/4)
		at, n = at+words, n-words*4
	}
	return parts
}

func (e *exprReader) add(ops ...Op) { e.body = append(e.body, ops...) }

// expressions is how each kind of expression is read.
func expressions() map[string]func(*exprReader, fields) {
	expressionsOnce.Do(makeExpressions)
	return expressionsMade
}

// Tables of methods that use them in turn are made when they are first used.
var (
	expressionsOnce sync.Once
	expressionsMade map[string]func(*exprReader, fields)
)

func makeExpressions() {
	expressionsMade = map[string]func(*exprReader, fields){
		"payload": (*exprReader).payload, "meta": (*exprReader).meta, "ct": (*exprReader).ct,
		"cmp": (*exprReader).cmp, "range": (*exprReader).between,
		"bitwise": (*exprReader).bitwise, "byteorder": (*exprReader).byteorder, "lookup": (*exprReader).lookup,
		"immediate": (*exprReader).immediate,
		"fib":       (*exprReader).fib, "exthdr": (*exprReader).exthdr, "reject": (*exprReader).reject,
		"nat":  (*exprReader).nat,
		"masq": (*exprReader).masq, "redir": (*exprReader).redir, "dynset": (*exprReader).dynset,
		"objref": (*exprReader).objref,
		"match":  (*exprReader).match, "target": (*exprReader).target,
		"counter": plainly("counter"), "log": plainly("log"), "last": plainly("last"), "dup": plainly("copied"),
		"flow_offload": plainly("flow offload"),
		"notrack":      func(e *exprReader, _ fields) { e.add(act(NoTrack)) },
		"queue":        func(e *exprReader, _ fields) { e.add(act(Queue)) },
		"limit": depends(
			"a rate limit",
		), "quota": depends("a quota"), "connlimit": depends("a limit of connections"),
		"numgen": loads("a number that changes"), "hash": loads("a hash"), "rt": loads("the route"),
		"socket": loads("the socket"),
		"osf":    loads("the sender's system"), "xfrm": loads("IPsec"), "tunnel": loads("a tunnel"),
		"inner":    loads("a packet inside"),
		"synproxy": func(e *exprReader, _ fields) { e.add(puzzle("a proxy answers the handshake (synproxy)")) },
		"tproxy":   func(e *exprReader, _ fields) { e.add(puzzle("a proxy takes it (tproxy)")) },
		"fwd":      func(e *exprReader, _ fields) { e.add(puzzle("it is sent elsewhere (fwd)")) },
	}
}

func plainly(text string) func(*exprReader, fields) {
	return func(e *exprReader, _ fields) { e.add(nothing(text)) }
}

func depends(what string) func(*exprReader, fields) {
	return func(e *exprReader, _ fields) { e.add(opaque("it depends on "+what, true)) }
}

// loads is an expression that loads what cannot be told. Its register is the
// second or first attribute, by the kind; every one is taken as such.
func loads(what string) func(*exprReader, fields) {
	return func(e *exprReader, f fields) {
		for _, kind := range []uint16{1, 2} {
			if reg := f.number(kind); slot(reg) >= 0 {
				e.put(reg, Part{Source: FromNowhere, Len: 4, Why: "it depends on " + what})
			}
		}
	}
}

func (e *exprReader) read(name string, data []byte) {
	read, ok := expressions()[name]
	if !ok {
		e.add(opaque(fmt.Sprintf("the expression %q is not understood", name), false))
		// What it loaded, and where, is not known either.
		e.regs = [16]*Part{}
		return
	}
	read(e, attrs(data))
}

var payloadSources = []Source{FromLink, FromNetwork, FromTransport}

func (e *exprReader) payload(f fields) {
	base, offset, n := f.number(2), f.number(3), f.number(4)
	if _, writes := f.find(5); writes {
		if base == 1 && offset <= 1 || base == 0 {
			e.add(nothing("a field is set"))
		} else {
			e.add(puzzle("it changes the packet's own bytes"))
		}
		return
	}
	p := Part{Source: FromNowhere, Why: "it looks into the packet's content"}
	if int(base) < len(payloadSources) && n <= 16 && offset < 1<<16 {
		p = Part{Source: payloadSources[base], Offset: uint16(offset)}
	}
	p.Len = uint8(min(n, 64))
	e.put(f.number(1), p)
}

func (e *exprReader) meta(f fields) {
	key := uint8(f.number(2))
	if sreg, sets := f.find(3); sets {
		if key == metaMark && len(sreg) >= 4 {
			e.add(Op{Act: &Act{Doing: SetMark, Parts: e.take(f.number(3), 4)}})
		} else {
			e.add(nothing("meta " + metaNames[key] + " is set"))
		}
		return
	}
	p := meta(key)
	if metaNames[key] == "" {
		p = Part{Source: FromNowhere, Len: 4, Why: fmt.Sprintf("meta key %d is not understood", key)}
	}
	if p.Len == 0 {
		p.Len = 4
	}
	e.put(f.number(1), p)
}

func (e *exprReader) ct(f fields) {
	key := uint8(f.number(2))
	if _, sets := f.find(4); sets {
		if key == ctMark {
			e.add(Op{Act: &Act{Doing: SetCTMark, Parts: e.take(f.number(4), 4)}})
		} else {
			e.add(nothing("ct " + ctNames[key] + " is set"))
		}
		return
	}
	p := tracked(key)
	if n, ok := ctLens[key]; ok {
		p.Len = n
	}
	if d, ok := f.find(3); ok && len(d) == 1 {
		p.Flags = d[0]
	}
	if (key == ctSrc || key == ctDst) && e.table.Family == IPv6 {
		p.Len = 16
	}
	if ctNames[key] == "" {
		p = Part{Source: FromNowhere, Len: 4, Why: fmt.Sprintf("ct key %d is not understood", key)}
	}
	e.put(f.number(1), p)
}

var compares = []Compare{Equal, NotEqual, Less, LessEqual, Greater, GreaterEqual}

func (e *exprReader) cmp(f fields) {
	data := attrs(f.get(3)).get(1)
	op := f.number(2)
	parts := e.take(f.number(1), len(data))
	if int(op) >= len(compares) || len(parts) != 1 || len(data) == 0 || len(data) > 16 {
		e.add(opaque("a comparison is not understood", false))
		return
	}
	e.add(Op{Cond: &Cond{Op: compares[op], Parts: parts, A: data}})
}

func (e *exprReader) between(f fields) {
	from, to := attrs(f.get(3)).get(1), attrs(f.get(4)).get(1)
	parts := e.take(f.number(1), len(from))
	if len(parts) != 1 || len(from) == 0 || len(from) != len(to) || len(from) > 16 {
		e.add(opaque("a comparison is not understood", false))
		return
	}
	op := Within
	if f.number(2) == 1 {
		op = NotWithin
	}
	e.add(Op{Cond: &Cond{Op: op, Parts: parts, A: from, B: to}})
}

func (e *exprReader) bitwise(f fields) {
	n := f.number(3)
	parts := e.take(f.number(1), int(n))
	p := Part{Source: FromNowhere, Len: uint8(min(n, 16)), Why: "bits are changed in a way that is not understood"}
	if len(parts) == 1 && parts[0].Mask == nil && parts[0].Shift == 0 && n <= 16 {
		switch f.number(6) {
		case 0:
			mask, xor := attrs(f.get(4)).get(1), attrs(f.get(5)).get(1)
			if len(mask) == int(n) && len(xor) == int(n) {
				p = parts[0]
				p.Mask, p.Xor = mask, xor
			}
		case 1, 2:
			by := attrs(f.get(7)).get(1)
			if len(by) == 4 && by[1]|by[2]|by[3] == 0 && by[0] < 32 && n == 4 {
				p = parts[0]
				p.Shift = int8(by[0])
				if f.number(6) == 1 {
					p.Shift = -p.Shift
				}
			}
		}
	}
	e.put(f.number(2), p)
}

func (e *exprReader) byteorder(f fields) {
	n, size := f.number(4), f.number(5)
	parts := e.take(f.number(1), int(n))
	p := Part{Source: FromNowhere, Len: uint8(min(n, 16)), Why: "bytes are exchanged in a way that is not understood"}
	if len(parts) == 1 && parts[0].Swap == 0 && size <= 8 {
		p = parts[0]
		p.Swap = uint8(size)
	}
	e.put(f.number(2), p)
}

func (e *exprReader) lookup(f fields) {
	name := f.text(1)
	s := e.table.Sets[name]
	keyLen := 4
	if s != nil {
		keyLen = s.KeyLen
	}
	parts := e.take(f.number(2), keyLen)
	if _, maps := f.find(3); maps {
		if reg := f.number(3); reg != 0 {
			p := Part{Source: FromMap, Map: s, Name: name, From: parts, Len: 16}
			if s != nil && len(s.Elems) > 0 {
				p.Len = uint8(min(64, len(s.Elems[0].Data)))
			}
			e.put(reg, p)
			return
		}
		e.add(Op{Act: &Act{Doing: VerdictMap, Set: s, Name: name, Parts: parts}})
		return
	}
	c := &Cond{Op: InSet, Parts: parts, Set: s, Name: name}
	if f.number(5)&1 != 0 {
		c.Op = NotInSet
	}
	e.add(Op{Cond: c})
}

func (e *exprReader) immediate(f fields) {
	data := attrs(f.get(2))
	if v, ok := data.find(2); ok {
		e.add(Op{Act: verdictAct(attrs(v))})
		return
	}
	e.put(f.number(1), Part{Source: FromConst, Const: data.get(1), Len: uint8(min(64, len(data.get(1))))})
}

func (e *exprReader) fib(f fields) {
	n := uint8(4)
	if f.number(2) == fibOifname && f.number(3)&fibThere == 0 {
		n = 16
	}
	e.put(f.number(1), Part{Source: FromFib, Key: uint8(f.number(2)), Flags: uint8(f.number(3)), Len: n, Name: "fib"})
}

func (e *exprReader) exthdr(f fields) {
	if _, writes := f.find(7); writes {
		e.add(nothing("an option is set"))
		return
	}
	kind := uint16(0)
	if b := f.get(2); len(b) > 0 {
		kind = uint16(b[0])
	}
	e.put(
		f.number(1),
		Part{
			Source: FromExtension,
			Key:    uint8(f.number(6)),
			Offset: kind,
			Len:    uint8(min(16, f.number(4))),
			Flags:  uint8(f.number(5)),
			Name:   "options",
		},
	)
}

var icmp4Refusals = map[uint8]Refusal{
	0:  ByNetUnreachable,
	1:  ByHostUnreachable,
	2:  ByProtoUnreachable,
	3:  ByPortUnreachable,
	9:  ByNetProhibited,
	10: ByHostProhibited,
	13: ByAdminProhibited,
}

var icmp6Refusals = map[uint8]Refusal{
	0: ByNetUnreachable,
	1: ByAdminProhibited,
	3: ByHostUnreachable,
	4: ByPortUnreachable,
	5: ByPolicyFail,
	6: ByRejectRoute,
}

var icmpxRefusals = []Refusal{ByNetUnreachable, ByPortUnreachable, ByHostUnreachable, ByAdminProhibited}

func (e *exprReader) reject(f fields) {
	code := uint8(0)
	if b := f.get(2); len(b) == 1 {
		code = b[0]
	}
	a := &Act{Doing: Reject}
	known := true
	switch f.number(1) {
	case 1:
		a.With = ByReset
	case 2:
		known = int(code) < len(icmpxRefusals)
		if known {
			a.With = icmpxRefusals[code]
		}
	default:
		from := icmp4Refusals
		if e.table.Family == IPv6 || e.six() {
			from = icmp6Refusals
		}
		a.With, known = from[code]
	}
	if !known {
		a.With = ByPortUnreachable
	}
	e.add(Op{Act: a})
}

// six reports whether the rule is about IPv6 alone, by its own conditions.
func (e *exprReader) six() bool {
	for _, op := range e.body {
		if c := op.Cond; c != nil && c.Op == Equal && len(c.Parts) == 1 && c.Parts[0].Source == FromMeta {
			if c.Parts[0].Key == metaNfproto && c.A[0] == byte(IPv6) ||
				c.Parts[0].Key == metaL4proto && c.A[0] == ICMPv6 ||
				c.Parts[0].Key == metaProtocol && len(c.A) == 2 && c.A[0] == 0x86 {
				return true
			}
		}
	}
	return false
}

func (e *exprReader) register(f fields, kind uint16, n int) []Part {
	if _, ok := f.find(kind); !ok {
		return nil
	}
	return e.take(f.number(kind), n)
}

func (e *exprReader) nat(f fields) {
	a := &Act{Doing: SNAT, Final: true}
	if f.number(1) == 1 {
		a.Doing = DNAT
	}
	n := 4
	if Family(f.number(2)) == IPv6 {
		n = 16
	}
	a.Addr, a.AddrTo = e.register(f, 3, n), e.register(f, 4, n)
	a.Port, a.PortTo = e.register(f, 5, 2), e.register(f, 6, 2)
	a.Prefixed = f.number(7)&0x40 != 0 // NF_NAT_RANGE_NETMAP
	if len(a.Addr) > 0 && a.Addr[0].Source == FromMap && a.Port != nil {
		// One map gives both the address and the port.
		if _, same := f.find(5); same {
			a.Prefixed = a.Prefixed || len(a.Port) != 1 || a.Port[0].Source == FromNowhere
		}
	}
	e.add(Op{Act: a})
}

func (e *exprReader) masq(f fields) {
	e.add(Op{Act: &Act{Doing: Masquerade, Port: e.register(f, 2, 2), PortTo: e.register(f, 3, 2)}})
}

func (e *exprReader) redir(f fields) {
	e.add(Op{Act: &Act{Doing: Redirect, Port: e.register(f, 1, 2), PortTo: e.register(f, 2, 2)}})
}

func (e *exprReader) dynset(f fields) {
	for _, expr := range append(attrs(f.get(10)), attr{1, f.get(7)}) {
		if name := attrs(expr.data).text(1); name != "" && name != "counter" && name != "last" {
			e.add(opaque("it depends on a "+name+" kept for each key of the set "+f.text(1), true))
			return
		}
	}
	if f.number(9)&1 != 0 {
		e.add(opaque("it depends on whether the set "+f.text(1)+" is full", true))
		return
	}
	e.add(nothing("the set " + f.text(1) + " is updated"))
}

// Kinds of named objects.
var objectKinds = map[uint32]string{2: "a quota", 4: "a rate limit", 5: "a limit of connections"}

func (e *exprReader) objref(f fields) {
	kind := f.number(1)
	if _, static := f.find(1); !static {
		e.add(opaque("it depends on an object that a map names", true))
		return
	}
	if what, ok := objectKinds[kind]; ok {
		e.add(opaque("it depends on "+what, true))
		return
	}
	if kind == 10 {
		e.add(puzzle("a proxy answers the handshake (synproxy)"))
		return
	}
	e.add(nothing("object " + f.text(2)))
}
