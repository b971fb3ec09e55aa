package tell

import (
	"fmt"
	"strings"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// moments is how times are written: in UTC, to the second.
const moments = "2006-01-02 15:04:05"

// Title is what a case is called after the trace that opened it.
func Title(t trail.Trail) string {
	w := writer{t: t}
	_, text, _ := strings.Cut(t.Headline(w.client(), w.goal()), ": ")
	text, _, _ = strings.Cut(text, "; ")
	text, _, _ = strings.Cut(text, ": ") // what came is of the trace, and not of the case
	return strings.TrimSuffix(text, ".")
}

// Cases tells a list of cases.
func Cases(list []casebook.Case, more bool, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	if len(list) == 0 {
		return "No cases. One is opened with: uakari trace --case new ENDPOINT\n"
	}
	b.WriteString(caseHead)
	for _, c := range list {
		caseLine(&b, p, c)
	}
	if more {
		fmt.Fprintf(&b, "\nThere are older cases: uakari case list --after %d\n", list[len(list)-1].ID)
	}
	return b.String()
}

// caseHead stands over lines of cases.
var caseHead = fmt.Sprintf("%4s  %-6s  %-16s  %s\n", "case", "", "opened (UTC)", "what")

// caseLine is a case in a table.
func caseLine(b *strings.Builder, p paint, c casebook.Case) {
	state := p.as(yellow, "open  ")
	if !c.Closed.IsZero() {
		state = p.as(green, "closed")
	}
	block(
		b,
		fmt.Sprintf("%4d  %s  %s  ", c.ID, state, c.Opened.UTC().Format("2006-01-02 15:04")),
		strings.Repeat(" ", 32),
		foreign.Printable(c.Title)+firstOf(c)+takenBy(c),
		width,
	)
}

// takenBy is who works on a case.
func takenBy(c casebook.Case) string {
	if c.Taken == "" {
		return ""
	}
	return " (taken by " + foreign.Printable(c.Taken) + ")"
}

// Similar tells which other cases had the cause of one, and what fixed them: the
// changes that were not taken back.
func Similar(c casebook.Case, list []casebook.Case, colour bool) string {
	p := paint{colour}
	cause := foreign.Printable(c.First)
	if !strings.Contains(c.First, "/") {
		return fmt.Sprintf("Case %d has no cause that others may share: it is %s.\n", c.ID, cause)
	}
	if len(list) == 0 {
		return fmt.Sprintf("No other case had %s.\n", cause)
	}
	var b strings.Builder
	fmt.Fprintln(&b, p.as(bold, fmt.Sprintf("%s with %s.", counted(len(list), "other case"), cause)))
	b.WriteString("\n" + caseHead)
	for _, other := range list {
		caseLine(&b, p, other)
		done := 0
		for _, e := range other.Entries {
			if e.Kind == casebook.Change && e.Undone.IsZero() {
				done++
				block(&b, strings.Repeat(" ", 32)+"done: ", strings.Repeat(" ", 38), foreign.Printable(e.Text), width)
			}
		}
		if done == 0 {
			b.WriteString(strings.Repeat(" ", 32) + "no change was noted\n")
		}
	}
	return b.String()
}

func firstOf(c casebook.Case) string {
	if c.First == "" {
		return ""
	}
	return ": " + foreign.Printable(c.First)
}

// Case tells one case, entry by entry.
func Case(c casebook.Case, judged map[int64]trail.Trail, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	head := fmt.Sprintf("Case %d: %s.", c.ID, foreign.Printable(c.Title))
	if c.Closed.IsZero() {
		head += " Open."
		if c.Taken != "" {
			head += fmt.Sprintf(" Taken by %s since %s UTC.", foreign.Printable(c.Taken),
				c.TakenAt.UTC().Format(moments))
		}
	} else {
		head += fmt.Sprintf(" Closed after %s.", c.Closed.Sub(c.Opened).Round(time.Second))
	}
	for _, line := range wrap(head, width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	b.WriteByte('\n')
	for _, e := range c.Entries {
		first := fmt.Sprintf("  %s  %-7s ", e.At.UTC().Format(moments), e.Kind)
		text := entryText(e, judged)
		if e.By != "" && e.Kind != casebook.Trace {
			text += " (" + foreign.Printable(e.By) + ")"
		}
		block(&b, first, strings.Repeat(" ", len(first)), text, width)
	}
	if standing := c.Standing(); len(standing) > 0 {
		b.WriteByte('\n')
		for _, e := range standing {
			block(
				&b,
				"Still to undo: ",
				"  ",
				fmt.Sprintf(
					"%s. How: %s. Then: uakari case change %d --undone %d",
					foreign.Printable(e.Text),
					foreign.Printable(e.Undo),
					c.ID,
					e.Number,
				),
				width,
			)
		}
	}
	if c.Closed.IsZero() {
		fmt.Fprintf(&b, "\n%s uakari confirm %d\n", p.as(bold, "Then:"), c.ID)
	}
	return b.String()
}

func entryText(e casebook.Entry, judged map[int64]trail.Trail) string {
	switch {
	case e.Kind == casebook.Trace:
		t, ok := judged[e.Number]
		if !ok {
			return foreign.Printable(e.Text)
		}
		text := foreign.Printable(Title(t))
		for _, c := range t.Blocking() {
			text += fmt.Sprintf("; %s (%s, %s)", foreign.Printable(c.Summary), foreign.Printable(c.ID), c.Certainty)
		}
		return text
	case e.Kind == casebook.Change:
		text := fmt.Sprintf("%d: %s", e.Number, foreign.Printable(e.Text))
		if e.Temporary {
			text += ", for now"
		}
		if !e.Undone.IsZero() {
			text += ", undone " + e.Undone.UTC().Format(moments)
		}
		return text
	}
	return foreign.Printable(e.Text)
}
