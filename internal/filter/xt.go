package filter

import (
	"encoding/binary"
	"net/netip"
	"strings"
)

// Extensions of iptables as the kernel keeps them inside nftables: their
// structures of include/uapi/linux/netfilter/xt_*.h, in the byte order of the
// host (little-endian).

func (e *exprReader) match(f fields) {
	name, rev, info := f.text(1), f.number(2), f.get(3)
	read, ok := xtMatches[name]
	if !ok {
		e.add(opaque("the match "+name+" is not understood", stateful[name]))
		return
	}
	ops, ok := read(xtInfo{info, rev, e.table.Family == IPv6, e.in.ipsets})
	if !ok {
		e.add(opaque("revision of the match "+name+" is not understood", false))
		return
	}
	e.add(ops...)
}

func (e *exprReader) target(f fields) {
	name, rev, info := f.text(1), f.number(2), f.get(3)
	if harmless[name] {
		e.add(nothing(strings.ToLower(name)))
		return
	}
	read, ok := xtTargets[name]
	if ok {
		var ops []Op
		if ops, ok = read(xtInfo{info, rev, e.table.Family == IPv6, nil}); ok {
			e.add(ops...)
			return
		}
	}
	e.add(puzzle("the target " + name + " is not understood"))
}

// stateful is the matches of iptables that depend on state that nobody can
// read.
var stateful = map[string]bool{
	"limit":     true,
	"hashlimit": true,
	"recent":    true,
	"connlimit": true,
	"time":      true,
	"statistic": true,
	"quota":     true,
	"connbytes": true,
	"rateest":   true,
	"nfacct":    true,
}

// harmless is the targets of iptables that do not change where a packet goes.
var harmless = map[string]bool{
	"LOG":         true,
	"NFLOG":       true,
	"ULOG":        true,
	"TRACE":       true,
	"CHECKSUM":    true,
	"CLASSIFY":    true,
	"TCPMSS":      true,
	"DSCP":        true,
	"TOS":         true,
	"TTL":         true,
	"HL":          true,
	"SET":         true,
	"AUDIT":       true,
	"LED":         true,
	"IDLETIMER":   true,
	"RATEEST":     true,
	"SECMARK":     true,
	"CONNSECMARK": true,
	"TCPOPTSTRIP": true,
	"ECN":         true,
	"HMARK":       false,
	"NFACCT":      true,
	"TEE":         true,
}

type xtInfo struct {
	b      []byte
	rev    uint32
	six    bool
	ipsets map[uint16]*Set
}

func (x xtInfo) has(n int) bool { return len(x.b) >= n }

func (x xtInfo) u16(at int) uint16 { return binary.LittleEndian.Uint16(x.b[at:]) }
func (x xtInfo) u32(at int) uint32 { return binary.LittleEndian.Uint32(x.b[at:]) }

func (x xtInfo) addr(at int) netip.Addr {
	if x.six {
		a, _ := netip.AddrFromSlice(x.b[at : at+16])
		return a
	}
	a, _ := netip.AddrFromSlice(x.b[at : at+4])
	return a
}

func (x xtInfo) ports(at int, source, not bool) []Op {
	low, high := x.u16(at), x.u16(at+2)
	if low == 0 && high == 65535 && !not {
		return nil
	}
	return []Op{whenPort(source, low, high, not)}
}

