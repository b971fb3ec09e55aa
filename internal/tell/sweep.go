package tell

import (
	"fmt"
	"strings"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// mostNamed is how many clients of a cause are named; the rest are counted.
const mostNamed = 6

// SweepConfirmed tells how much of what failed in a sweep works now, by the cause
// that it had.
func SweepConfirmed(before, now trail.Sweep, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	works := map[string]bool{}
	seen := map[string]bool{}
	for _, r := range now.Rows {
		key := r.Client + "\x00" + r.Endpoint
		seen[key] = r.Unseen == ""
		works[key] = r.Outcome == trail.OutcomeClear
	}
	type count struct{ of, good, unseen int }
	var order []string
	by := map[string]*count{}
	all := count{}
	for _, r := range before.Rows {
		if r.Outcome == trail.OutcomeClear {
			continue
		}
		cause := r.Cause
		switch {
		case r.Unseen != "":
			cause = "could not be checked"
		case cause == "":
			cause = "no cause was known"
		}
		if by[cause] == nil {
			by[cause] = &count{}
			order = append(order, cause)
		}
		key := r.Client + "\x00" + r.Endpoint
		for _, c := range []*count{by[cause], &all} {
			c.of++
			switch {
			case !seen[key]:
				c.unseen++
			case works[key]:
				c.good++
			}
		}
	}
	tint, text := green, fmt.Sprintf("Works again: all %s that failed.", tries(all.of))
	switch {
	case all.good+all.unseen < all.of:
		tint, text = red, fmt.Sprintf("Not yet: %d of %s that failed work now.", all.good, tries(all.of))
	case all.unseen > 0:
		tint, text = yellow, fmt.Sprintf("Not known: %d of %s that failed could not be tried again; the rest works.",
			all.unseen, tries(all.of))
	}
	for _, line := range wrap(text, width) {
		b.WriteString(p.as(bold, p.as(tint, line)) + "\n")
	}
	b.WriteByte('\n')
	for _, cause := range order {
		c := by[cause]
		line := fmt.Sprintf("  %-28s %d of %d work now", foreign.Printable(cause), c.good, c.of)
		if c.unseen > 0 {
			line += fmt.Sprintf(", %d not tried again", c.unseen)
		}
		b.WriteString(line + "\n")
	}
	if all.good < all.of && len(now.Groups) > 0 {
		b.WriteString("\nWhat still fails:\n\n")
		b.WriteString(Sweep(now, colour))
	}
	return b.String()
}

// Sweep tells the result of many traces: by cause, not by host, and what the
// hosts of each cause have in common.
func Sweep(s trail.Sweep, colour bool) string {
	var b strings.Builder
	p := paint{colour}
	failing, unseen, clear := tally(s)
	tint, text := green, fmt.Sprintf("Yes: every client reaches every endpoint (%s).", tries(clear))
	switch {
	case failing > 0:
		tint, text = red, fmt.Sprintf(
			"No: %d of %s end badly, from %s.",
			failing,
			tries(failing+clear),
			clients(failingClients(s)),
		)
	case clear == 0:
		tint, text = yellow, "Not known: no client could be checked."
	case unseen > 0:
		tint, text = yellow, fmt.Sprintf("Not known: %s could not be checked; the rest works (%s).", clients(unseen),
			tries(clear))
	}
	for _, line := range wrap(text, width) {
		b.WriteString(p.as(bold, p.as(tint, line)) + "\n")
	}
	if s.Incomplete != "" {
		b.WriteString("Not complete: " + s.Incomplete + "; --resume goes on where it ended.\n")
	}
	for i, g := range s.Groups {
		cause := g.Cause
		if cause == "" {
			cause = "no cause is known"
		} else if g.Certainty != "" {
			cause += ", " + g.Certainty
		}
		b.WriteByte('\n')
		b.WriteString(p.as(bold, fmt.Sprintf("%d. %s of %d: %s", i+1, clients(len(g.Clients)), len(s.Clients),
			cause)) + "\n")
		block(&b, "   ", "   ", foreign.Printable(g.Summary), width)
		block(&b, "   clients:   ", "              ", foreign.Printable(some(g.Clients)), width)
		block(&b, "   endpoints: ", "              ", foreign.Printable(some(g.Endpoints)), width)
		o := g.Origin
		if o == nil {
			says := "no one thing that was seen sets them apart from those that work"
			if g.Everybody {
				says = "not the clients': nobody reaches it"
			}
			block(&b, "   origin:    ", "              ", says, width)
			continue
		}
		block(
			&b,
			"   origin:    ",
			"              ",
			fmt.Sprintf("%d of %d failing hosts and %d of %d working ones have %s (%s)",
				o.With, o.Of, o.Others, o.OfOthers, foreign.Printable(o.Feature), chance(o.Chance)),
			width,
		)
		if len(o.Also) > 0 {
			block(&b, "              ", "              ", "they share too: "+foreign.Printable(some(o.Also)), width)
		}
		block(
			&b,
			"   fix:       ",
			"              ",
			fmt.Sprintf("at the origin, what all with %s share; else it comes back", foreign.Printable(o.Feature)),
			width,
		)
	}
	if unseen > 0 {
		b.WriteByte('\n')
		block(&b, "", "  ", fmt.Sprintf("%s could not be checked:", clients(unseen)), width)
		told := map[string]bool{}
		for _, r := range s.Rows {
			if r.Unseen != "" && !told[r.Client] && len(told) < mostNamed {
				told[r.Client] = true
				block(&b, "  ", "    ", foreign.Printable(r.Client+": "+r.Unseen), width)
			}
		}
	}
	return b.String()
}

// tally is how many tries failed, how many clients could not be looked at, and
// how many tries were well.
func tally(s trail.Sweep) (failing, unseen, clear int) {
	lost := map[string]bool{}
	for _, r := range s.Rows {
		switch {
		case r.Unseen != "":
			lost[r.Client] = true
		case r.Outcome == trail.OutcomeClear:
			clear++
		default:
			failing++
		}
	}
	return failing, len(lost), clear
}

func failingClients(s trail.Sweep) int {
	seen := map[string]bool{}
	for _, r := range s.Rows {
		if r.Unseen == "" && r.Outcome != trail.OutcomeClear {
			seen[r.Client] = true
		}
	}
	return len(seen)
}

func clients(n int) string {
	if n == 1 {
		return "1 client"
	}
	return fmt.Sprintf("%d clients", n)
}

func tries(n int) string {
	if n == 1 {
		return "1 try"
	}
	return fmt.Sprintf("%d tries", n)
}

// some is the first of a list, and how many more there are.
func some(list []string) string {
	text := strings.Join(list[:min(len(list), mostNamed)], ", ")
	if more := len(list) - mostNamed; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// chance tells how likely something is by chance.
func chance(p float64) string {
	switch {
	case p <= 1e-6:
		return "by chance: less than once in a million"
	case p >= 0.01:
		return fmt.Sprintf("by chance: %.0f times in a hundred", p*100)
	}
	return fmt.Sprintf("by chance: once in %.0f", 1/p)
}

// Letters of the matrix, by what became of a try.
var letters = map[trail.Outcome]string{trail.OutcomeClear: "·", trail.OutcomeFault: "F", trail.OutcomeUnsure: "?"}

// Matrix is a sweep as a page: clients by endpoints, each coloured and lettered.
func Matrix(s trail.Sweep) string {
	rows := map[[2]string]trail.SweepRow{}
	for _, r := range s.Rows {
		rows[[2]string{r.Client, r.Endpoint}] = r
	}
	number := map[string]int{}
	for i, g := range s.Groups {
		number[g.Cause] = i + 1
	}
	var b strings.Builder
	b.WriteString(
		"<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" " +
			"content=\"width=device-width\">\n<title>" + escape(
			s.Plan,
		) + "</title>\n<style>" + matrixStyle + "</style>\n",
	)
	failing, _, clear := tally(s)
	fmt.Fprintf(
		&b,
		"<h1>%s</h1>\n<p>%d of %s end badly; %s.</p>\n",
		escape(s.Plan),
		failing,
		tries(failing+clear),
		escape(s.Ended.UTC().Format("2006-01-02 15:04")),
	)
	b.WriteString("<ol>\n")
	for _, g := range s.Groups {
		fmt.Fprintf(
			&b,
			"<li><b>%s</b> from %s: %s",
			escape(orElse(g.Cause, "no cause is known")),
			clients(len(g.Clients)),
			escape(g.Summary),
		)
		if o := g.Origin; o != nil {
			fmt.Fprintf(
				&b,
				"<br>%d of %d failing hosts and %d of %d working ones have <b>%s</b> (%s)",
				o.With,
				o.Of,
				o.Others,
				o.OfOthers,
				escape(o.Feature),
				chance(o.Chance),
			)
		}
		b.WriteString("</li>\n")
	}
	b.WriteString("</ol>\n<table>\n<tr><th></th>")
	for _, e := range s.Endpoints {
		fmt.Fprintf(&b, "<th class=\"turn\"><span>%s</span></th>", escape(e))
	}
	b.WriteString("</tr>\n")
	for _, c := range s.Clients {
		fmt.Fprintf(&b, "<tr><th scope=\"row\">%s</th>", escape(c))
		for _, e := range s.Endpoints {
			r, ok := rows[[2]string{c, e}]
			letter, class, says := letters[r.Outcome], string(r.Outcome), r.Summary
			switch {
			case !ok, letter == "": // what is no outcome stands on no page
				letter, class = " ", "none"
			case r.Unseen != "":
				letter, class, says = "-", "none", r.Unseen
			case r.Outcome == trail.OutcomeFault && number[r.Cause] > 0:
				letter = fmt.Sprint(number[r.Cause])
			}
			fmt.Fprintf(&b, "<td class=\"%s\" title=\"%s\">%s</td>", class, escape(says), letter)
		}
		b.WriteString("</tr>\n")
	}
	b.WriteString(
		"</table>\n<p>A dot: reached. A number: the cause of that number. ?: unsure. A dash: could not be looked " +
			"at.</p>\n</html>\n",
	)
	return b.String()
}

const matrixStyle = `:root{color-scheme:light dark}
body{font:15px/1.45 system-ui,sans-serif;margin:2em;max-width:70em;color:#1c1c1c;background:#fff}
table{border-collapse:collapse}th{font-weight:normal;text-align:left;padding:.15em
.6em}td{width:1.7em;text-align:center;border:1px solid #bbb;font-weight:600}
.turn{height:14em;vertical-align:bottom;padding:0}.turn
span{writing-mode:vertical-rl;transform:rotate(180deg);white-space:nowrap}
.clear{background:#e3f1e6;color:#1d5a2c}.fault{background:#f6d9d6;color:#7c1712}
.unsure{background:#f7edcf;color:#634a00}.none{color:#666}
@media (prefers-color-scheme:dark){body{background:#15181c;color:#e6e6e6}td{border-color:#444}
.clear{background:#17331f;color:#a9dfb6}.fault{background:#48191a;color:#ffc2bc}
.unsure{background:#3d3310;color:#f1dc97}.none{color:#aaa}}`

func orElse(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

func escape(text string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;").Replace(foreign.Printable(text))
}
