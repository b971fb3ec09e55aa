package filter

import (
	"bytes"
	"net/netip"
)

// port is one of the two links of a packet at a hook.
type port struct {
	name  string
	known bool
	// none: the packet has no such link here; remote: the link is not known,
	// but it is not the loopback link.
	none, remote bool
}

// Bits of a connection's state (include/uapi/linux/netfilter/nf_conntrack_common.h).
const (
	ctInvalid     = 1
	ctEstablished = 2
	ctRelated     = 4
	ctNew         = 8
	ctUntracked   = 64
)

// Bits of a connection's status.
const (
	statusSeenReply = 2
	statusConfirmed = 8
	statusSNAT      = 0x10
	statusDNAT      = 0x20
	statusKnown     = 0x3e &^ 4 // those that are modelled: seen-reply, confirmed and both translations
)

// tracking is what the connection tracker says of a packet.
type tracking struct {
	state    uint32
	reply    bool // the packet goes in the reply's direction
	status   uint32
	original Packet // the connection's first packet, as it arrived
	answer   Packet // the reply that the tracker expects
}

// machine evaluates the rules of one hook for one packet.
type machine struct {
	packet    Packet
	network   header
	transport header
	hook      Hook
	in, out   port
	host      *Host
	track     *tracking // nil: before the tracker, or not tracked
	untracked bool
	later     bool // the packet is not the first of its kind
	mark      uint32
	ctMark    uint32

	flat, sure [flatSize]byte // the packet's bytes, and which of them are known
}

// elements is the elements of a set that a key may be in, and whether it is
// certain in one; why says what prevents an answer.
func (m *machine) elements(s *Set, parts []Part) (may []*Elem, certain bool, why string) {
	var low, high [64]byte
	at, exact, reason := 0, true, ""
	for i := range parts {
		var r reading
		m.load(&parts[i], &r)
		if r.broken {
			return nil, false, broken
		}
		if at+r.n > len(low) {
			return nil, false, "the key is too long"
		}
		copy(low[at:], r.low[:r.n])
		copy(high[at:], r.high[:r.n])
		if !r.exact {
			exact, reason = false, r.why
		}
		if len(parts) > 1 {
			at += (r.n + 3) &^ 3
		} else {
			at += r.n
		}
	}
	n := at
	if s.KeyLen > 0 && s.KeyLen < n {
		n = s.KeyLen
	}
	if s.Why != "" {
		return nil, false, s.Why
	}
	if exact {
		e := s.find(low[:n])
		if e == nil {
			return nil, false, ""
		}
		return []*Elem{e}, true, ""
	}
	may, certain = s.about(low[:n], high[:n])
	if len(may) == 0 {
		return nil, false, ""
	}
	if certain && len(may) == 1 {
		return may, true, ""
	}
	_ = reason
	return may, certain, ""
}

// member reports whether a key is in a set.
func (m *machine) member(c *Cond) (Tri, string) {
	if c.Set == nil {
		return Unknown, "the set " + c.Name + " was not read"
	}
	if len(c.Parts) == 1 && c.Set.Why == "" {
		// The usual case: one value that is known.
		var r reading
		m.load(&c.Parts[0], &r)
		if r.broken {
			return No, broken
		}
		if r.exact {
			n := r.n
			if c.Set.KeyLen > 0 && c.Set.KeyLen < n {
				n = c.Set.KeyLen
			}
			return c.Set.holds(c.Set.find(r.low[:n]))
		}
	}
	may, certain, why := m.elements(c.Set, c.Parts)
	switch {
	case why == broken:
		return No, broken
	case why != "":
		return Unknown, why
	case len(may) == 0:
		return c.Set.holds(nil)
	case len(may) == 1 && certain:
		return c.Set.holds(may[0])
	case certain && c.Set.Opaque == "" && !anyPeculiar(may):
		return Yes, ""
	}
	return Unknown, "whether the packet is in the set " + c.Set.Name + " is not known"
}

func anyPeculiar(list []*Elem) bool {
	for _, e := range list {
		if e.State != "" || e.Negated {
			return true
		}
	}
	return false
}

func (s *Set) holds(e *Elem) (Tri, string) {
	switch {
	case s.Opaque != "":
		return Unknown, s.Opaque
	case e == nil:
		return No, ""
	case e.State != "":
		return Unknown, e.State
	}
	return triOf(!e.Negated), ""
}

