package tell

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/plain"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// Short is what is in the way, in a few words.
func Short(t trail.Trail) string {
	for _, c := range t.Causes {
		if c.Blocking {
			return plain.Printable(c.ID)
		}
	}
	return string(t.Outcome)
}

// Confirmed sets a trail before beside the one after, rung by rung, the
// answer first.
func Confirmed(before, now trail.Trail, good, times int, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	for _, line := range wrap(confirmAnswer(before, now, good, times), width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	fmt.Fprintf(&b, "\n  %-10s %-8s %-8s\n", "", "before", "now")
	for i, rung := range now.Rungs {
		was := trail.Unseen
		if i < len(before.Rungs) {
			was = before.Rungs[i].State
		}
		note := ""
		if was != rung.State {
			note = plain.Printable(rung.Summary)
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
	for _, c := range now.Causes {
		if c.Blocking {
			block(
				&b,
				"\nStill: ",
				"       ",
				plain.Printable(c.Summary)+fmt.Sprintf(" (%s, %s).", plain.Printable(c.ID), c.Certainty),
				width,
			)
		}
	}
	return b.String()
}

// padded is a state as the ladder writes it, in a column.
func padded(p paint, s trail.State) string {
	word := string(s)
	if s == trail.Fault {
		word = strings.ToUpper(word)
	}
	return p.as(stateColours[s], fmt.Sprintf("%-8s", word))
}

func confirmAnswer(before, now trail.Trail, good, times int) string {
	goal := now.Endpoint.Input
	switch {
	case good >= times:
		text := fmt.Sprintf("Works again: %s, %d times in a row", plain.Printable(goal), good)
		if !before.Began.IsZero() && now.Ended.After(before.Began) && before.Outcome == trail.OutcomeFault {
			text += fmt.Sprintf(", %s after the failure was seen", now.Ended.Sub(before.Began).Round(1e9))
		}
		return text + "."
	case now.Incomplete == "interrupted":
		return fmt.Sprintf("Interrupted: %s worked %d of %d times.", plain.Printable(goal), good, times)
	}
	text := fmt.Sprintf("Not yet: %s does not work", plain.Printable(goal))
	if from, to := worst(before), worst(now); to > from && to < len(trail.Ladder) && from < len(trail.Ladder) {
		return text + fmt.Sprintf(
			", but further: %s was in the way, now it is %s.",
			trail.Ladder[from],
			trail.Ladder[to],
		)
	}
	if Short(before) != Short(now) {
		return text + fmt.Sprintf(
			"; what is in the way is another thing now: %s was, %s is.",
			Short(before),
			Short(now),
		)
	}
	return text + ", for the same reason as before."
}

// worst is the first rung with a fault, by its place on the ladder; past the
// end for none.
func worst(t trail.Trail) int {
	for i, r := range t.Rungs {
		if r.State == trail.Fault {
			return i
		}
	}
	return len(trail.Ladder)
}

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
			block(&b, "  ", "    ", plain.Printable(line), width)
		}
	}
	if len(c.Wider) > 0 {
		b.WriteString("\n" + p.as(bold, p.as(yellow, widerSays(c.Wider))) + "\n")
		for _, line := range c.Wider {
			block(&b, "  ", "    ", plain.Printable(line), width)
		}
		if c.Narrow.Command != "" {
			block(
				&b,
				"",
				"  ",
				fmt.Sprintf("Before it is put back, let this client through alone, on %s:",
					plain.Printable(c.Narrow.Host)),
				width,
			)
			b.WriteString("    " + p.as(blue, plain.Printable(c.Narrow.Command)) + "\n")
		} else if c.Narrow.Do != "" {
			block(&b, "", "  ", fmt.Sprintf("Put back what stopped it, and let this client through alone, on %s:",
				plain.Printable(c.Narrow.Host)), width)
			block(&b, "    ", "    ", plain.Printable(c.Narrow.Do), width)
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
				fmt.Sprintf("%d: %s. To undo: %s", e.Number, plain.Printable(e.Text), plain.Printable(e.Undo)),
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
		return "It works with a list wider than before: so it was the list."
	case all(weigh.ChecksLess):
		return "It works with less checked than before: so it was the check."
	}
	return "It works with the filter wider than before: so it was the filter."
}
