package filter

import (
	"bytes"
	"cmp"
	"slices"
)

// Set is a set, or a map, of a table. Keys are bytes as the kernel's
// registers hold them: each field of a concatenation is padded to four bytes.
type Set struct {
	Name     string
	KeyLen   int
	Fields   []int // lengths of a concatenation's fields; nil: one field
	Interval bool
	IsMap    bool
	Elems    []Elem
	Other    *Elem  // what any other key gets ("*")
	Why      string // why the set could not be read; "": it was
	Opaque   string // why membership depends on what cannot be read; "": it does not

	exact  map[string]int // built by index
	spans  []span
	boxes  []int // elements that are ranges of a concatenation
	nested []int // spans that overlap others
}

// Elem is one element.
type Elem struct {
	Key, End []byte // End: the last key of a range; nil: Key alone
	Data     []byte
	Verdict  *Act
	State    string // what it depends on that cannot be read; "": nothing
	Negated  bool   // a member that is not in (kernel IP sets' "nomatch")
}

// span is a range of keys and its element.
type span struct {
	low, high string
	elem      int
}

// index prepares a set for looking up.
func (s *Set) index() {
	s.exact = make(map[string]int, len(s.Elems))
	for i := range s.Elems {
		e := &s.Elems[i]
		switch {
		case e.End == nil || bytes.Equal(e.Key, e.End):
			if _, twice := s.exact[string(e.Key)]; !twice || e.Negated {
				s.exact[string(e.Key)] = i
			}
		case s.Fields != nil:
			s.boxes = append(s.boxes, i)
		default:
			s.spans = append(s.spans, span{string(e.Key), string(e.End), i})
		}
	}
	slices.SortFunc(s.spans, func(a, b span) int { return cmp.Compare(a.low, b.low) })
	apart := s.spans[:0:0]
	for _, sp := range s.spans {
		if len(apart) > 0 && sp.low <= apart[len(apart)-1].high {
			s.nested = append(s.nested, sp.elem)
			continue
		}
		apart = append(apart, sp)
	}
	s.spans = apart
}

// find is the element that holds a key of which every byte is known; nil for
// none. The smallest range wins where ranges overlap.
func (s *Set) find(key []byte) *Elem {
	if i, ok := s.exact[string(key)]; ok {
		return &s.Elems[i]
	}
	best := -1
	if at, hit := slices.BinarySearchFunc(s.spans, key, func(sp span, k []byte) int {
		switch {
		case sp.high < string(k):
			return -1
		case sp.low > string(k):
			return 1
		}
		return 0
	}); hit {
		best = s.spans[at].elem
	}
	for _, i := range s.nested {
		e := &s.Elems[i]
		if bytes.Compare(e.Key, key) <= 0 && bytes.Compare(key, e.End) <= 0 &&
			(best < 0 || narrower(e, &s.Elems[best])) {
			best = i
		}
	}
	for _, i := range s.boxes {
		if s.inBox(&s.Elems[i], key) {
			best = i
			break
		}
	}
	if best >= 0 {
		return &s.Elems[best]
	}
	return s.Other
}

// kinds is the lengths of a key's fields.
func (s *Set) kinds() []int {
	if s.Fields != nil {
		return s.Fields
	}
	return []int{s.KeyLen}
}

// narrower compares two ranges by where they begin and end.
func narrower(a, b *Elem) bool {
	return bytes.Compare(a.Key, b.Key) >= 0 && bytes.Compare(a.End, b.End) <= 0
}

// inBox reports whether each field of a key lies in an element's range.
func (s *Set) inBox(e *Elem, key []byte) bool {
	at := 0
	for _, n := range s.Fields {
		if at+n > len(key) || at+n > len(e.Key) || at+n > len(e.End) {
			return false
		}
		if bytes.Compare(key[at:at+n], e.Key[at:at+n]) < 0 || bytes.Compare(key[at:at+n], e.End[at:at+n]) > 0 {
			return false
		}
		at += (n + 3) &^ 3
	}
	return true
}

// about is how a key of which only some is known, given by its lowest and
// highest value byte by byte and field by field, meets the set: the elements
// that it may be, and whether it is certain one of them.
func (s *Set) about(low, high []byte) (may []*Elem, certain bool) {
	fields := s.Fields
	if fields == nil {
		fields = []int{len(low)}
	}
	for i := range s.Elems {
		e := &s.Elems[i]
		end := e.End
		if end == nil {
			end = e.Key
		}
		overlaps, covers, at := true, true, 0
		for _, n := range fields {
			if at+n > len(low) || at+n > len(e.Key) || at+n > len(end) {
				overlaps = false
				break
			}
			if bytes.Compare(high[at:at+n], e.Key[at:at+n]) < 0 || bytes.Compare(low[at:at+n], end[at:at+n]) > 0 {
				overlaps = false
				break
			}
			if bytes.Compare(low[at:at+n], e.Key[at:at+n]) < 0 || bytes.Compare(high[at:at+n], end[at:at+n]) > 0 {
				covers = false
			}
			at += (n + 3) &^ 3
		}
		if overlaps {
			may = append(may, e)
			certain = certain || covers
		}
	}
	if s.Other != nil {
		may, certain = append(may, s.Other), true
	}
	return may, certain
}
