package tell

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/confirm"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// Short is what is in the way, in a few words.
func Short(t trail.Trail) string {
	for _, c := range t.Causes {
		if c.Blocking {
			return foreign.Printable(c.ID)
		}
	}
	return string(t.Outcome)
}

// Confirmed tells a confirmation: the answer first, what became of each cause,
// and the ladder before and now. why says why an account could not be tried.
func Confirmed(c trail.Confirmation, why string, colour bool) string {
	p := paint{colour}
	before, now := c.Before, c.Now
	var b strings.Builder
	for _, line := range wrap(confirmAnswer(c, why), width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	if len(c.Given) > 0 {
		block(&b, "Given again, in place of the kept run's: ", "  ", strings.Join(c.Given, ", ")+".", width)
	}
	for _, step := range c.Progress {
		head := fmt.Sprintf("  %-12s ", step.State)
		text := foreign.Printable(step.ID)
		if step.Endpoint != now.Endpoint.Input {
			text += " behind it, at " + foreign.Printable(step.Endpoint)
		}
		if step.State != trail.Fixed {
			text += ": " + foreign.Printable(step.Summary)
		}
		lines := wrap(text, width-len(head))
		fmt.Fprintln(&b, p.as(stepColours[step.State], head)+lines[0])
		for _, line := range lines[1:] {
			fmt.Fprintln(&b, strings.Repeat(" ", len(head))+line)
		}
	}
	fmt.Fprintf(&b, "\n  %-10s %-8s %-8s\n", "", "before", "now")
	for i, rung := range now.Rungs {
		was := trail.Unseen
		if i < len(before.Rungs) {
			was = before.Rungs[i].State
		}
		note := ""
		if was != rung.State {
			note = foreign.Printable(rung.Summary)
		}
		head := fmt.Sprintf("  %-10s %s %s ", rung.Name, padded(p, was), padded(p, rung.State))
		lines := wrap(note, width-30)
		if len(lines) == 0 {
			lines = []string{""}
		}
		for j, line := range lines {
			if j > 0 {
				head = strings.Repeat(" ", 31)
			}
			fmt.Fprintln(&b, strings.TrimRight(head+line, " "))
		}
	}
	w := writer{t: now, p: p}
	w.signs()
	b.WriteString(w.b.String())
	return b.String()
}

var stepColours = map[trail.Fate]string{
	trail.Fixed: green, trail.StillThere: red, trail.New: red, trail.NotSeen: grey,
}

// padded is a state as the ladder writes it, in a column.
func padded(p paint, s trail.State) string {
	word := string(s)
	if s == trail.Fault {
		word = strings.ToUpper(word)
	}
	return p.as(stateColours[s], fmt.Sprintf("%-8s", word))
}

// confirmAnswer is the first line.
func confirmAnswer(c trail.Confirmation, why string) string {
	goal := foreign.Printable(c.Now.Endpoint.Input)
	switch c.Result {
	case trail.ConfirmWorks:
		text := fmt.Sprintf("Works again: %s, %s in a row", goal, foreign.Plural(c.Good, "time"))
		if c.Now.Accepted {
			text += ", and " + foreign.Printable(c.Now.Account) + " is accepted"
		}
		if !c.Before.Began.IsZero() && c.Now.Ended.After(c.Before.Began) && c.Before.Outcome == trail.OutcomeFault {
			text += fmt.Sprintf(", %s after the failure was seen", c.Now.Ended.Sub(c.Before.Began).Round(1e9))
		}
		return text + "."
	case trail.ConfirmInterrupted:
		return fmt.Sprintf("Interrupted: %s worked %d of %d times.", goal, c.Good, c.Wanted)
	case trail.ConfirmNoLogin:
		if why == "" {
			why = "no run tried it"
		}
		return fmt.Sprintf("Not yet: %s: everything up to the login works; login not tried: %s.", goal,
			foreign.Printable(why))
	case trail.ConfirmElsewhere:
		failed, here := clientHost(c.Before), clientHost(c.Now)
		return fmt.Sprintf("Not yet: %s works from %s; the failure was seen from %s, and only a run from there "+
			"confirms it (on %s, or with --at client=USER@%s).", goal, here, failed, failed, failed)
	}
	text := fmt.Sprintf("Not yet: %s does not work", goal)
	if c.Now.Outcome != trail.OutcomeFault {
		text = fmt.Sprintf("Not yet: nothing proves that %s works", goal)
		if len(c.Now.Untried) > 0 {
			text += "; not tried: " + foreign.Printable(strings.Join(c.Now.Untried, ", "))
		}
	}
	return text + foreign.Printable(confirm.Said(c.Before, c.Now, c.Progress)) + "."
}

// clientHost is the host that a trail was made from.
func clientHost(t trail.Trail) string { return (&writer{t: t}).client() }

// Closing is what confirming came to, beside the ladder.
type Closing struct {
	Case     int64 // 0: no case was named
	After    time.Duration
	Standing []casebook.Entry // temporary changes that were not undone
	Differs  []string         // from before
	// Wider is what stopped packets before and does not now; Narrow, the rule
	// that lets this client through and nobody else, if one was known.
	Wider  []string
	Narrow trail.Remedy
}

// Closed tells whether a case is closed, what keeps it open, and what differs.
func Closed(c Closing, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	if len(c.Differs) > 0 {
		b.WriteString("\nWhat differs from before, of what was seen both times:\n")
		for _, line := range c.Differs {
			block(&b, "  ", "    ", foreign.Printable(line), width)
		}
	}
	if len(c.Wider) > 0 {
		b.WriteString("\n" + p.as(bold, p.as(yellow, widerSays(c.Wider))) + "\n")
		for _, line := range c.Wider {
			block(&b, "  ", "    ", foreign.Printable(line), width)
		}
		if c.Narrow.Command != "" {
			block(
				&b,
				"",
				"  ",
				fmt.Sprintf("Before it is put back, let this client through alone, on %s:",
					foreign.Printable(c.Narrow.Host)),
				width,
			)
			b.WriteString("    " + p.as(blue, foreign.Printable(c.Narrow.Command)) + "\n")
		} else if c.Narrow.Do != "" {
			block(&b, "", "  ", fmt.Sprintf("Put back what stopped it, and let this client through alone, on %s:",
				foreign.Printable(c.Narrow.Host)), width)
			block(&b, "    ", "    ", foreign.Printable(c.Narrow.Do), width)
		} else {
			block(&b, "", "  ", "Put back what stopped it, and let this client through alone; uakari rules names "+
				"the narrowest rule.", width)
		}
	}
	switch {
	case c.Case == 0:
	case c.After > 0:
		fmt.Fprintf(
			&b,
			"\n%s after %s.\n",
			p.as(bold, fmt.Sprintf("Case %d is closed,", c.Case)),
			c.After.Round(time.Second),
		)
	case len(c.Standing) > 0:
		fmt.Fprintf(
			&b,
			"\n%s\n",
			p.as(bold, fmt.Sprintf("Case %d stays open: what was changed for now still stands.", c.Case)),
		)
		for _, e := range c.Standing {
			block(
				&b,
				"  ",
				"    ",
				fmt.Sprintf("%d: %s. To undo: %s", e.Number, foreign.Printable(e.Text), foreign.Printable(e.Undo)),
				width,
			)
			block(&b, "    then: ", "      ", fmt.Sprintf("uakari case change %d --undone %d", c.Case, e.Number),
				width)
		}
	case len(c.Wider) > 0:
		fmt.Fprintf(&b, "\n%s\n", p.as(bold, fmt.Sprintf("Case %d stays open: more gets in than before.", c.Case)))
		block(&b, "  ", "    ", fmt.Sprintf("if that is meant to stay: uakari case close %d", c.Case), width)
	default:
		fmt.Fprintf(&b, "\nCase %d stays open.\n", c.Case)
	}
	return b.String()
}

// Keeps is for how long resolvers keep the name's answer, which may be what is
// waited for; "" if none says.
func Keeps(set fact.Set) string {
	longest := uint32(0)
	for _, f := range set.Facts {
		if f.Answer != nil && f.Answer.Outcome == fact.Addressed {
			longest = max(longest, f.Answer.TTL)
		}
	}
	if longest == 0 {
		return ""
	}
	return fmt.Sprintf("; its address is kept for %s more", time.Duration(longest)*time.Second)
}

// widerSays is what follows from that something lets more in than before.
func widerSays(wider []string) string {
	all := func(words string) bool {
		return !slices.ContainsFunc(wider, func(line string) bool { return !strings.Contains(line, words) })
	}
	switch {
	case all("a line of a list"):
		return "It works now because the access list lets more in. The list was the cause."
	case all(weigh.ChecksLess):
		return "It works now because less is checked. The check was the cause."
	}
	return "It works now because the filter lets more in. The filter was the cause."
}
