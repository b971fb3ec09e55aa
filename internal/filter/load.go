package filter

import (
	"encoding/binary"
)

// reading is a value that a rule loads.
type reading struct {
	low, high [16]byte // the least and the greatest that it may be
	n         int
	exact     bool // they are equal
	ranged    bool // any value between them; else the bits in which they are equal are known
	broken    bool // it cannot be loaded: the rule does not match
	why       string
}

func (r *reading) bytes(b []byte) {
	r.n = copy(r.low[:], b)
	r.high, r.exact = r.low, true
}

func (r *reading) word(v uint32) {
	binary.LittleEndian.PutUint32(r.low[:], v)
	r.n, r.high, r.exact = 4, r.low, true
}

func (r *reading) unknown(n int, why string) {
	r.n, r.exact, r.ranged, r.why = n, false, false, why
	for i := range n {
		r.low[i], r.high[i] = 0, 0xff
	}
}

// load reads one part.
func (m *machine) load(p *Part, r *reading) {
	switch p.Source {
	case FromNetwork:
		m.network.load(p, r)
	case FromTransport:
		m.transport.load(p, r)
	case FromMeta:
		m.meta(p, r)
	case FromCT:
		m.ct(p, r)
	case FromFib:
		m.fib(p, r)
	case FromExtension:
		m.extension(p, r)
	case FromConst:
		r.bytes(p.Const)
	case FromMap:
		m.lookUp(p, r)
	case FromLink:
		r.unknown(int(p.Len), "the link header is not known")
	default:
		r.unknown(int(p.Len), p.Why)
	}
	if r.broken || p.Mask == nil && p.Swap == 0 && p.Shift == 0 {
		return
	}
	p.change(r)
}

func (h *header) load(p *Part, r *reading) {
	at, n := int(p.Offset), int(p.Len)
	switch {
	case at+n > 40 || n > 16:
		r.unknown(min(n, 16), "these bytes of the packet are not known")
		return
	case at+n > h.n:
		if h.n >= 20 || h.n == 0 {
			r.unknown(n, "these bytes of the packet are not known")
			return
		}
		r.broken = true
		return
	}
	r.n, r.exact = n, true
	for i := range n {
		known := h.known[at+i]
		r.low[i] = h.bytes[at+i] & known
		r.high[i] = r.low[i] | ^known
		if known != 0xff {
			r.exact = false
		}
	}
	if !r.exact {
		r.why = "these bytes of the packet are not known"
		if h.ranged == at && n == 2 {
			binary.BigEndian.PutUint16(r.low[:], h.ports.Low)
			binary.BigEndian.PutUint16(r.high[:], h.ports.High)
			r.ranged, r.why = true, "the port is not known"
		}
	}
}

// change applies the mask, the exchange of bytes and the shift of a part.
func (p *Part) change(r *reading) {
	if r.ranged {
		r.ranged = false
		for i := range r.n {
			r.low[i], r.high[i] = 0, 0xff
		}
	}
	for i := range min(r.n, len(p.Mask)) {
		known := ^(r.low[i] ^ r.high[i]) | ^p.Mask[i]
		v := r.low[i] & p.Mask[i]
		if i < len(p.Xor) {
			v ^= p.Xor[i]
		}
		r.low[i] = v & known
		r.high[i] = r.low[i] | ^known
	}
	if p.Swap > 1 {
		for at := 0; at+int(p.Swap) <= r.n; at += int(p.Swap) {
			reverse(r.low[at : at+int(p.Swap)])
			reverse(r.high[at : at+int(p.Swap)])
		}
	}
	if p.Shift != 0 && r.n == 4 {
		for _, b := range [][]byte{r.low[:4], r.high[:4]} {
			v := binary.LittleEndian.Uint32(b)
			if p.Shift > 0 {
				v >>= p.Shift
			} else {
				v <<= -p.Shift
			}
			binary.LittleEndian.PutUint32(b, v)
		}
	}
	r.exact = r.low == r.high
}

func reverse(b []byte) {
	for i, j := 0, len(b)-1; i < j; i, j = i+1, j-1 {
		b[i], b[j] = b[j], b[i]
	}
}

