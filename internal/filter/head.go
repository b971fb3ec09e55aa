package filter

import "encoding/binary"

// head is up to two plain comparisons of a rule, side by side in memory for
// the whole chain: most rules are ruled out by them alone.
type head struct {
	want, mask [2]uint64
	at         [2]uint8 // places in the machine's flat bytes
	not        [2]bool
	n          uint8
}

// Places in a machine's flat bytes.
const (
	flatNetwork   = 0
	flatTransport = 48
	flatProto     = 96
	flatFamily    = 97
	flatSize      = 112
)

// heads is the comparisons of a chain's rules.
func heads(rules []*Rule) []head {
	list := make([]head, len(rules))
	for i, r := range rules {
		list[i] = headOf(r)
	}
	return list
}

// headOf picks the comparisons that tell most: addresses and ports before
// protocols and families. All conditions ahead of the first act must hold.
func headOf(r *Rule) head {
	var h head
	for _, wanted := range []Source{FromNetwork, FromTransport, FromMeta} {
		for i := range r.Body {
			c := r.Body[i].Cond
			if c == nil {
				if r.Body[i].Act.Doing == Nothing {
					continue
				}
				break
			}
			if h.n < 2 && len(c.Parts) == 1 && c.Parts[0].Source == wanted {
				h.take(c)
			}
		}
	}
	return h
}

func (h *head) take(c *Cond) {
	p := &c.Parts[0]
	n := min(int(p.Len), len(c.A))
	if c.Op != Equal && (c.Op != NotEqual || n > 8) || p.Swap != 0 || p.Shift != 0 || n == 0 ||
		len(c.A) != int(p.Len) {
		return
	}
	at := int(p.Offset)
	switch {
	case p.Source == FromNetwork && at+n <= 40:
	case p.Source == FromTransport && at+n <= 40:
		at += flatTransport
	case p.Source == FromMeta && p.Key == metaL4proto:
		at = flatProto
	case p.Source == FromMeta && p.Key == metaNfproto:
		at = flatFamily
	default:
		return
	}
	for i, b := range p.Xor {
		if b != 0 && i < 8 {
			return
		}
	}
	var want, mask [8]byte
	for i := range min(n, 8) { // of longer values, the beginning is enough to rule out
		mask[i] = 0xff
		if i < len(p.Mask) {
			mask[i] = p.Mask[i]
		}
		want[i] = c.A[i]
	}
	if p.Mask != nil {
		for i := range want {
			if want[i]&^mask[i] != 0 {
				return
			}
		}
	}
	h.want[h.n], h.mask[h.n] = binary.LittleEndian.Uint64(want[:]), binary.LittleEndian.Uint64(mask[:])
	h.at[h.n], h.not[h.n] = uint8(at), c.Op == NotEqual
	h.n++
}

// flatten lays the packet's bytes out for heads.
func (m *machine) flatten() {
	copy(m.flat[flatNetwork:], m.network.bytes[:])
	copy(m.flat[flatTransport:], m.transport.bytes[:])
	copy(m.sure[flatNetwork:], m.network.known[:])
	copy(m.sure[flatTransport:], m.transport.known[:])
	m.flat[flatProto], m.sure[flatProto] = m.packet.Proto, 0xff
	m.flat[flatFamily], m.sure[flatFamily] = byte(IPv4), 0xff
	if m.packet.Six() {
		m.flat[flatFamily] = byte(IPv6)
	}
}

// rulesOut reports whether a rule's head shows that it does not match.
func (m *machine) rulesOut(h *head) bool {
	for i := range h.n {
		at, mask := h.at[i], h.mask[i]
		if binary.LittleEndian.Uint64(m.sure[at:])&mask != mask {
			continue
		}
		if (binary.LittleEndian.Uint64(m.flat[at:])&mask == h.want[i]) == h.not[i] {
			return true
		}
	}
	return false
}
