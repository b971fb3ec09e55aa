package filter

import (
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// What a field of a packet is called in nft's words, and how its values are
// written (nft(8)). Rules read from JSON and from text share this.

// kind is the kind of a field's values.
type kind uint8

const (
	kindNumber kind = iota // big-endian, of the field's length
	kindHost               // a number in the host's byte order
	kindAddr4
	kindAddr6
	kindPort
	kindProto
	kindIfname
	kindIfindex
	kindBits // names of bits in the host's byte order
	kindFlags
	kindICMP4
	kindICMP6
	kindNames // names of numbers
)

// selector is a field: what it depends on, what is loaded, how its values
// are written.
type selector struct {
	needs  []Op
	part   Part
	kind   kind
	names  map[string]uint32
	opaque string
	state  bool
}

var headerFields = map[string]map[string]struct {
	base   Source
	offset int
	n      int
	kind   kind
}{
	"ip": {
		"saddr":    {FromNetwork, 12, 4, kindAddr4},
		"daddr":    {FromNetwork, 16, 4, kindAddr4},
		"protocol": {FromNetwork, 9, 1, kindProto},
		"ttl": {
			FromNetwork,
			8,
			1,
			kindNumber,
		},
		"length":   {FromNetwork, 2, 2, kindNumber},
		"id":       {FromNetwork, 4, 2, kindNumber},
		"frag-off": {FromNetwork, 6, 2, kindNumber},
	},
	"ip6": {
		"saddr":    {FromNetwork, 8, 16, kindAddr6},
		"daddr":    {FromNetwork, 24, 16, kindAddr6},
		"nexthdr":  {FromNetwork, 6, 1, kindProto},
		"hoplimit": {FromNetwork, 7, 1, kindNumber},
		"length":   {FromNetwork, 4, 2, kindNumber},
	},
	"tcp": {
		"sport": {FromTransport, 0, 2, kindPort},
		"dport": {FromTransport, 2, 2, kindPort},
		"flags": {FromTransport, 13, 1, kindFlags},
		"window": {
			FromTransport,
			14,
			2,
			kindNumber,
		},
		"sequence": {FromTransport, 4, 4, kindNumber},
		"ackseq":   {FromTransport, 8, 4, kindNumber},
	},
	"udp": {
		"sport":  {FromTransport, 0, 2, kindPort},
		"dport":  {FromTransport, 2, 2, kindPort},
		"length": {FromTransport, 4, 2, kindNumber},
	},
	"th":     {"sport": {FromTransport, 0, 2, kindPort}, "dport": {FromTransport, 2, 2, kindPort}},
	"sctp":   {"sport": {FromTransport, 0, 2, kindPort}, "dport": {FromTransport, 2, 2, kindPort}},
	"icmp":   {"type": {FromTransport, 0, 1, kindICMP4}, "code": {FromTransport, 1, 1, kindNumber}},
	"icmpv6": {"type": {FromTransport, 0, 1, kindICMP6}, "code": {FromTransport, 1, 1, kindNumber}},
}

// headerSelector is a field of a header, as "tcp dport".
func headerSelector(fam Family, proto, field string) selector {
	f, ok := headerFields[proto][field]
	if !ok {
		return selector{opaque: fmt.Sprintf("the field %s %s is not understood", proto, field)}
	}
	s := selector{part: Part{Source: f.base, Offset: uint16(f.offset), Len: uint8(f.n)}, kind: f.kind}
	switch proto {
	case "ip", "ip6":
		if fam == Inet {
			s.needs = []Op{whenFamily(proto == "ip6")}
		}
	case "th":
	default:
		number := protoNumbers[proto]
		s.needs = []Op{whenProto(uint8(number), false)}
	}
	return s
}

func metaSelector(key string) selector {
	for k, name := range metaNames {
		if name != key {
			continue
		}
		s := selector{part: meta(k), kind: kindHost}
		switch k {
		case metaIifname, metaOifname:
			s.kind = kindIfname
		case metaIif, metaOif:
			s.kind = kindIfindex
		case metaL4proto:
			s.kind = kindProto
		case metaNfproto:
			s.kind, s.names = kindNames, map[string]uint32{"ipv4": uint32(IPv4), "ipv6": uint32(IPv6)}
		case metaProtocol:
			s.kind, s.names = kindNames, map[string]uint32{"ip": 0x0800, "ip6": 0x86dd, "arp": 0x0806}
		case metaPkttype:
			s.kind, s.names = kindNames, map[string]uint32{
				"host":      0,
				"unicast":   0,
				"broadcast": 1,
				"multicast": 2,
				"other":     3,
			}
		case metaIiftype, metaOiftype:
			s.names = map[string]uint32{"ether": 1, "loopback": 772, "ppp": 512, "tunnel": 768, "tunnel6": 769}
		case metaTime, metaDay, metaHour, metaPrandom, metaCPU:
			return selector{opaque: "it depends on meta " + key, state: true}
		case metaUID, metaGID, metaMark, metaIifgroup, metaOifgroup, metaLen:
		default:
			return selector{opaque: "it depends on meta " + key}
		}
		return s
	}
	return selector{opaque: fmt.Sprintf("meta %q is not understood", key)}
}

func ctSelector(fam Family, key, dir string) selector {
	names := map[string]uint8{
		"state":     ctState,
		"status":    ctStatus,
		"direction": ctDirection,
		"mark":      ctMark,
		"l3proto":   ctL3,
		"protocol":  ctProto,
		"saddr":     ctSrc,
		"daddr":     ctDst,
		"proto-src": ctProtoSrc,
		"proto-dst": ctProtoDst,
		"ip saddr":  ctSrc4,
		"ip daddr":  ctDst4,
		"ip6 saddr": ctSrc6,
		"ip6 daddr": ctDst6,
	}
	k, ok := names[key]
	if !ok {
		return selector{opaque: "it depends on ct " + key}
	}
	s := selector{part: tracked(k), kind: kindHost}
	if n, ok := ctLens[k]; ok {
		s.part.Len = n
	}
	switch dir {
	case "original":
		s.part.Flags = 0
	case "reply":
		s.part.Flags = 1
	}
	switch k {
	case ctState:
		s.kind, s.names = kindBits, stateBits
	case ctStatus:
		s.kind, s.names = kindBits, statusBits
	case ctDirection:
		s.kind, s.names = kindNames, map[string]uint32{"original": 0, "reply": 1}
	case ctL3:
		s.kind, s.names = kindNames, map[string]uint32{"ipv4": uint32(IPv4), "ipv6": uint32(IPv6)}
	case ctProto:
		s.kind = kindProto
	case ctProtoSrc, ctProtoDst:
		s.kind = kindPort
	case ctSrc, ctDst, ctSrc4, ctDst4, ctSrc6, ctDst6:
		s.kind, s.part.Len = kindAddr4, 4
		if k == ctSrc6 || k == ctDst6 || fam == IPv6 {
			s.kind, s.part.Len = kindAddr6, 16
		}
	}
	return s
}

// fibSelector is what the routing tables say of an address.
func fibSelector(result string, flags []string) selector {
	bits := map[string]uint8{"saddr": fibSaddr, "daddr": fibDaddr, "mark": fibMark, "iif": fibIif, "oif": fibOut}
	s := selector{part: Part{Source: FromFib, Len: 4, Name: "fib"}, kind: kindNames}
	for _, f := range flags {
		if bits[f] == 0 {
			return selector{opaque: fmt.Sprintf("fib %q is not understood", f)}
		}
		s.part.Flags |= bits[f]
	}
	switch result {
	case "type":
		s.part.Key, s.names, s.kind = fibType, typeNumbers, kindHost
	case "oif":
		s.part.Key, s.kind = fibOif, kindIfindex
	case "oifname":
		s.part.Key, s.kind, s.part.Len = fibOifname, kindIfname, 16
	default:
		return selector{opaque: fmt.Sprintf("fib %q is not understood", result)}
	}
	return s
}

// value encodes a value as the field's bytes. A prefix or a range gives two.
func (s *selector) value(text string, links map[uint32]Link) (low, high []byte, err error) {
	bad := func(want string) ([]byte, []byte, error) {
		return nil, nil, fmt.Errorf("%q: expected %s", text, want)
	}
	switch s.kind {
	case kindAddr4, kindAddr6:
		return addrValue(text, s.kind == kindAddr6)
	case kindIfname:
		if n := len(text); n > 0 && text[n-1] == '*' {
			return []byte(text[:n-1]), nil, nil
		}
		if text == "" || len(text) > 15 {
			return bad("the name of a link")
		}
		return linkName(text), nil, nil
	case kindIfindex:
		for index, l := range links {
			if l.Name == text {
				return le32(index), nil, nil
			}
		}
		if text == "lo" {
			return le32(1), nil, nil
		}
		if n, err := strconv.ParseUint(text, 10, 32); err == nil {
			return le32(uint32(n)), nil, nil
		}
		return nil, nil, errUnknownLink
	}
	if from, to, ok := strings.Cut(text, "-"); ok && from != "" && s.names[text] == 0 && len(names(s)) == 0 ||
		ok && isNumber(from) {
		low, _, err := s.value(from, links)
		if err != nil {
			return nil, nil, err
		}
		high, _, err := s.value(to, links)
		return low, high, err
	}
	n, err := s.number(text)
	if err != nil {
		return nil, nil, err
	}
	if s.kind == kindHost || s.kind == kindBits || s.part.Source == FromFib {
		b := make([]byte, 8)
		binary.LittleEndian.PutUint64(b, uint64(n))
		return b[:max(1, min(8, int(s.part.Len)))], nil, nil
	}
	b := make([]byte, 8)
	binary.BigEndian.PutUint64(b, uint64(n))
	size := max(1, min(8, int(s.part.Len)))
	return b[8-size:], nil, nil
}

// errUnknownLink is a link that the host is not known to have.
var errUnknownLink = fmt.Errorf("the index of the link is not known")

func isNumber(s string) bool {
	_, err := strconv.ParseUint(s, 0, 32)
	return err == nil
}

// names is the names that the field's values may have.
func names(s *selector) map[string]uint32 {
	switch s.kind {
	case kindProto:
		return protoNumbers
	case kindPort:
		return services
	case kindICMP4:
		return icmp4Types
	case kindICMP6:
		return icmp6Types
	case kindFlags:
		return flagBits
	}
	return s.names
}

func (s *selector) number(text string) (uint32, error) {
	if n, ok := names(s)[strings.ToLower(text)]; ok {
		return n, nil
	}
	n, err := strconv.ParseUint(text, 0, 32)
	if err != nil {
		return 0, fmt.Errorf("%q: expected a number or a name of nft", text)
	}
	if size := min(4, max(1, int(s.part.Len))); size < 4 && n >= 1<<(8*size) {
		return 0, fmt.Errorf("%q: too large", text)
	}
	return uint32(n), nil
}

// addrValue reads an address, a prefix, or a range of addresses.
func addrValue(text string, six bool) (low, high []byte, err error) {
	want := "an IPv4 address"
	if six {
		want = "an IPv6 address"
	}
	bad := fmt.Errorf("%q: expected %s", text, want)
	if from, to, ok := strings.Cut(text, "-"); ok {
		a, err1 := netip.ParseAddr(from)
		b, err2 := netip.ParseAddr(to)
		if err1 != nil || err2 != nil || a.Is6() != six || b.Is6() != six {
			return nil, nil, bad
		}
		return a.AsSlice(), b.AsSlice(), nil
	}
	if strings.Contains(text, "/") {
		p, err := netip.ParsePrefix(text)
		if err != nil || p.Addr().Is6() != six {
			return nil, nil, bad
		}
		low, high := bounds(p)
		return low, high, nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil || a.Is6() != six || a.Zone() != "" {
		return nil, nil, bad
	}
	return a.AsSlice(), nil, nil
}

// bounds is the first and the last address of a prefix.
func bounds(p netip.Prefix) (low, high []byte) {
	low = p.Masked().Addr().AsSlice()
	high = slices.Clone(low)
	for i := p.Bits(); i < len(high)*8; i++ {
		high[i/8] |= 0x80 >> (i % 8)
	}
	return low, high
}

// compare is the condition that a field has a value, or lies in a range.
func (s *selector) compare(op Compare, low, high []byte) Op {
	switch {
	case s.opaque != "":
		return opaque(s.opaque, s.state)
	case high != nil && op == Equal:
		return Op{Cond: &Cond{Op: Within, Parts: []Part{s.part}, A: low, B: high}}
	case high != nil:
		return Op{Cond: &Cond{Op: NotWithin, Parts: []Part{s.part}, A: low, B: high}}
	}
	part := s.part
	if op != Equal && op != NotEqual && s.kind == kindHost && part.Swap == 0 && part.Len <= 8 {
		// Order is told from big-endian bytes.
		part.Swap = part.Len
		low = slices.Clone(low)
		reverse(low)
	}
	return when(part, op, low)
}
