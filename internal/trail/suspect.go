package trail

import (
	"fmt"
	"slices"
	"strings"
)

// Suspected is whether one thing is what keeps the client out.
type Suspected struct {
	What string `json:"what"` // a rung or a cause, as it was asked
	// Is is "it is", "it is not" or "cannot be excluded".
	Is   string `json:"is"`
	Text string `json:"text"` // with what shows it, or what would
}

// The three answers to a suspicion.
const (
	ItIs        = "it is"
	ItIsNot     = "it is not"
	NotExcluded = "cannot be excluded"
)

// Suspect says whether a rung, or a cause, is what keeps the client out. A rung is excluded
// only where it was read clear; a cause, where its rung was, or nothing is in the way. ok is
// false for what is neither a rung nor a cause.
func (t Trail) Suspect(what string, known func(cause string) bool) (s Suspected, ok bool) {
	s.What = what
	name, cause, ofCause := strings.Cut(what, "/")
	at := slices.IndexFunc(t.Rungs, func(f Finding) bool { return string(f.Name) == name })
	if at < 0 || ofCause && !known(name+"/"+cause) {
		return s, false
	}
	rung := t.Rungs[at]
	for _, c := range t.Causes {
		hit := c.Rung == rung.Name && (!ofCause || c.ID == what)
		switch {
		case !hit || !c.Blocking && c.Certainty == Proven: // true, and in nobody's way
		case c.Blocking && c.Certainty == Proven:
			s.Is, s.Text = ItIs, fmt.Sprintf("%s (%s, proven)", c.Summary, c.ID)
			return s, true
		case s.Text == "":
			s.Is, s.Text = NotExcluded, fmt.Sprintf("%s (%s, %s)", c.Summary, c.ID, c.Certainty)
		}
	}
	switch {
	case s.Text != "":
	case t.Outcome == OutcomeClear:
		s.Is, s.Text = ItIsNot, "this try works: "+rung.Summary
	case rung.State == Clear || rung.State == Moot:
		s.Is, s.Text = ItIsNot, rung.Summary
	case rung.State == Fault:
		s.Is, s.Text = NotExcluded, "another fault of this rung was found, and may hide it: "+rung.Summary
	default:
		s.Is, s.Text = NotExcluded, rung.Summary
		if rung.Needs != "" {
			s.Text += "; needs " + rung.Needs
		}
	}
	return s, true
}
