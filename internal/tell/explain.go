package tell

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/foreign"
	"uakari/internal/message"
	"uakari/internal/weigh/catalogue"
)

// mostRemedies is how many remedies of a cause are told without being asked for all.
const mostRemedies = 3

// Explain tells one cause of the catalogue, with its remedies for hosts of a
// system: those of services that the host itself runs before those of containers.
func Explain(e catalogue.Entry, system string, all, colour bool) string {
	e = e.On(system)
	p, places := paint{colour}, placesOf(e.Example, system)
	var b strings.Builder
	b.WriteString(p.as(bold, e.ID+": "+e.Title) + "\n\n")
	for _, part := range []struct{ head, text string }{
		{"What it means", e.Means}, {"From the client", e.Looks}, {"Proven when", e.Proof},
		{"Mistaken for", e.Mistaken},
	} {
		b.WriteString(p.as(bold, part.head) + "\n")
		block(&b, "  ", "  ", upperFirst(strings.TrimSuffix(strings.TrimSpace(part.text), "."))+".", width)
		b.WriteByte('\n')
	}
	b.WriteString(p.as(bold, "What to do, for example where gauge-07 cannot reach tidebook") + "\n")
	contained := func(r catalogue.Remedy) int {
		if strings.Contains(r.Do, "{pod}") || strings.Contains(r.Do, "{container}") {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(e.Remedies, func(a, b catalogue.Remedy) int { return contained(a) - contained(b) })
	for i, r := range e.Remedies {
		if i == mostRemedies && !all {
			fmt.Fprintf(&b, "\n  and %d more for other cases: add --all\n", len(e.Remedies)-i)
			break
		}
		if i > 0 {
			b.WriteByte('\n')
		}
		block(&b, "  ", "  ", upperFirst(places(r.Do))+".", width)
		if r.Command != "" {
			b.WriteString("    " + p.as(blue, places(r.Command)) + "\n")
		}
		block(&b, "  where: ", "         ", fmt.Sprintf("%s (owner: %s)", places(r.Host), places(r.Owner)), width)
		block(&b, "  risk:  ", "         ", places(r.Risk), width)
		block(&b, "  undo:  ", "         ", places(r.Undo), width)
	}
	return b.String()
}

// mostFoundCauses is how many causes are listed for words without being asked for all.
const mostFoundCauses = 10

// Found lists causes that words speak of, in the order given: a line each.
func Found(list []catalogue.Entry, all bool) string {
	var b strings.Builder
	b.WriteString("Causes of it, the most frequent first:\n")
	for i, e := range list {
		if i == mostFoundCauses && !all {
			fmt.Fprintf(&b, "  and %d more: add --all\n", len(list)-i)
			break
		}
		fmt.Fprintf(&b, "  %-26s %s\n", e.ID, e.Title)
	}
	b.WriteString("\nOne of them: uakari explain CAUSE. Which it is: uakari trace ENDPOINT\n")
	return b.String()
}

// mostGiving is how many causes of a message are told without being asked for all.
const mostGiving = 5

// mostMessages is how many messages of a text are told.
const mostMessages = 3

// Messages tells what a text says that somebody was shown: each message in it with what it
// means and which causes give it, and what to type first.
func Messages(found []message.Found, endpoint string, all bool) string {
	var b strings.Builder
	for i, f := range found {
		if i == mostMessages && !all {
			break
		}
		if i > 0 {
			b.WriteByte('\n')
		}
		block(&b, "", "  ", fmt.Sprintf("%q (%s): %s.", foreign.Shortened(f.Quoted), f.About, f.Means), width)
		b.WriteString("Causes, the most frequent first:\n")
		causes := f.Causes
		if !all {
			causes = causes[:min(len(causes), mostGiving)]
		}
		for _, id := range causes {
			e, _ := catalogue.Explain(id)
			fmt.Fprintf(&b, "  %-26s %s\n", id, e.Title)
		}
		if e, ok := catalogue.Explain(f.Causes[0]); ok {
			block(&b, "", "  ", "The first is proven when "+strings.Join(strings.Fields(e.Proof), " "), width)
		}
	}
	if endpoint == "" {
		endpoint = "ENDPOINT"
	} else {
		endpoint = foreign.ShellWord(endpoint)
	}
	fmt.Fprintf(&b, "\nFirst: uakari trace %s\n", endpoint)
	return b.String()
}
