package tell

import (
	"fmt"
	"strings"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/plain"
	"uakari/internal/trail"
)

// moments is how times are written: in UTC, to the second.
const moments = "2006-01-02 15:04:05"

// Title is what a case is called after the trace that opened it.
func Title(t trail.Trail) string {
	w := writer{t: t}
	verb := "cannot reach"
	if t.Reached == trail.Yes {
		verb = "reaches"
	}
	return fmt.Sprintf("%s %s %s", w.client(), verb, w.goal())
}

// Cases tells a list of cases.
func Cases(list []casebook.Case, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	if len(list) == 0 {
		return "No cases. One is opened with: uakari trace --case new ENDPOINT\n"
	}
	fmt.Fprintf(&b, "%4s  %-6s  %-16s  %s\n", "case", "", "opened (UTC)", "what")
	for _, c := range list {
		state := p.as(yellow, "open  ")
		if !c.Closed.IsZero() {
			state = p.as(green, "closed")
		}
		block(
			&b,
			fmt.Sprintf("%4d  %s  %s  ", c.ID, state, c.Opened.UTC().Format("2006-01-02 15:04")),
			strings.Repeat(" ", 32),
			plain.Printable(c.Title)+firstOf(c),
			width,
		)
	}
	return b.String()
}

func firstOf(c casebook.Case) string {
	if c.First == "" {
		return ""
	}
	return ": " + plain.Printable(c.First)
}

// Case tells one case, entry by entry.
func Case(c casebook.Case, judged map[int64]trail.Trail, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	head := fmt.Sprintf("Case %d: %s.", c.ID, plain.Printable(c.Title))
	if c.Closed.IsZero() {
		head += " Open."
	} else {
		head += fmt.Sprintf(" Closed after %s.", c.Closed.Sub(c.Opened).Round(time.Second))
	}
	for _, line := range wrap(head, width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	b.WriteByte('\n')
	for _, e := range c.Entries {
		first := fmt.Sprintf("  %s  %-7s ", e.At.UTC().Format(moments), e.Kind)
		block(&b, first, strings.Repeat(" ", len(first)), entryText(e, judged), width)
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
					plain.Printable(e.Text),
					plain.Printable(e.Undo),
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
			return plain.Printable(e.Text)
		}
		text := plain.Printable(Title(t))
		for _, c := range t.Blocking() {
			text += fmt.Sprintf("; %s (%s, %s)", plain.Printable(c.Summary), plain.Printable(c.ID), c.Certainty)
		}
		return text
	case e.Kind == casebook.Change:
		text := fmt.Sprintf("%d: %s", e.Number, plain.Printable(e.Text))
		if e.Temporary {
			text += ", for now"
		}
		if !e.Undone.IsZero() {
			text += ", undone " + e.Undone.UTC().Format(moments)
		}
		return text
	}
	return plain.Printable(e.Text)
}