var xtMatches = map[string]func(xtInfo) ([]Op, bool){
	"tcp": func(x xtInfo) ([]Op, bool) {
		if !x.has(12) {
			return nil, false
		}
		inv := x.b[11]
		ops := append(x.ports(0, true, inv&1 != 0), x.ports(4, false, inv&2 != 0)...)
		if x.b[9] != 0 {
			ops = append(ops, whenFlags(x.b[9], x.b[10], inv&4 != 0))
		}
		if x.b[8] != 0 {
			ops = append(ops, opaque("it depends on the options of TCP", false))
		}
		return ops, true
	},
	"udp": func(x xtInfo) ([]Op, bool) {
		if !x.has(9) {
			return nil, false
		}
		return append(x.ports(0, true, x.b[8]&1 != 0), x.ports(4, false, x.b[8]&2 != 0)...), true
	},
	"icmp": xtICMP, "icmp6": xtICMP,
	"multiport": func(x xtInfo) ([]Op, bool) {
		if x.rev != 1 || !x.has(48) {
			return nil, false
		}
		var list []Range
		for i := 0; i < int(min(15, x.b[1])); i++ {
			r := Range{x.u16(2 + 2*i), x.u16(2 + 2*i)}
			if x.b[32+i] != 0 && i < 14 {
				i++
				r.High = x.u16(2 + 2*i)
			}
			list = append(list, r)
		}
		return multiport(x.b[0], list, x.b[47] != 0), true
	},
	"conntrack": xtConntrack,
	"state": func(x xtInfo) ([]Op, bool) {
		if !x.has(4) {
			return nil, false
		}
		return []Op{ctStates(x.u32(0), false)}, true
	},
	"addrtype": func(x xtInfo) ([]Op, bool) {
		if x.rev != 1 || !x.has(8) {
			return nil, false
		}
		var ops []Op
		limit := uint8(0)
		flags := x.u32(4)
		if flags&12 != 0 {
			limit = fibIif
		}
		if s := x.u16(0); s != 0 {
			ops = append(ops, whenXTType(fibSaddr, uint32(s), flags&1 != 0, limit))
		}
		if d := x.u16(2); d != 0 {
			ops = append(ops, whenXTType(fibDaddr, uint32(d), flags&2 != 0, limit))
		}
		return ops, true
	},
	"iprange": func(x xtInfo) ([]Op, bool) {
		if x.rev != 1 || !x.has(65) {
			return nil, false
		}
		var ops []Op
		flags := x.b[64]
		if flags&1 != 0 {
			ops = append(ops, whenAddrs(true, x.addr(0), x.addr(16), flags&16 != 0))
		}
		if flags&2 != 0 {
			ops = append(ops, whenAddrs(false, x.addr(32), x.addr(48), flags&32 != 0))
		}
		return ops, true
	},
	"mark":     func(x xtInfo) ([]Op, bool) { return xtMark(x, meta(metaMark)) },
	"connmark": func(x xtInfo) ([]Op, bool) { return xtMark(x, tracked(ctMark)) },
	"comment":  func(xtInfo) ([]Op, bool) { return nil, true },
	"mac": func(xtInfo) ([]Op, bool) {
		return []Op{opaque("the sender's hardware address is not known", false)}, true
	},
	"owner": func(xtInfo) ([]Op, bool) { return []Op{owner()}, true },
	"pkttype": func(x xtInfo) ([]Op, bool) {
		if !x.has(8) {
			return nil, false
		}
		return []Op{when(meta(metaPkttype), equalOrNot(x.u32(4) != 0), []byte{x.b[0]})}, true
	},
	"length": func(x xtInfo) ([]Op, bool) {
		return []Op{opaque("the packet's length is not known", false)}, x.has(5)
	},
	"ttl": func(x xtInfo) ([]Op, bool) { return []Op{opaque("the hop limit is not known", false)}, true },
	"hl":  func(x xtInfo) ([]Op, bool) { return []Op{opaque("the hop limit is not known", false)}, true },
	"set": func(x xtInfo) ([]Op, bool) {
		if !x.has(4) || x.rev == 0 {
			return nil, false
		}
		dim, flags := int(x.b[2]), x.b[3]
		if x.rev >= 3 && x.has(72) && x.u32(68)&^1 != 0 {
			return nil, false
		}
		s := x.ipsets[x.u16(0)]
		var sources []bool
		for i := 1; i <= dim; i++ {
			sources = append(sources, flags&(1<<i) != 0)
		}
		return []Op{whenMember(s, sources, x.six, flags&1 != 0)}, true
	},
	"physdev":  func(xtInfo) ([]Op, bool) { return []Op{opaque("the port of a bridge is not known", false)}, true },
	"rpfilter": func(xtInfo) ([]Op, bool) { return []Op{opaque("the reverse path is not known", false)}, true },
}

// owner is a condition on the sending socket's owner: only packets that the
// host itself sends have one.
func owner() Op {
	return Op{Cond: &Cond{Op: Greater, Parts: []Part{meta(metaUID)}, A: []byte{0xff, 0xff, 0xff, 0xff}}}
}

func xtICMP(x xtInfo) ([]Op, bool) {
	if !x.has(4) {
		return nil, false
	}
	return icmpType(x.b[0], x.b[1], x.b[2], x.b[3]&1 != 0, x.six), true
}

// icmpType compares the type and code of an ICMP message; type 255 of IPv4
// stands for any.
func icmpType(kind, low, high uint8, not, six bool) []Op {
	if kind == 0xff && !six {
		if not {
			return []Op{{Cond: &Cond{Op: AnyOf}}} // never
		}
		return nil
	}
	c := &Cond{Op: AllOf, Conds: []*Cond{when(transport(0, 1), Equal, []byte{kind}).Cond,
		{Op: Within, Parts: []Part{transport(1, 1)}, A: []byte{low}, B: []byte{high}}}}
	if not {
		c = &Cond{Op: NoneOf, Conds: []*Cond{c}}
	}
	return []Op{{Cond: c}}
}

