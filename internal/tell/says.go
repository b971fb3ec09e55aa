package tell

import (
	"fmt"
	"strings"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// says tells how the message of the user's own client goes with this try.
func (w *writer) says() {
	s := w.t.Says
	if s == nil {
		return
	}
	text := fmt.Sprintf("Your client says %q", s.Text)
	if s.Means != "" {
		text += ": " + s.Means
	}
	switch s.Fits {
	case trail.FitsSame:
		text += fmt.Sprintf(". This try met the same: %s gives such a message.", s.Cause)
	case trail.FitsOther:
		text += fmt.Sprintf(". What this try met does not give such a message; %s would. The client may go another way, "+
			"or it was at another time.", strings.Join(s.Gives, ", "))
	case trail.FitsWorks:
		text += ". This try works: the client goes another way, by its own settings, or it was at another time."
	default:
		if s.Means == "" {
			text += ". This message is not known here"
		}
		text += "."
	}
	w.b.WriteByte('\n')
	block(&w.b, "", "  ", foreign.Printable(text), width)
}
