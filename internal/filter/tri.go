package filter

// Tri is a truth that may be unknown.
type Tri uint8

const (
	No Tri = iota
	Yes
	Unknown
)

func (t Tri) String() string { return [...]string{"no", "yes", "unknown"}[t] }

// not is the negation; the unknown stays unknown.
func (t Tri) not() Tri {
	switch t {
	case No:
		return Yes
	case Yes:
		return No
	}
	return Unknown
}

func triOf(b bool) Tri {
	if b {
		return Yes
	}
	return No
}