func multiport(which uint8, list []Range, not bool) []Op {
	switch which {
	case 0:
		return []Op{{Cond: whenPorts(true, list, not)}}
	case 1:
		return []Op{{Cond: whenPorts(false, list, not)}}
	}
	c := &Cond{Op: AnyOf, Conds: []*Cond{whenPorts(true, list, false), whenPorts(false, list, false)}}
	if not {
		c.Op = NoneOf
	}
	return []Op{{Cond: c}}
}

// States of iptables' conntrack match beyond those of nft
// (include/uapi/linux/netfilter/xt_conntrack.h).
const xtSNAT, xtDNAT, xtUntracked = 64, 128, 256

// ctStates is whether a connection is in one of some states.
func ctStates(states uint32, not bool) Op {
	bits := states & 0xf
	if states&xtUntracked != 0 {
		bits |= ctUntracked
	}
	each := []*Cond{whenBits(tracked(ctState), bits, false).Cond}
	if states&xtSNAT != 0 {
		each = append(each, whenBits(tracked(ctStatus), statusSNAT, false).Cond)
	}
	if states&xtDNAT != 0 {
		each = append(each, whenBits(tracked(ctStatus), statusDNAT, false).Cond)
	}
	c := &Cond{Op: AnyOf, Conds: each}
	if not {
		c.Op = NoneOf
	}
	return Op{Cond: c}
}

// Flags of xt_conntrack_mtinfo3.
const (
	xtState, xtProto, xtOrigSrc, xtOrigDst, xtReplSrc, xtReplDst, xtStatus = 1, 2, 4, 8, 16, 32, 64
	xtDirection                                                            = 1 << 12
)

func xtConntrack(x xtInfo) ([]Op, bool) {
	if x.rev == 0 || !x.has(152) || x.rev > 1 && !x.has(154) {
		return nil, false
	}
	flags, inv := x.u16(146), x.u16(148)
	states, status := uint32(x.b[150]), uint32(x.b[151])
	if x.rev > 1 {
		states, status = uint32(x.u16(150)), uint32(x.u16(152))
	}
	known := uint16(xtState | xtProto | xtOrigSrc | xtOrigDst | xtReplSrc | xtReplDst | xtStatus | xtDirection | 1<<13)
	var ops []Op
	if flags&xtState != 0 {
		ops = append(ops, ctStates(states, inv&xtState != 0))
	}
	if flags&xtStatus != 0 {
		ops = append(ops, whenBits(tracked(ctStatus), status, inv&xtStatus != 0))
	}
	if flags&xtProto != 0 {
		p := tracked(ctProto)
		ops = append(ops, when(p, equalOrNot(inv&xtProto != 0), []byte{byte(x.u16(136))}))
	}
	if flags&xtDirection != 0 {
		want := byte(0)
		if inv&xtDirection != 0 {
			want = 1
		}
		ops = append(ops, when(tracked(ctDirection), Equal, []byte{want}))
	}
	for i, bit := range []uint16{xtOrigSrc, xtOrigDst, xtReplSrc, xtReplDst} {
		if flags&bit == 0 {
			continue
		}
		part := tracked([]uint8{ctSrc, ctDst, ctSrc, ctDst}[i])
		part.Flags = uint8(i / 2)
		n := 4
		if x.six {
			n = 16
		}
		part.Len = uint8(n)
		addr, mask := x.b[i*32:i*32+n], x.b[i*32+16:i*32+16+n]
		part.Mask, part.Xor = mask, make([]byte, n)
		ops = append(ops, when(part, equalOrNot(inv&bit != 0), addr))
	}
	if flags&^known != 0 {
		ops = append(ops, opaque("a part of the match conntrack is not understood", false))
	}
	return ops, true
}

func xtMark(x xtInfo, part Part) ([]Op, bool) {
	if x.rev != 1 || !x.has(9) {
		return nil, false
	}
	return []Op{whenMark(part, x.u32(0), x.u32(4), x.b[8] != 0)}, true
}

// whenMember is whether the packet's fields are in a kernel IP set.
func whenMember(s *Set, sources []bool, six, not bool) Op {
	if s == nil {
		return opaque("a set was not read", false)
	}
	var parts []Part
	at := 0 // of the sources; the protocol belongs to its port
	for _, n := range s.kinds() {
		if n == 1 {
			parts = append(parts, meta(metaL4proto))
			continue
		}
		if at >= len(sources) {
			return opaque("the set "+s.Name+" has more fields than the rule", false)
		}
		if n == 2 {
			parts = append(parts, portPart(sources[at]))
		} else {
			parts = append(parts, addrPart(sources[at], six))
		}
		at++
	}
	c := &Cond{Op: InSet, Parts: parts, Set: s, Name: s.Name}
	if not {
		c.Op = NotInSet
	}
	return Op{Cond: c}
}

