package tell

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/casebook"
	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// Owners is who must do something in a trail, each once, in the order of the fixes.
func Owners(t trail.Trail) []string {
	var list []string
	for _, c := range t.Mendable() {
		for _, m := range c.Remedies[:min(len(c.Remedies), 1)] {
			if !slices.Contains(list, m.Owner) {
				list = append(list, m.Owner)
			}
		}
	}
	return list
}

// Request is what one owner is asked to do about a case, as text for a ticket: what, why with
// the evidence, risk, undo, and how both sides will know that it worked. "" if nothing is
// asked of that owner.
func Request(c casebook.Case, t trail.Trail, owner string) string {
	var b strings.Builder
	evidence := map[string]trail.Evidence{}
	for _, e := range t.Evidence {
		evidence[e.ID] = e
	}
	hosts := map[string]string{}
	for _, v := range t.Vantages {
		hosts[v.ID] = v.Host
	}
	n := 0
	for _, cause := range t.Mendable() {
		if len(cause.Remedies) == 0 || cause.Remedies[0].Owner != owner {
			continue
		}
		m := cause.Remedies[0]
		if n++; n == 1 {
			fmt.Fprintf(&b, "Request to the owner of: %s\n", foreign.Printable(owner))
			fmt.Fprintf(&b, "Case %d, %s: %s, first seen %s.\n", c.ID, foreign.Printable(t.Endpoint.Input),
				foreign.Printable(c.Title), t.Began.UTC().Format("2006-01-02 15:04:05 UTC"))
		}
		b.WriteByte('\n')
		block(&b, fmt.Sprintf("%d. ", n), "   ", fmt.Sprintf("On %s: %s.", foreign.Printable(m.Host),
			foreign.Printable(m.Do)), width)
		for line := range strings.Lines(m.Command) {
			b.WriteString("     " + foreign.Printable(strings.TrimRight(line, "\n")) + "\n")
		}
		block(&b, "   Why: ", "        ", fmt.Sprintf("%s (%s, %s).", foreign.Printable(cause.Summary), cause.ID,
			cause.Certainty), width)
		for _, short := range cause.Short {
			block(&b, "   Not proven: ", "        ", foreign.Printable(short)+".", width)
		}
		for _, id := range cause.Because {
			if e, ok := evidence[id]; ok {
				block(&b, "   Seen: ", "        ", fmt.Sprintf("%s on %s: %s: %s",
					e.At.UTC().Format("15:04:05 UTC"), foreign.Printable(hosts[e.Vantage]),
					foreign.Printable(e.Source), foreign.Printable(e.Saw)), width)
			}
		}
		block(&b, "   Risk: ", "        ", foreign.Printable(m.Risk)+".", width)
		block(&b, "   Undo: ", "        ", foreign.Printable(m.Undo)+".", width)
	}
	if n == 0 {
		return ""
	}
	fmt.Fprintf(&b, "\nDone when: uakari confirm %d says \"Works again\", or names what is left.\n", c.ID)
	return b.String()
}
