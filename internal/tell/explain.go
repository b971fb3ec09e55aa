package tell

import (
	"strings"
	"uakari/internal/weigh/catalogue"
)

// Explain tells one cause of the catalogue.
func Explain(e catalogue.Entry, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	b.WriteString(p.as(bold, e.ID+": "+e.Title) + "\n\n")
	for _, part := range []struct{ head, text string }{
		{"What it means", e.Means}, {"From the client", e.Looks}, {"Proven when", e.Proof}, {"Mistaken for", e.Mistaken},
	} {
		b.WriteString(p.as(bold, part.head) + "\n")
		block(&b, "  ", "  ", upperFirst(strings.TrimSuffix(strings.TrimSpace(part.text), "."))+".", width)
		b.WriteByte('\n')
	}
	b.WriteString(p.as(bold, "What to do") + "\n")
	for i, r := range e.Remedies {
		if i > 0 {
			b.WriteByte('\n')
		}
		block(&b, "  ", "  ", upperFirst(places(r.Do))+".", width)
		if r.Command != "" {
			b.WriteString("    " + p.as(blue, places(r.Command)) + "\n")
		}
		block(&b, "  where: ", "         ", places(r.Host)+", by "+places(r.Owner), width)
		block(&b, "  risk:  ", "         ", places(r.Risk), width)
		block(&b, "  undo:  ", "         ", places(r.Undo), width)
	}
	return b.String()
}

// places shows the places of a remedy that a trace fills in.
func places(s string) string { return strings.NewReplacer("{", "<", "}", ">").Replace(s) }