var xtTargets = map[string]func(xtInfo) ([]Op, bool){
	"REJECT": func(x xtInfo) ([]Op, bool) {
		if !x.has(4) {
			return nil, false
		}
		with, ok := xtRefusals[x.u32(0)]
		if x.six {
			with, ok = xt6Refusals[x.u32(0)]
		}
		return []Op{{Act: &Act{Doing: Reject, With: with}}}, ok
	},
	"DNAT":       func(x xtInfo) ([]Op, bool) { return xtNAT(x, DNAT) },
	"SNAT":       func(x xtInfo) ([]Op, bool) { return xtNAT(x, SNAT) },
	"MASQUERADE": func(x xtInfo) ([]Op, bool) { return xtNAT(x, Masquerade) },
	"REDIRECT":   func(x xtInfo) ([]Op, bool) { return xtNAT(x, Redirect) },
	"MARK": func(x xtInfo) ([]Op, bool) {
		if x.rev != 2 || !x.has(8) {
			return nil, false
		}
		return []Op{{Act: &Act{Doing: SetMark, Parts: constant(le32(x.u32(0))), Keep: ^x.u32(4)}}}, true
	},
	"CONNMARK": func(x xtInfo) ([]Op, bool) {
		if !x.has(13) {
			return nil, false
		}
		mode := x.b[12]
		if x.rev > 1 {
			if !x.has(15) || x.b[13] != 0 {
				return nil, false // marks are shifted
			}
			mode = x.b[14]
		}
		switch mode {
		case 0:
			return []Op{{Act: &Act{Doing: SetCTMark, Parts: constant(le32(x.u32(0))), Keep: ^x.u32(4)}}}, true
		case 1:
			return []Op{{Act: &Act{Doing: SaveMark}}}, x.u32(4) == ^uint32(0) && x.u32(8) == ^uint32(0)
		}
		return []Op{{Act: &Act{Doing: RestoreMark}}}, x.u32(4) == ^uint32(0) && x.u32(8) == ^uint32(0)
	},
	"CT": func(x xtInfo) ([]Op, bool) {
		if !x.has(2) {
			return nil, false
		}
		if x.u16(0)&1 != 0 {
			return []Op{act(NoTrack)}, true
		}
		return []Op{nothing("ct")}, true
	},
	"NFQUEUE": func(xtInfo) ([]Op, bool) { return []Op{act(Queue)}, true },
}

var xtRefusals = map[uint32]Refusal{
	0: ByNetUnreachable,
	1: ByHostUnreachable,
	2: ByProtoUnreachable,
	3: ByPortUnreachable,
	5: ByNetProhibited,
	6: ByHostProhibited,
	7: ByReset,
	8: ByAdminProhibited,
}

var xt6Refusals = map[uint32]Refusal{
	0: ByNetUnreachable,
	1: ByAdminProhibited,
	3: ByHostUnreachable,
	4: ByPortUnreachable,
	6: ByReset,
	7: ByPolicyFail,
	8: ByRejectRoute,
}

// xtNAT reads the two structures that translations have: an older one of
// IPv4, and the general one.
func xtNAT(x xtInfo, doing Doing) ([]Op, bool) {
	a := &Act{Doing: doing, Final: true}
	var flags uint32
	var low, high netip.Addr
	var ports [2][]byte
	switch {
	case !x.six && x.rev == 0 && x.has(20):
		flags = x.u32(4)
		low, _ = netip.AddrFromSlice(x.b[8:12])
		high, _ = netip.AddrFromSlice(x.b[12:16])
		ports = [2][]byte{x.b[16:18], x.b[18:20]}
	case x.has(40):
		flags = x.u32(0)
		low, high = x.addr(4), x.addr(20)
		ports = [2][]byte{x.b[36:38], x.b[38:40]}
	default:
		return nil, false
	}
	if flags&1 != 0 && (doing == DNAT || doing == SNAT) {
		a.Addr, a.AddrTo = constant(low.AsSlice()), constant(high.AsSlice())
	}
	if flags&2 != 0 {
		a.Port, a.PortTo = constant(ports[0]), constant(ports[1])
	}
	if flags&0x20 != 0 {
		a.Prefixed = true
	}
	return []Op{{Act: a}}, true
}
