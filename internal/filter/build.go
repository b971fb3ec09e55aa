package filter

import (
	"encoding/binary"
	"net/netip"
)

// Conditions as the readers build them.

func network(offset, n int) Part {
	return Part{Source: FromNetwork, Offset: uint16(offset), Len: uint8(n)}
}
func transport(offset, n int) Part {
	return Part{Source: FromTransport, Offset: uint16(offset), Len: uint8(n)}
}

func meta(key uint8) Part {
	return Part{Source: FromMeta, Key: key, Len: metaLens[key], Name: "meta " + metaNames[key]}
}

func tracked(key uint8) Part {
	return Part{Source: FromCT, Key: key, Len: 4, Flags: 255, Name: "ct " + ctNames[key]}
}

func constant(b []byte) []Part {
	return []Part{{Source: FromConst, Const: b, Len: uint8(len(b))}}
}

func when(part Part, op Compare, value []byte) Op {
	return Op{Cond: &Cond{Op: op, Parts: []Part{part}, A: value}}
}

func equalOrNot(not bool) Compare {
	if not {
		return NotEqual
	}
	return Equal
}

// opaque is a condition that cannot be decided.
func opaque(why string, state bool) Op {
	return Op{Cond: &Cond{Op: Opaque, Why: why, State: state}}
}

func act(d Doing) Op { return Op{Act: &Act{Doing: d}} }

func nothing(text string) Op { return Op{Act: &Act{Doing: Nothing, Text: text}} }

func puzzle(why string) Op { return Op{Act: &Act{Doing: Puzzle, Why: why}} }

// whenAddr compares an address with a prefix. The family is the prefix's; in
// tables of both families the caller adds the condition on it.
func whenAddr(source bool, p netip.Prefix, not bool) Op {
	addr := p.Masked().Addr().AsSlice()
	part := addrPart(source, len(addr) == 16)
	if p.Bits() < len(addr)*8 {
		part.Mask = maskOf(p.Bits(), len(addr))
		part.Xor = make([]byte, len(addr))
	}
	return when(part, equalOrNot(not), addr)
}

func addrPart(source, six bool) Part {
	switch {
	case six && source:
		return network(8, 16)
	case six:
		return network(24, 16)
	case source:
		return network(12, 4)
	}
	return network(16, 4)
}

func maskOf(bits, n int) []byte {
	mask := make([]byte, n)
	for i := range bits {
		mask[i/8] |= 0x80 >> (i % 8)
	}
	return mask
}

func whenAddrs(source bool, low, high netip.Addr, not bool) Op {
	op := Within
	if not {
		op = NotWithin
	}
	return Op{Cond: &Cond{Op: op, Parts: []Part{addrPart(source, low.Is6())}, A: low.AsSlice(), B: high.AsSlice()}}
}

func whenProto(proto uint8, not bool) Op {
	return when(meta(metaL4proto), equalOrNot(not), []byte{proto})
}

func portPart(source bool) Part {
	if source {
		return transport(0, 2)
	}
	return transport(2, 2)
}

func be16(v uint16) []byte { return binary.BigEndian.AppendUint16(nil, v) }

func le32(v uint32) []byte { return binary.LittleEndian.AppendUint32(nil, v) }

func whenPort(source bool, low, high uint16, not bool) Op {
	if low == high {
		return when(portPart(source), equalOrNot(not), be16(low))
	}
	op := Within
	if not {
		op = NotWithin
	}
	return Op{Cond: &Cond{Op: op, Parts: []Part{portPart(source)}, A: be16(low), B: be16(high)}}
}

// whenPorts compares a port with a list of ranges.
func whenPorts(source bool, list []Range, not bool) *Cond {
	s := &Set{KeyLen: 2, Interval: true}
	for _, r := range list {
		s.Elems = append(s.Elems, Elem{Key: be16(r.Low), End: be16(r.High)})
	}
	s.index()
	c := &Cond{Op: InSet, Parts: []Part{portPart(source)}, Set: s}
	if not {
		c.Op = NotInSet
	}
	return c
}

// whenLink compares a link's name; a name that ends in "+" stands for all
// that begin so.
func whenLink(in bool, name string, not bool) Op {
	key := uint8(metaOifname)
	if in {
		key = metaIifname
	}
	if n := len(name); n > 0 && name[n-1] == '+' {
		return when(meta(key), equalOrNot(not), []byte(name[:n-1]))
	}
	return when(meta(key), equalOrNot(not), linkName(name))
}

func linkName(name string) []byte {
	b := make([]byte, 16)
	copy(b, name)
	return b
}

// whenBits is whether any of some bits is set in a word.
func whenBits(part Part, bits uint32, not bool) Op {
	part.Mask, part.Xor = le32(bits), le32(0)
	op := NotEqual
	if not {
		op = Equal
	}
	return when(part, op, le32(0))
}

// whenMark compares some bits of a mark.
func whenMark(part Part, value, mask uint32, not bool) Op {
	if mask != ^uint32(0) {
		part.Mask, part.Xor = le32(mask), le32(0)
	}
	return when(part, equalOrNot(not), le32(value))
}