// match evaluates a condition. The reason says why a result is unknown.
func (m *machine) match(c *Cond) (Tri, string) {
	switch c.Op {
	case Opaque:
		return Unknown, c.Why
	case InSet, NotInSet:
		t, why := m.member(c)
		if why == broken {
			return No, ""
		}
		if c.Op == NotInSet {
			t = t.not()
		}
		return t, why
	case AnyOf, AllOf, NoneOf:
		return m.several(c)
	}
	if c.Parts[0].Source == FromMeta && (c.Op == Equal || c.Op == NotEqual) && m.awayFromLoopback(&c.Parts[0], c.A) {
		return triOf(c.Op == NotEqual), ""
	}
	var r reading
	m.load(&c.Parts[0], &r)
	if r.broken {
		return No, ""
	}
	n := min(r.n, len(c.A))
	low, high := r.low[:n], r.high[:n]
	var t Tri
	switch c.Op {
	case Equal, NotEqual:
		t = r.equal(low, high, c.A)
		if c.Op == NotEqual {
			t = t.not()
		}
	case Less:
		t = order(bytes.Compare(high, c.A) < 0, bytes.Compare(low, c.A) >= 0)
	case LessEqual:
		t = order(bytes.Compare(high, c.A) <= 0, bytes.Compare(low, c.A) > 0)
	case Greater:
		t = order(bytes.Compare(low, c.A) > 0, bytes.Compare(high, c.A) <= 0)
	case GreaterEqual:
		t = order(bytes.Compare(low, c.A) >= 0, bytes.Compare(high, c.A) < 0)
	case Within, NotWithin:
		t = order(bytes.Compare(low, c.A) >= 0 && bytes.Compare(high, c.B[:min(n, len(c.B))]) <= 0,
			bytes.Compare(high, c.A) < 0 || bytes.Compare(low, c.B[:min(n, len(c.B))]) > 0)
		if c.Op == NotWithin {
			t = t.not()
		}
	}
	if t == Unknown {
		return t, r.why
	}
	return t, ""
}

// awayFromLoopback reports whether a condition asks for the loopback link of
// a packet whose link is not known, but is certain another.
func (m *machine) awayFromLoopback(p *Part, want []byte) bool {
	at := m.in
	switch p.Key {
	case metaIif, metaIifname, metaIiftype:
	case metaOif, metaOifname, metaOiftype:
		at = m.out
	default:
		return false
	}
	return at.remote && !at.known && bytes.Equal(want, loopbacks[metaLens[p.Key]])
}

// loopbacks is the loopback link by the length of what names it: its name,
// its index, which is always 1, and its type.
var loopbacks = map[uint8][]byte{16: linkName("lo"), 4: {1, 0, 0, 0}, 2: {0x04, 0x03}}

func order(yes, no bool) Tri {
	switch {
	case yes:
		return Yes
	case no:
		return No
	}
	return Unknown
}

func (r *reading) equal(low, high, want []byte) Tri {
	if r.exact {
		return triOf(bytes.Equal(low, want[:len(low)]))
	}
	if r.ranged {
		if bytes.Compare(want, low) < 0 || bytes.Compare(want, high) > 0 {
			return No
		}
		return Unknown
	}
	for i := range low {
		known := ^(low[i] ^ high[i])
		if (low[i]^want[i])&known != 0 {
			return No
		}
	}
	if bytes.Equal(low, high) {
		return Yes
	}
	return Unknown
}

// several evaluates conditions that are joined.
func (m *machine) several(c *Cond) (Tri, string) {
	all, any, why := Yes, No, ""
	for _, each := range c.Conds {
		t, w := m.match(each)
		switch t {
		case No:
			all = No
		case Yes:
			any = Yes
		default:
			why = w
			if all == Yes {
				all = Unknown
			}
			if any == No {
				any = Unknown
			}
		}
	}
	t := any
	switch c.Op {
	case AllOf:
		t = all
	case NoneOf:
		t = any.not()
	}
	if t != Unknown {
		why = ""
	}
	return t, why
}

// addrOf is the address that a part gives; invalid where it is not known.
func (m *machine) addrOf(parts []Part) (netip.Addr, bool) {
	if len(parts) == 0 {
		return netip.Addr{}, false
	}
	var r reading
	m.load(&parts[0], &r)
	if r.broken || !r.exact {
		return netip.Addr{}, false
	}
	n := r.n
	if n > 4 && !m.packet.Six() {
		n = 4
	}
	addr, ok := netip.AddrFromSlice(r.low[:n])
	return addr, ok
}
