package tell

import (
	"fmt"
	"strings"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// Rehearsal tells what the fixes of a run would come to.
func Rehearsal(r trail.Rehearsal, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	b.WriteString(p.as(bold, ForeseenLine(r)) + "\n")
	for i, s := range r.Steps {
		b.WriteByte('\n')
		block(&b, "", "   ", fmt.Sprintf("%d. %s (%s, %s).", i+1, foreign.Printable(s.Summary), s.Cause, s.Certainty),
			width)
		if s.Fix != nil {
			block(&b, "   ", "   ", fmt.Sprintf("Fix, on %s (owner: %s): %s.", foreign.Printable(s.Fix.Host),
				foreign.Printable(s.Fix.Owner), foreign.Printable(s.Fix.Do)), width)
			for line := range strings.Lines(s.Fix.Command) {
				b.WriteString("     " + foreign.Printable(strings.TrimRight(line, "\n")) + "\n")
			}
			block(&b, "   ", "   ", fmt.Sprintf("Risk: %s. Undo: %s.", foreign.Printable(s.Fix.Risk),
				foreign.Printable(s.Fix.Undo)), width)
		} else {
			b.WriteString("   No fix is known for it here.\n")
		}
		block(&b, "   ", "   ", "Supposed: "+foreign.Printable(s.Changes)+".", width)
		switch {
		case s.Idle:
			block(&b, "   ", "   ", "Then: the same cause is found again. This fix alone changes nothing that was seen.", width)
		case len(s.Left) > 0:
			block(&b, "   ", "   ", "Then still in the way: "+strings.Join(s.Left, ", ")+".", width)
		default:
			block(&b, "   ", "   ", "Then nothing that was seen is in the way.", width)
		}
	}
	if len(r.Steps) > 0 && len(r.Unseen) > 0 {
		b.WriteByte('\n')
		block(&b, "", "  ", "Only a new look can tell, once that is done: "+strings.Join(r.Unseen, ", ")+".", width)
	}
	return b.String()
}

// ForeseenLine is what a rehearsal comes to, in one line.
func ForeseenLine(r trail.Rehearsal) string {
	switch n := len(r.Steps); {
	case n == 0 && r.Outcome == trail.OutcomeClear:
		return "Nothing to fix: it works."
	case n == 0:
		return "Nothing to rehearse: no cause is known that a fix belongs to."
	case !r.Clears:
		return fmt.Sprintf("Rehearsed: after %s, something is still in the way.", stepsOf(n))
	default:
		return fmt.Sprintf("Rehearsed: after %s, nothing that was seen is in the way.", stepsOf(n))
	}
}

// stepsOf is the numbers of steps: "1", "1 and 2", "1 to 4".
func stepsOf(n int) string {
	switch n {
	case 1:
		return "1"
	case 2:
		return "1 and 2"
	}
	return fmt.Sprintf("1 to %d", n)
}
