package filter

import (
	"bytes"
	"encoding/binary"
	"math/big"
	"net/netip"
	"slices"
)

// interval is a range of one field's values, as bytes in the order of their
// size.
type interval struct{ low, high []byte }

func (i interval) holds(a netip.Addr) bool {
	b := a.AsSlice()
	return bytes.Compare(i.low, b) <= 0 && bytes.Compare(b, i.high) <= 0
}

func (i interval) lowAddr(six bool) netip.Addr {
	a, _ := netip.AddrFromSlice(i.low)
	if (a.IsUnspecified() || a.IsMulticast()) && !bytes.Equal(i.low, i.high) {
		return a.Next() // not an address that packets come from
	}
	return a
}

func (i interval) lowPort() uint16  { return binary.BigEndian.Uint16(i.low) }
func (i interval) highPort() uint16 { return binary.BigEndian.Uint16(i.high) }

// finish joins the ranges of sources that meet, and counts them. It reports
// false if there are none.
func (o *Opening) finish(asked Packet, six bool) bool {
	if len(o.spans) == 0 {
		return false
	}
	joined := o.spans[:1]
	for _, s := range o.spans[1:] {
		if last := &joined[len(joined)-1]; bytes.Equal(after(last.high), s.low) {
			last.high = s.high
			continue
		}
		joined = append(joined, s)
	}
	for _, s := range joined {
		low, high := new(big.Int).SetBytes(s.low), new(big.Int).SetBytes(s.high)
		o.Count.Add(o.Count, high.Sub(high, low)).Add(o.Count, big.NewInt(1))
		o.From = append(o.From, prefixes(s)...)
		if s.holds(asked.From) && !bytes.Equal(s.low, s.high) && o.To == asked.To && o.Proto == asked.Proto &&
			o.Ports.Low <= asked.ToPort &&
			asked.ToPort <= o.Ports.High {
			o.Asked = asked.From
		}
	}
	return true
}

// prefixes is a range as the fewest nets.
func prefixes(r interval) []netip.Prefix {
	var list []netip.Prefix
	low, _ := netip.AddrFromSlice(r.low)
	for {
		bits := low.BitLen()
		for bits > 0 {
			wider := netip.PrefixFrom(low, bits-1).Masked()
			_, end := bounds(wider)
			if wider.Addr() != low || bytes.Compare(end, r.high) > 0 {
				break
			}
			bits--
		}
		p := netip.PrefixFrom(low, bits)
		list = append(list, p)
		_, end := bounds(p)
		if bytes.Compare(end, r.high) >= 0 || len(list) > 64 {
			return list
		}
		last, _ := netip.AddrFromSlice(end)
		low = last.Next()
	}
}

// cuts is the places at which any rule makes a difference: of the source
// address, and of the destination port.
type cuts struct {
	at [2][][]byte // each is the beginning of a piece
	n  [2]int      // lengths of the fields
}

func newCuts(six bool) *cuts {
	c := &cuts{n: [2]int{4, 2}}
	if six {
		c.n[0] = 16
	}
	return c
}

// field is which of the two fields a part loads; -1: neither.
func (c *cuts) field(p *Part) int {
	switch {
	case p.Source == FromNetwork && (p.Offset == 12 && c.n[0] == 4 || p.Offset == 8 && c.n[0] == 16) &&
		int(p.Len) <= c.n[0]:
		return 0
	case p.Source == FromTransport && p.Offset == 2 && p.Len == 2:
		return 1
	}
	return -1
}

func (c *cuts) rule(r *Rule) {
	for i := range r.Body {
		if cond := r.Body[i].Cond; cond != nil {
			c.cond(cond)
		}
		if a := r.Body[i].Act; a != nil && a.Doing == VerdictMap && a.Set != nil {
			c.set(a.Set, a.Parts)
		}
	}
}

func (c *cuts) cond(cond *Cond) {
	for _, each := range cond.Conds {
		c.cond(each)
	}
	if len(cond.Parts) == 0 {
		return
	}
	if cond.Set != nil {
		c.set(cond.Set, cond.Parts)
		return
	}
	f := c.field(&cond.Parts[0])
	if f < 0 {
		return
	}
	low, high := span1(cond, c.n[f])
	c.add(f, low, high)
}