// Keys of meta (enum nft_meta_keys).
const (
	metaLen, metaProtocol, metaMark             = 0, 1, 3
	metaIif, metaOif, metaIifname, metaOifname  = 4, 5, 6, 7
	metaIiftype, metaOiftype, metaUID, metaGID  = 8, 9, 10, 11
	metaNfproto, metaL4proto, metaPkttype       = 15, 16, 19
	metaIifgroup, metaOifgroup                  = 21, 22
	metaSecpath, metaIifkind, metaOifkind       = 25, 26, 27
	metaTime, metaDay, metaHour, metaSdif       = 30, 31, 32, 33
	metaSdifname, metaPriority, metaPrandom     = 34, 2, 24
	metaCPU, metaCgroup, metaRtclass, metaTrace = 20, 23, 13, 12
)

func (m *machine) meta(p *Part, r *reading) {
	switch p.Key {
	case metaProtocol:
		if m.packet.Six() {
			r.bytes([]byte{0x86, 0xdd})
		} else {
			r.bytes([]byte{0x08, 0x00})
		}
	case metaMark:
		r.word(m.mark)
	case metaNfproto:
		if m.packet.Six() {
			r.bytes([]byte{byte(IPv6)})
		} else {
			r.bytes([]byte{byte(IPv4)})
		}
	case metaL4proto:
		r.bytes([]byte{m.packet.Proto})
	case metaPkttype:
		r.bytes([]byte{0})
	case metaIif, metaIifname, metaIiftype, metaIifgroup, metaIifkind:
		m.link(p, m.in, r)
	case metaOif, metaOifname, metaOiftype, metaOifgroup, metaOifkind:
		m.link(p, m.out, r)
	case metaUID, metaGID:
		if m.hook != Output && m.hook != Postrouting || m.hook == Postrouting && !m.in.none {
			r.broken = true // a packet that comes in belongs to no socket yet
			return
		}
		r.unknown(4, "whose socket it is, is not known")
	case metaSecpath:
		r.bytes([]byte{0})
	case metaLen:
		r.unknown(4, "the packet's length is not known")
		if !m.later {
			// A first packet is small, and never as short as its headers.
			binary.LittleEndian.PutUint32(r.low[:], 0)
			r.why = "the packet's length is not known"
		}
	default:
		r.unknown(max(4, int(p.Len)), "it depends on "+p.Name)
	}
}

func (m *machine) link(p *Part, at port, r *reading) {
	name := [16]byte{}
	switch {
	case at.none:
		switch p.Key {
		case metaIifname, metaOifname, metaIifkind, metaOifkind:
			r.bytes(name[:])
		case metaIif, metaOif:
			r.word(0)
		default:
			r.broken = true
		}
		return
	case !at.known:
		r.unknown(16, "the link is not known")
		if p.Key != metaIifname && p.Key != metaOifname {
			r.n = 4
		}
		return
	}
	switch p.Key {
	case metaIifname, metaOifname:
		copy(name[:], at.name)
		r.bytes(name[:])
		return
	}
	index, link, ok := m.host.link(at.name)
	if !ok {
		r.unknown(4, "the index of "+at.name+" is not known")
		return
	}
	switch p.Key {
	case metaIif, metaOif:
		r.word(index)
	case metaIifgroup, metaOifgroup:
		r.word(link.Group)
	case metaIiftype, metaOiftype:
		r.bytes([]byte{byte(link.Type), byte(link.Type >> 8)})
	default:
		copy(name[:], link.Kind)
		r.bytes(name[:])
	}
}

// Keys of ct (enum nft_ct_keys).
const (
	ctState, ctDirection, ctStatus, ctMark             = 0, 1, 2, 3
	ctL3, ctSrc, ctDst, ctProto, ctProtoSrc            = 7, 8, 9, 10, 11
	ctProtoDst, ctZone, ctSrc4, ctDst4, ctSrc6, ctDst6 = 12, 17, 19, 20, 21, 22
)

