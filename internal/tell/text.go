package tell

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// Columns that text is laid out for: as many as a terminal has, within bounds.
const (
	narrowest = 60
	widest    = 120
)

// width is the columns of this run.
var width = 80

// Fit lays text out for a terminal of so many columns. It is called once, before
// anything is told; text for a file or a pipe has 80.
func Fit(columns int) { width = min(widest, max(narrowest, columns)) }

// Text tells a trail to a person: the answer in the first line, then the
// causes, the ladder, what to do, and what it rests on.
func Text(t trail.Trail, colour bool) string {
	w := writer{t: t, p: paint{colour}}
	w.answer()
	w.suspected()
	w.causes()
	w.says()
	w.since()
	w.behind()
	w.ladder()
	w.way()
	w.signs()
	w.mend()
	w.apart()
	w.links()
	w.evidence()
	w.then()
	return w.b.String()
}

type writer struct {
	t trail.Trail
	p paint
	b strings.Builder
}

func (w *writer) client() string {
	for _, v := range w.t.Vantages {
		if v.Role == "client" {
			return foreign.Printable(v.Host)
		}
	}
	return "this client"
}

func (w *writer) goal() string {
	e := w.t.Endpoint
	text := foreign.Printable(endpoint.HostPort(e.Host, e.Port))
	if name := endpoint.Unicode(e.Host); name != "" {
		text = fmt.Sprintf("%s (%s in DNS)",
			foreign.Printable(endpoint.HostPort(name, e.Port)), foreign.Printable(e.Host))
	}
	return text
}

// answer is the first line.
func (w *writer) answer() {
	colour, text := red, foreign.Printable(w.t.Headline(w.client(), w.goal()))
	switch {
	case w.t.Verdict().Status() == 0:
		colour = green
	case w.t.Outcome != trail.OutcomeFault:
		colour = yellow
	}
	for _, line := range wrap(text, width) {
		w.b.WriteString(w.p.as(bold, w.p.as(colour, line)) + "\n")
	}
	reason := map[string]string{"deadline": "the deadline came first", "interrupted": "interrupted"}[w.t.Incomplete]
	if reason == "" && len(w.t.CutOff) == 0 {
		return
	}
	const most = 4
	said := w.t.CutOff[:min(most, len(w.t.CutOff))]
	if more := len(w.t.CutOff) - len(said); more > 0 {
		said = append(slices.Clone(said), fmt.Sprintf("%d more looks", more))
	}
	parts := said
	if reason != "" {
		parts = append([]string{reason}, said...)
	}
	for _, line := range wrap("Not complete: "+foreign.Printable(strings.Join(parts, "; "))+".", width) {
		w.b.WriteString(line + "\n")
	}
}

// causes says what is wrong, in the order in which to fix it.
func (w *writer) causes() {
	blocking := w.t.Blocking()
	for i, c := range blocking {
		mark, word := "", "Because "
		if len(blocking) > 1 {
			mark = fmt.Sprintf("%d. ", i+1)
		}
		switch {
		case len(c.MaskedBy) > 0:
			word = "And behind that, "
		case i > 0:
			word = "And because "
		}
		rest := strings.Repeat(" ", len(mark))
		block(
			&w.b,
			mark,
			rest,
			word+foreign.Printable(c.Summary)+fmt.Sprintf(" (%s, %s).", foreign.Printable(c.ID), c.Certainty),
			width,
		)
		for _, short := range c.Short {
			block(&w.b, rest+"Not proven: ", rest+"  ", foreign.Printable(short)+".", width)
		}
	}
	rest := doubts(w.t.Causes, trail.Possible)
	head := "What it may be, the most frequent first:"
	if len(blocking) > 0 {
		head = "And before that, perhaps, what nobody read, the most frequent first:"
		rest = slices.DeleteFunc(rest, func(c trail.Cause) bool { return len(c.Because) > 0 })
	}
	if len(rest) > 0 && w.t.Reached == trail.No {
		block(&w.b, "", "", head, width)
		for _, c := range rest {
			block(&w.b, "  - ", "    ", foreign.Printable(c.Summary)+" ("+foreign.Printable(c.ID)+")", width)
		}
	}
}

