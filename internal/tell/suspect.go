package tell

import (
	"fmt"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// suspected answers whether the thing that was asked for by name is what keeps the client out.
func (w *writer) suspected() {
	s := w.t.Suspected
	if s == nil {
		return
	}
	what := foreign.Printable(s.What)
	text := map[string]string{
		trail.ItIs:        fmt.Sprintf("It is %s: %s.", what, foreign.Printable(s.Text)),
		trail.ItIsNot:     fmt.Sprintf("Not %s: %s.", what, foreign.Printable(s.Text)),
		trail.NotExcluded: fmt.Sprintf("Cannot be excluded: %s: %s.", what, foreign.Printable(s.Text)),
	}[s.Is]
	block(&w.b, "", "  ", text, width)
}
