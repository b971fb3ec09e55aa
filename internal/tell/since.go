package tell

import (
	"fmt"
	"strings"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// mostSince bounds how many changes the text has; the rest are counted.
const mostSince = 12

// since tells what changed since the endpoint was reached.
func (w *writer) since() {
	s := w.t.Since
	if s == nil {
		return
	}
	w.b.WriteByte('\n')
	when := s.When.UTC().Format("2006-01-02 15:04")
	if s.Beside != "" {
		w.besides(*s)
		return
	}
	if len(s.Changed) == 0 {
		block(
			&w.b,
			"",
			"  ",
			fmt.Sprintf("Since %s, when it worked: nothing that was seen then and now has changed.", when),
			width,
		)
		return
	}
	w.b.WriteString(w.p.as(bold, fmt.Sprintf("Since %s, when it worked:", when)) + "\n")
	Changes(&w.b, s.Changed, w.p)
}

// besides tells what differs from another client, which reaches the endpoint.
func (w *writer) besides(s trail.Since) {
	other := foreign.Printable(s.Beside)
	if len(s.Changed) == 0 {
		block(&w.b, "", "  ", fmt.Sprintf("From %s it works, and nothing that was seen of both differs.", other),
			width)
		return
	}
	w.b.WriteString(w.p.as(bold, fmt.Sprintf("What differs from %s, where it works:", other)) + "\n")
	for _, c := range s.Changed[:min(len(s.Changed), mostSince)] {
		text := fmt.Sprintf("%s, %s: ", foreign.Printable(c.Host), foreign.Printable(c.What))
		switch {
		case c.Was == "":
			text += foreign.Printable(c.Now) + ", and not on " + other
		case c.Now == "":
			text += "not " + foreign.Printable(c.Was) + ", as on " + other
		default:
			text += foreign.Printable(c.Now) + "; on " + other + " " + foreign.Printable(c.Was)
		}
		lead := "  "
		if c.Explains != "" {
			lead, text = "! ", text+" ("+foreign.Printable(c.Explains)+")"
		}
		block(&w.b, lead, "    ", text, width)
	}
	if more := len(s.Changed) - mostSince; more > 0 {
		fmt.Fprintf(&w.b, "  and %d more\n", more)
	}
}

// Changes writes changes, a block each: what explains a cause is marked.
func Changes(b *strings.Builder, list []trail.Changed, p paint) {
	for _, c := range list[:min(len(list), mostSince)] {
		text := fmt.Sprintf("%s, %s: %s", foreign.Printable(c.Host), foreign.Printable(c.What),
			foreign.Printable(changeOf(c)))
		if !c.At.IsZero() {
			text += ", since " + c.At.UTC().Format("2006-01-02 15:04")
		}
		lead := "  "
		if c.Explains != "" {
			lead, text = "! ", text+" ("+foreign.Printable(c.Explains)+")"
		}
		var one strings.Builder
		block(&one, lead, "    ", text, width)
		if c.Explains != "" {
			b.WriteString(p.as(red, strings.TrimRight(one.String(), "\n")) + "\n")
			continue
		}
		b.WriteString(one.String())
	}
	if more := len(list) - mostSince; more > 0 {
		fmt.Fprintf(b, "  and %d more\n", more)
	}
}

func changeOf(c trail.Changed) string {
	switch {
	case c.Was == "":
		return "now " + c.Now
	case c.Now == "":
		return "no longer " + c.Was
	}
	return c.Now + "; it was " + c.Was
}

// Differ tells what differs between two hosts, or two times of one.
func Differ(before, after string, list []trail.Changed, colour bool) string {
	var b strings.Builder
	p := paint{colour}
	if len(list) == 0 {
		b.WriteString(p.as(bold, p.as(green, "Alike: nothing that both hold differs.")) + "\n")
		return b.String()
	}
	for _, line := range wrap(fmt.Sprintf("%d things differ between %s and %s, which is told as now.", len(list),
		before, after), width) {
		b.WriteString(p.as(bold, line) + "\n")
	}
	b.WriteByte('\n')
	for _, c := range list {
		Changes(&b, []trail.Changed{c}, p)
	}
	return b.String()
}