func (m *machine) ct(p *Part, r *reading) {
	if p.Key == ctState {
		switch {
		case m.track != nil:
			r.word(m.track.state)
		case m.untracked:
			r.word(ctUntracked)
		default:
			r.word(ctInvalid)
		}
		return
	}
	if m.track == nil {
		r.broken = true
		return
	}
	tuple, dst := m.track.original, false
	if p.Flags == 1 {
		tuple = m.track.answer
	}
	switch p.Key {
	case ctDirection:
		r.bytes([]byte{map[bool]byte{true: 1}[m.track.reply]})
	case ctStatus:
		r.word(m.track.status)
		known := uint32(statusKnown)
		binary.LittleEndian.PutUint32(r.low[:], m.track.status&known)
		binary.LittleEndian.PutUint32(r.high[:], m.track.status&known|^known)
		r.exact, r.why = false, "the connection's status is not known"
	case ctMark:
		r.word(m.ctMark)
	case ctL3:
		r.bytes([]byte{map[bool]byte{true: byte(IPv6), false: byte(IPv4)}[tuple.Six()]})
	case ctProto:
		r.bytes([]byte{tuple.Proto})
	case ctDst, ctDst4, ctDst6:
		dst = true
		fallthrough
	case ctSrc, ctSrc4, ctSrc6:
		addr := tuple.From
		if dst {
			addr = tuple.To
		}
		switch {
		case tuple.AnySource && !dst:
			r.unknown(int(max(p.Len, 4)), "the source address is not known")
		case (p.Key == ctSrc4 || p.Key == ctDst4) && tuple.Six(), (p.Key == ctSrc6 || p.Key == ctDst6) && !tuple.Six():
			r.broken = true
		default:
			r.bytes(addr.Unmap().AsSlice())
		}
	case ctProtoSrc:
		tuple.portAt(tuple.FromPort, r)
	case ctProtoDst:
		tuple.portAt(tuple.ToPort, r)
	case ctZone:
		r.bytes([]byte{0, 0})
	default:
		r.unknown(max(4, int(p.Len)), "it depends on "+p.Name)
	}
}

func (p Packet) portAt(port uint16, r *reading) {
	r.n, r.exact = 2, port != 0
	low, high := port, port
	if port == 0 {
		ports := p.Ports
		if ports == (Range{}) {
			ports = Ephemeral
		}
		low, high, r.ranged, r.why = ports.Low, ports.High, true, "the port is not known"
	}
	binary.BigEndian.PutUint16(r.low[:], low)
	binary.BigEndian.PutUint16(r.high[:], high)
}

// Results and flags of fib (enum nft_fib_result, enum nft_fib_flags).
const (
	fibOif, fibOifname, fibType                           = 1, 2, 3
	fibSaddr, fibDaddr, fibMark, fibIif, fibOut, fibThere = 1, 2, 4, 8, 16, 32
)

func (m *machine) fib(p *Part, r *reading) {
	addr := m.packet.To
	if p.Flags&fibSaddr != 0 {
		addr = m.packet.From
		if m.packet.AnySource {
			r.unknown(4, "the source address is not known")
			return
		}
	}
	if p.Key == fibType {
		kind, known := m.host.kindOf(addr)
		if p.Flags&(fibIif|fibOut) != 0 && kind == kindLocal {
			known = known && m.host.oneLink() // the address may be on another link
		}
		if !known {
			r.unknown(4, "which addresses are the host's own is not known")
			return
		}
		r.word(kind)
		return
	}
	dev, known := m.host.outLink(addr)
	if p.Flags&fibIif != 0 && known && m.in.known && dev != m.in.name {
		dev = "" // the route leads out by another link
	} else if p.Flags&fibIif != 0 && !m.in.known {
		known = false
	}
	switch {
	case !known:
		r.unknown(4, "the routes are not known")
	case p.Flags&fibThere != 0:
		r.word(map[bool]uint32{true: 1}[dev != ""])
	case p.Key == fibOifname:
		name := [16]byte{}
		copy(name[:], dev)
		r.bytes(name[:])
	default:
		index, _, ok := m.host.link(dev)
		if !ok && dev != "" {
			r.unknown(4, "the index of "+dev+" is not known")
			return
		}
		r.word(index)
	}
}

// Kinds of extension headers (enum nft_exthdr_op).
const extIPv6, extTCP, extIPv4 = 0, 1, 2

func (m *machine) extension(p *Part, r *reading) {
	absent := p.Key == extIPv6 || p.Key == extIPv4
	switch {
	case absent && p.Flags&1 != 0:
		r.bytes([]byte{0})
	case absent:
		r.broken = true
	case m.packet.Proto != TCP:
		r.broken = true
	default:
		r.unknown(int(max(p.Len, 1)), "the options of TCP are not known")
	}
}

// lookUp loads a map's value for a key.
func (m *machine) lookUp(p *Part, r *reading) {
	if p.Map == nil {
		r.unknown(int(p.Len), "the map "+p.Name+" was not read")
		return
	}
	may, certain, why := m.elements(p.Map, p.From)
	switch {
	case why == broken:
		r.broken = true
	case why != "":
		r.unknown(int(p.Len), why)
	case len(may) == 0:
		r.broken = true
	case len(may) == 1 && certain:
		r.bytes(may[0].Data)
	default:
		r.unknown(int(p.Len), "which element of "+p.Map.Name+" it gets is not known")
	}
}

// broken is the reason of a rule that does not match since a value cannot be
// loaded.
const broken = "\x00broken"
