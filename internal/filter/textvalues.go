package filter

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
)

// value writes what a field is compared with. It reports whether that is bits
// of which any may be set.
func (w *writer) value(c *Cond, p *Part) (string, bool) {
	if p.Mask != nil && bytes.Equal(c.A, make([]byte, len(c.A))) && (p.Source == FromCT || p.Source == FromTransport) {
		return w.one(p, p.Mask), true
	}
	text := w.one(p, c.A)
	switch {
	case (c.Op == Within || c.Op == NotWithin) && p.Source == FromNetwork && !w.xt:
		return w.ranged(p, c.A, c.B), false
	case c.Op == Within || c.Op == NotWithin:
		return text + "-" + w.one(p, c.B), false
	case p.Source == FromNetwork && isAddr(p):
		return w.prefix(p, c.A), false
	case p.Mask != nil:
		return "& " + w.one(p, p.Mask) + " == " + text, false
	}
	return text, false
}

func isAddr(p *Part) bool {
	return p.Offset == 12 || p.Offset == 16 || p.Offset == 24 || p.Offset == 8 && p.Len > 1
}

// prefix writes an address of which only some bits are compared.
func (w *writer) prefix(p *Part, value []byte) string {
	size := 4
	if p.Offset == 24 || p.Offset == 8 || w.six() && p.Offset != 12 && p.Offset != 16 {
		size = 16
	}
	full := make([]byte, size)
	copy(full, value)
	addr, _ := netip.AddrFromSlice(full)
	bits := int(p.Len) * 8
	if p.Mask != nil {
		bits = 0
		for bits < len(p.Mask)*8 && p.Mask[bits/8]&(0x80>>(bits%8)) != 0 {
			bits++
		}
	}
	if bits == size*8 {
		return addr.String()
	}
	return fmt.Sprintf("%s/%d", addr, bits)
}

// one writes one value of a field.
func (w *writer) one(p *Part, b []byte) string {
	switch p.Source {
	case FromNetwork:
		if isAddr(p) {
			if addr, ok := netip.AddrFromSlice(b); ok {
				return addr.String()
			}
			return w.prefix(p, b)
		}
		if len(b) == 1 && (p.Offset == 9 || p.Offset == 6) {
			return protoName(b[0])
		}
	case FromTransport:
		if p.Offset == 13 {
			return bitNames(flagBits, uint32(b[0]))
		}
		if p.Offset == 0 && len(b) == 1 {
			return icmpName(w.proto() == "icmpv6", b[0])
		}
	case FromMeta:
		return metaValue(p.Key, b)
	case FromCT:
		switch {
		case p.Key == ctState && len(b) == 4:
			return bitNames(stateBits, binary.LittleEndian.Uint32(b))
		case p.Key == ctStatus && len(b) == 4:
			return bitNames(statusBits, binary.LittleEndian.Uint32(b))
		case p.Key == ctDirection:
			return map[byte]string{0: "original", 1: "reply"}[b[0]]
		case p.Key == ctMark && len(b) == 4:
			return fmt.Sprintf("%#x", binary.LittleEndian.Uint32(b))
		case len(b) == 4 || len(b) == 16:
			if addr, ok := netip.AddrFromSlice(b); ok {
				return addr.String()
			}
		}
	case FromFib:
		if len(b) == 4 && p.Key == fibType {
			return nameOf(typeNumbers, binary.LittleEndian.Uint32(b))
		}
	}
	var n uint64
	for _, each := range b[:min(len(b), 8)] {
		n = n<<8 | uint64(each)
	}
	return strconv.FormatUint(n, 10)
}

func metaValue(key uint8, b []byte) string {
	switch {
	case key == metaIifname || key == metaOifname:
		name := strings.TrimRight(string(b), "\x00")
		if len(b) < 16 {
			name += "*"
		}
		return strconv.Quote(name)
	case key == metaL4proto && len(b) == 1:
		return protoName(b[0])
	case key == metaNfproto && len(b) == 1:
		return map[byte]string{byte(IPv4): "ipv4", byte(IPv6): "ipv6"}[b[0]]
	case key == metaMark && len(b) == 4:
		return fmt.Sprintf("0x%08x", binary.LittleEndian.Uint32(b))
	case key == metaProtocol && len(b) == 2:
		return map[uint16]string{0x800: "ip", 0x86dd: "ip6"}[binary.BigEndian.Uint16(b)]
	case len(b) == 4:
		return strconv.FormatUint(uint64(binary.LittleEndian.Uint32(b)), 10)
	}
	return fmt.Sprintf("%#x", b)
}

func bitNames(names map[string]uint32, bits uint32) string {
	var list []string
	for name, bit := range names {
		if bits&bit != 0 {
			list = append(list, name)
		}
	}
	slices.SortFunc(list, func(a, b string) int { return int(names[a]) - int(names[b]) })
	return strings.Join(list, ",")
}

func nameOf(names map[string]uint32, n uint32) string {
	best := ""
	for name, number := range names {
		if number == n && (best == "" || name < best) {
			best = name
		}
	}
	if best == "" {
		return strconv.FormatUint(uint64(n), 10)
	}
	return best
}

func icmpName(six bool, n uint8) string {
	if six {
		return map[uint8]string{128: "echo-request", 129: "echo-reply"}[n] +
			map[bool]string{true: strconv.Itoa(int(n))}[n != 128 && n != 129]
	}
	return nameOf(icmp4Types, uint32(n))
}

// mostShown is how many elements of a set are written out.
const mostShown = 8

func (w *writer) set(c *Cond) string {
	if c.Set == nil || c.Set.Name != "" && !strings.HasPrefix(c.Set.Name, "__") {
		if c.Name != "" {
			return "@" + c.Name
		}
		return "@" + c.Set.Name
	}
	return "{ " + strings.Join(w.elements(c.Set, c.Parts), ", ") + " }"
}

func (w *writer) elements(s *Set, parts []Part) []string {
	var list []string
	for i := range s.Elems {
		if i == mostShown {
			return append(list, fmt.Sprintf("… %d more", len(s.Elems)-i))
		}
		e := &s.Elems[i]
		var fields []string
		at := 0
		for j := range parts {
			n := len(e.Key)
			if s.Fields != nil && j < len(s.Fields) {
				n = s.Fields[j]
			} else if len(parts) > 1 {
				n = int(parts[j].Len)
			}
			if at+n > len(e.Key) || n == 0 {
				break
			}
			text := w.one(&parts[j], e.Key[at:at+n])
			if e.End != nil && at+n <= len(e.End) && !bytes.Equal(e.Key[at:at+n], e.End[at:at+n]) {
				text = w.ranged(&parts[j], e.Key[at:at+n], e.End[at:at+n])
			}
			fields = append(fields, text)
			at += (n + 3) &^ 3
		}
		text := strings.Join(fields, " . ")
		if e.Verdict != nil {
			sub := &writer{rule: w.rule}
			sub.act(e.Verdict)
			text += " : " + strings.Join(sub.words, " ")
		}
		list = append(list, text)
	}
	return list
}

// ranged writes a range, as a net where it is one.
func (w *writer) ranged(p *Part, low, high []byte) string {
	if p.Source == FromNetwork && isAddr(p) {
		for bits := range len(low) * 8 {
			addr, ok := netip.AddrFromSlice(low)
			if !ok {
				break
			}
			a, b := bounds(netip.PrefixFrom(addr, bits))
			if bytes.Equal(a, low) && bytes.Equal(b, high) {
				return netip.PrefixFrom(addr, bits).String()
			}
		}
	}
	return w.one(p, low) + "-" + w.one(p, high)
}
