package filter

import (
	"encoding/binary"
	"fmt"
)

// shared keeps one of what is alike in the rules of a table: the parts that
// are loaded, whole conditions, and acts. Large tables repeat a few of them
// very often. What it gives out is never changed afterwards, but for the chains
// that acts lead to, which are the table's own.
type shared struct {
	parts map[string][]Part
	conds map[string]*Cond
	acts  map[string]*Act
	key   []byte
}

// mostShared bounds how many of a kind are kept: beyond, hardly any are alike.
const mostShared = 1 << 17

// rule shares what a rule is made of.
func (s *shared) rule(r *Rule) {
	if s.parts == nil {
		s.parts, s.conds, s.acts = map[string][]Part{}, map[string]*Cond{}, map[string]*Act{}
	}
	body := make([]Op, len(r.Body)) // as long as it must be
	for i, op := range r.Body {
		body[i] = Op{s.cond(op.Cond), s.act(op.Act)}
	}
	r.Body = body
}

func (s *shared) cond(c *Cond) *Cond {
	if c == nil || len(c.Conds) > 0 {
		return c
	}
	c.Parts = s.load(c.Parts)
	s.key = append(s.key[:0], byte(c.Op), btoi(c.State))
	s.key = appendKey(s.key, c.A, c.B, []byte(c.Name), []byte(c.Why))
	if c.Set != nil || len(c.Parts) > 0 {
		s.key = fmt.Appendf(s.key, "%p", c.Set)
	}
	if len(c.Parts) > 0 {
		s.key = fmt.Appendf(s.key, "%p", &c.Parts[0])
	}
	return keepOne(s.conds, s.key, c)
}

func (s *shared) act(a *Act) *Act {
	if a == nil || a.Set != nil || len(a.Parts)+len(a.Addr)+len(a.AddrTo)+len(a.Port)+len(a.PortTo) > 0 {
		return a
	}
	s.key = append(s.key[:0], byte(a.Doing), byte(a.With), btoi(a.Final), btoi(a.Prefixed))
	s.key = binary.LittleEndian.AppendUint32(s.key, a.Keep)
	s.key = appendKey(s.key, []byte(a.Chain), []byte(a.Name), []byte(a.Text), []byte(a.Why))
	return keepOne(s.acts, s.key, a)
}

// load shares the parts that a condition loads; those that are made of others
// are left alone.
func (s *shared) load(parts []Part) []Part {
	s.key = s.key[:0]
	for i := range parts {
		p := &parts[i]
		if p.Map != nil || len(p.From) > 0 {
			return parts
		}
		s.key = append(
			s.key,
			byte(p.Source),
			p.Key,
			byte(p.Offset),
			byte(p.Offset>>8),
			p.Len,
			p.Flags,
			p.Swap,
			byte(p.Shift),
		)
		s.key = appendKey(s.key, []byte(p.Name), p.Mask, p.Xor, p.Const, []byte(p.Why))
	}
	if known, ok := s.parts[string(s.key)]; ok {
		return known
	}
	if len(s.parts) < mostShared {
		s.parts[string(s.key)] = parts
	}
	return parts
}

// keepOne gives the one that is kept of what is alike.
func keepOne[T any](kept map[string]*T, key []byte, one *T) *T {
	if known, ok := kept[string(key)]; ok {
		return known
	}
	if len(kept) < mostShared {
		kept[string(key)] = one
	}
	return one
}

// appendKey appends texts with their lengths; none and an empty one differ.
func appendKey(key []byte, texts ...[]byte) []byte {
	for _, t := range texts {
		n := len(t) + 1
		if t == nil {
			n = 0
		}
		key = append(binary.AppendUvarint(key, uint64(n)), t...)
	}
	return key
}

func btoi(b bool) byte {
	if b {
		return 1
	}
	return 0
}