// behind tells the hops behind the endpoint, each as a trail of its own: the
// ladder of the deepest, and what to do there.
func (w *writer) behind() {
	for _, b := range w.t.Behind {
		inner := writer{t: b.Trail, p: w.p}
		w.b.WriteString("\n")
		head := "Behind it, "
		if b.Pair {
			head = "The other way, "
		}
		block(&w.b, head, "  ", fmt.Sprintf("seen from %s:", foreign.Printable(w.t.Host(b.From))), width)
		inner.answer()
		inner.causes()
		inner.behind()
		if len(b.Trail.Behind) == 0 {
			inner.ladder()
			inner.mend()
		}
		tellNeeds(&inner.b, w.p, b.Needs)
		w.b.WriteString(inner.b.String())
	}
	if len(w.t.Behind) > 0 {
		fmt.Fprintf(&w.b, "\nAnd %s itself:\n", w.goal())
		tellNeeds(&w.b, w.p, w.t.Needs)
	}
}

// doubts is the causes that do not block, of a certainty.
func doubts(causes []trail.Cause, certainty trail.Certainty) []trail.Cause {
	return slices.DeleteFunc(
		slices.Clone(causes),
		func(c trail.Cause) bool { return c.Blocking || c.Certainty != certainty },
	)
}

func upperFirst(s string) string {
	if s == "" || s[0] < 'a' || s[0] > 'z' || !plainWord(s) {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// plainWord reports whether a text begins with an ordinary word, and not with
// a name that must stay as it is.
func plainWord(s string) bool {
	first, _, _ := strings.Cut(s, " ")
	return strings.IndexFunc(strings.TrimSuffix(first, ","), func(r rune) bool { return r < 'a' || r > 'z' }) < 0
}

// ladder is the rungs that were asked for, one a line.
func (w *writer) ladder() {
	w.b.WriteByte('\n')
	for _, f := range w.t.Rungs {
		if f.Summary == trail.NotAsked {
			continue
		}
		state := string(f.State)
		if f.State == trail.Fault {
			state = "FAULT"
		}
		text := foreign.Printable(f.Summary)
		if len(f.Follows) > 0 {
			text += " (follows from " + w.causeName(f.Follows[0]) + ")"
		}
		if f.State == trail.Unseen && f.Needs != "" {
			text += "; needs " + foreign.Printable(f.Needs)
		}
		const indent = "                     "
		lines := wrap(text, width-len(indent))
		first := ""
		if len(lines) > 0 {
			first, lines = lines[0], lines[1:]
		}
		head := fmt.Sprintf("  %-10s", f.Name) + w.p.as(stateColours[f.State], fmt.Sprintf("%-8s", state)) + " "
		w.b.WriteString(head + w.quiet(f.State, first) + "\n")
		for _, line := range lines {
			w.b.WriteString(indent + w.quiet(f.State, line) + "\n")
		}
	}
}

// signs is the card's signs of health, one a line.
func (w *writer) signs() {
	for i, s := range w.t.Signs {
		head := "             "
		if i == 0 {
			head = "  signs      "
		}
		text := foreign.Printable(s.What) + " on " + foreign.Printable(s.Host)
		if s.Saw != "" {
			text += ": " + foreign.Printable(s.Saw)
		}
		state := fmt.Sprintf("%-8s", s.State)
		lines := wrap(text, width-22)
		w.b.WriteString(head[:12] + w.p.as(signColours[s.State], state) + " " + lines[0] + "\n")
		for _, line := range lines[1:] {
			w.b.WriteString(strings.Repeat(" ", 21) + line + "\n")
		}
	}
}

// quiet dims what does not need reading.
func (w *writer) quiet(s trail.State, text string) string {
	if s == trail.Unseen || s == trail.Moot || s == trail.Follows {
		return w.p.as(grey, text)
	}
	return text
}

func (w *writer) causeName(key string) string {
	for _, c := range w.t.Causes {
		if c.Key == key {
			return foreign.Printable(c.ID)
		}
	}
	return foreign.Printable(key)
}

// mend is what to do, for every cause that blocks, and for doubts that are
// proven.
func (w *writer) mend() {
	todo := w.t.Mendable()
	if w.t.Foreseen != "" && len(todo) > 1 {
		w.b.WriteByte('\n')
		block(&w.b, "", "  ", foreign.Printable(w.t.Foreseen), width)
	}
	for n, c := range todo {
		for i, r := range c.Remedies {
			w.b.WriteByte('\n')
			head := "To mend"
			if len(todo) > 1 && i == 0 {
				head = fmt.Sprintf("To mend %d (%s)", n+1, foreign.Printable(c.ID))
			} else if i > 0 {
				head = fmt.Sprintf("Or %d.%d", n+1, i+1)
			}
			w.heading(head, w.where(r))
			block(&w.b, "  ", "  ", upperFirst(foreign.Printable(r.Do))+".", width)
			if r.Command != "" {
				w.b.WriteString("    " + w.p.as(blue, foreign.Printable(r.Command)) + "\n")
			}
			block(&w.b, "  risk: ", "        ", foreign.Printable(r.Risk), width)
			block(&w.b, "  undo: ", "        ", foreign.Printable(r.Undo), width)
		}
	}
}

// heading writes a bold beginning and what follows it, wrapped together.
func (w *writer) heading(head, rest string) {
	lines := wrap(head+rest, width)
	if tail, ok := strings.CutPrefix(lines[0], head); ok {
		lines[0] = w.p.as(bold, head) + tail
	}
	w.b.WriteString(strings.Join(lines, "\n") + "\n")
}

// where says on which host a remedy goes and who may do it.
func (w *writer) where(r trail.Remedy) string {
	at := "on"
	if strings.HasPrefix(r.Host, "the ") {
		at = "at"
	}
	return fmt.Sprintf(", %s %s (owner: %s):", at, foreign.Printable(r.Host), foreign.Printable(r.Owner))
}

// apart names the one look that would help most.
func (w *writer) apart() {
	if w.t.Tell == nil {
		return
	}
	w.b.WriteByte('\n')
	w.heading("One look tells them apart:", " "+foreign.Printable(w.t.Tell.Look)+".")
	if w.t.Tell.Command != "" {
		w.b.WriteString("    " + w.p.as(blue, foreign.Printable(w.t.Tell.Command)) + "\n")
	}
}

// evidence is what the causes rest on.
func (w *writer) evidence() {
	var ids []string
	for _, c := range w.t.Causes {
		if c.Blocking || c.Certainty == trail.Proven || w.t.Outcome == trail.OutcomeUnsure {
			ids = append(ids, c.Because...)
		}
	}
	first := true
	for _, e := range w.t.Evidence {
		if !slices.Contains(ids, e.ID) {
			continue
		}
		if first {
			w.b.WriteString("\n" + w.p.as(bold, "Seen:") + "\n")
			first = false
		}
		head := fmt.Sprintf("  %s ", e.At.Local().Format("15:04:05"))
		block(
			&w.b,
			head,
			strings.Repeat(" ", len(head)),
			fmt.Sprintf(
				"%s: %s: %s",
				foreign.Printable(w.t.Host(e.Vantage)),
				foreign.Printable(e.Source),
				foreign.Printable(e.Saw),
			),
			width,
		)
	}
}

// then says how to see whether it works again.
func (w *writer) then() {
	if w.t.Command == "" || w.t.Outcome == trail.OutcomeClear || w.t.Tell != nil {
		return
	}
	w.b.WriteString("\n" + w.p.as(bold, "Then:") + " " + foreign.Printable(w.t.Command) + "\n")
}