func whenType(addr uint8, kinds uint32, not bool, limit uint8) Op {
	var each []*Cond
	for kind := range uint32(12) {
		if kinds&(1<<kind) != 0 {
			op := when(Part{Source: FromFib, Key: fibType, Flags: addr | limit, Len: 4, Name: "fib"}, Equal,
				le32(kind))
			each = append(each, op.Cond)
		}
	}
	c := &Cond{Op: AnyOf, Conds: each}
	if not {
		c.Op = NoneOf
	}
	return Op{Cond: c}
}

// whenXTType is iptables' addrtype. For IPv6 the kernel tells unicast from
// multicast by the address alone, and asks the routing tables only whether it
// is local (match_type6 in net/netfilter/xt_addrtype.c).
func whenXTType(addr uint8, kinds uint32, not bool, limit uint8) Op {
	const multicast, byTable = 1 << kindMulticast, 1<<kindLocal | 1<<4 | 1<<7
	six := []*Cond{whenFamily(true).Cond}
	if kinds&multicast != 0 {
		six = append(six, whenType(addr, multicast, false, limit).Cond)
	}
	if kinds&(1<<kindUnicast) != 0 {
		six = append(six, whenType(addr, multicast, true, limit).Cond)
	}
	if kinds&byTable != 0 {
		six = append(six, whenType(addr, kinds&byTable, false, limit).Cond)
	}
	four := []*Cond{whenFamily(false).Cond, whenType(addr, kinds, false, limit).Cond}
	c := &Cond{Op: AnyOf, Conds: []*Cond{{Op: AllOf, Conds: four}, {Op: AllOf, Conds: six}}}
	if not {
		c.Op = NoneOf
	}
	return Op{Cond: c}
}

// whenFlags compares some flags of TCP.
func whenFlags(mask, want uint8, not bool) Op {
	part := transport(13, 1)
	part.Mask, part.Xor = []byte{mask}, []byte{0}
	return when(part, equalOrNot(not), []byte{want})
}

// whenFamily is the condition that the packet is of a family.
func whenFamily(six bool) Op {
	family := IPv4
	if six {
		family = IPv6
	}
	return when(meta(metaNfproto), Equal, []byte{byte(family)})
}

// metaNames are nft's names of the keys of meta.
var metaNames = map[uint8]string{
	metaLen:      "length",
	metaProtocol: "protocol",
	metaPriority: "priority",
	metaMark:     "mark",
	metaIif:      "iif",
	metaOif:      "oif",
	metaIifname:  "iifname",
	metaOifname:  "oifname",
	metaIiftype:  "iiftype",
	metaOiftype:  "oiftype",
	metaUID:      "skuid",
	metaGID:      "skgid",
	metaTrace:    "nftrace",
	metaRtclass:  "rtclassid",
	metaNfproto:  "nfproto",
	metaL4proto:  "l4proto",
	metaPkttype:  "pkttype",
	metaCPU:      "cpu",
	metaIifgroup: "iifgroup",
	metaOifgroup: "oifgroup",
	metaCgroup:   "cgroup",
	metaPrandom:  "random",
	metaSecpath:  "ipsec",
	metaIifkind:  "iifkind",
	metaOifkind:  "oifkind",
	metaTime:     "time",
	metaDay:      "day",
	metaHour:     "hour",
	metaSdif:     "sdif",
	metaSdifname: "sdifname",
}

// metaLens are the lengths that keys of meta load; 4 for those not named.
var metaLens = map[uint8]uint8{
	metaProtocol: 2,
	metaIifname:  16,
	metaOifname:  16,
	metaIiftype:  2,
	metaOiftype:  2,
	metaNfproto:  1,
	metaL4proto:  1,
	metaPkttype:  1,
	metaIifkind:  16,
	metaOifkind:  16,
	metaSdifname: 16,
	metaSecpath:  1,
	metaTime:     8,
	metaDay:      1,
	metaHour:     4,
	metaLen:      4,
	metaPriority: 4,
	metaMark:     4,
	metaIif:      4,
	metaOif:      4,
	metaUID:      4,
	metaGID:      4,
	metaTrace:    1,
	metaRtclass:  4,
	metaCPU:      4,
	metaIifgroup: 4,
	metaOifgroup: 4,
	metaCgroup:   4,
	metaPrandom:  4,
	metaSdif:     4,
}

// ctNames are nft's names of the keys of ct.
var ctNames = map[uint8]string{
	ctState:     "state",
	ctDirection: "direction",
	ctStatus:    "status",
	ctMark:      "mark",
	4:           "secmark",
	5:           "expiration",
	6:           "helper",
	ctL3:        "l3proto",
	ctSrc:       "saddr",
	ctDst:       "daddr",
	ctProto:     "protocol",
	ctProtoSrc:  "proto-src",
	ctProtoDst:  "proto-dst",
	13:          "label",
	14:          "packets",
	15:          "bytes",
	16:          "avgpkt",
	ctZone:      "zone",
	18:          "event",
	ctSrc4:      "ip saddr",
	ctDst4:      "ip daddr",
	ctSrc6:      "ip6 saddr",
	ctDst6:      "ip6 daddr",
	23:          "id",
}

// ctLens are the lengths that keys of ct load; 4 for those not named.
var ctLens = map[uint8]uint8{
	ctDirection: 1,
	6:           16,
	ctL3:        1,
	ctProto:     1,
	ctProtoSrc:  2,
	ctProtoDst:  2,
	13:          16,
	14:          8,
	15:          8,
	16:          8,
	ctZone:      2,
	ctSrc6:      16,
	ctDst6:      16,
}