// span1 is the range of a field's values that a plain condition names.
func span1(cond *Cond, n int) (low, high []byte) {
	low, high = make([]byte, n), bytes.Repeat([]byte{0xff}, n)
	p := &cond.Parts[0]
	switch cond.Op {
	case Within, NotWithin:
		copy(low, cond.A)
		copy(high, cond.B)
	case Equal, NotEqual:
		copy(low, cond.A)
		copy(high, cond.A)
		for i := len(cond.A); i < n; i++ {
			high[i] = 0xff
		}
		for i := range p.Mask {
			high[i] |= ^p.Mask[i]
		}
	case Less, GreaterEqual:
		copy(high, cond.A)
		high = before(high)
	case LessEqual, Greater:
		copy(high, cond.A)
	}
	return low, high
}

func (c *cuts) set(s *Set, parts []Part) {
	at := 0
	for i := range parts {
		n := int(parts[i].Len)
		if f := c.field(&parts[i]); f >= 0 {
			for j := range s.Elems {
				e := &s.Elems[j]
				end := e.End
				if end == nil {
					end = e.Key
				}
				if at+n <= len(e.Key) && at+n <= len(end) {
					c.add(f, e.Key[at:at+n], end[at:at+n])
				}
			}
		}
		at += (n + 3) &^ 3
	}
}

func (c *cuts) add(f int, low, high []byte) {
	if len(low) != c.n[f] || len(high) != c.n[f] {
		return
	}
	c.at[f] = append(c.at[f], low)
	if next := after(high); next != nil {
		c.at[f] = append(c.at[f], next)
	}
}

// after is the value behind one; nil behind the last.
func after(b []byte) []byte {
	out := slices.Clone(b)
	for i := len(out) - 1; i >= 0; i-- {
		if out[i]++; out[i] != 0 {
			return out
		}
	}
	return nil
}

// pieces cuts a range of a field where rules make a difference.
func (c *cuts) pieces(f int, whole interval) []interval {
	points := slices.Clone(c.at[f])
	slices.SortFunc(points, bytes.Compare)
	points = slices.CompactFunc(points, bytes.Equal)
	var list []interval
	low := whole.low
	for _, p := range points {
		if bytes.Compare(p, low) <= 0 || bytes.Compare(p, whole.high) > 0 {
			continue
		}
		list = append(list, interval{low, before(p)})
		low = p
	}
	return append(list, interval{low, whole.high})
}

// region is the packets that a rule may meet.
type region struct {
	proto    uint8
	from, to interval
	port     interval
}

// regionOf is the packets that a rule may meet, as boxes: what it does not
// name is not bounded.
func regionOf(r *Rule, six bool, asked Packet) []region {
	n := 4
	if six {
		n = 16
	}
	all := func(n int) interval { return interval{make([]byte, n), bytes.Repeat([]byte{0xff}, n)} }
	g := region{from: all(n), to: all(n), port: all(2)}
	protos := []uint8{TCP, UDP, ICMP}
	if six {
		protos[2] = ICMPv6
	}
	for i := range r.Body {
		c := r.Body[i].Cond
		if c == nil || len(c.Parts) != 1 || c.Op != Equal && c.Op != Within {
			continue
		}
		p := &c.Parts[0]
		switch {
		case p.Source == FromMeta && p.Key == metaL4proto && len(c.A) == 1:
			protos = []uint8{c.A[0]}
		case p.Source == FromMeta && p.Key == metaNfproto && c.A[0] == byte(IPv6) != six:
			return nil
		case p.Source == FromNetwork && isAddr(p) && (p.Offset == 12 || p.Offset == 16) == six && p.Offset != 8 &&
			p.Offset != 24:
			return nil // the other family
		case p.Source == FromNetwork && (p.Offset == 12 && !six || p.Offset == 8 && six):
			g.from.low, g.from.high = span1(c, n)
		case p.Source == FromNetwork && (p.Offset == 16 && !six || p.Offset == 24 && six):
			g.to.low, g.to.high = span1(c, n)
		case p.Source == FromTransport && p.Offset == 2 && p.Len == 2:
			g.port.low, g.port.high = span1(c, 2)
		}
	}
	var list []region
	for _, proto := range protos {
		each := g
		each.proto = proto
		if proto == ICMP || proto == ICMPv6 {
			each.port = interval{[]byte{0, 0}, []byte{0, 0}}
		}
		list = append(list, each)
	}
	return list
}
