package weigh

import (
	"slices"

	"uakari/internal/foreign"
	"uakari/internal/message"
	"uakari/internal/trail"
)

// mostGiving is how many causes of a message a trail names.
const mostGiving = 3

// saysOf compares the message of the user's own client with what this try came to; nil if
// none was given.
func saysOf(text string, t trail.Trail) *trail.Says {
	if text == "" {
		return nil
	}
	s := &trail.Says{Text: foreign.Shortened(foreign.Clean(text)), Fits: trail.FitsUnknown}
	found := message.Find(text)
	if len(found) == 0 {
		return s
	}
	s.Text, s.Means = foreign.Clean(found[0].Quoted), found[0].Means
	gives := message.Causes(found)
	s.Gives = gives[:min(len(gives), mostGiving)]
	switch blocking := t.Blocking(); {
	case t.Outcome == trail.OutcomeClear:
		s.Fits = trail.FitsWorks
	case len(blocking) > 0:
		s.Fits = trail.FitsOther
		for _, c := range blocking {
			if slices.Contains(gives, c.ID) {
				s.Fits, s.Cause = trail.FitsSame, c.ID
				break
			}
		}
	}
	return s
}
