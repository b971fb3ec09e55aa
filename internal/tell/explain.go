package tell

import (
	"strings"

	"uakari/internal/weigh/catalogue"
)

// Explain tells one cause of the catalogue, with its remedies for hosts of a
// system.
func Explain(e catalogue.Entry, system string, colour bool) string {
	e = e.On(system)
	p, places := paint{colour}, placesOf(e.ID, system)
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

// Found lists causes that were looked for by words: those that a client sees
// so, and those that speak of it.
func Found(seen, named []catalogue.Entry) string {
	var b strings.Builder
	for _, part := range []struct {
		head string
		list []catalogue.Entry
	}{{"Seen from the client so:\n", seen}, {"Speaks of it:\n", named}} {
		if len(part.list) == 0 {
			continue
		}
		if b.Len() > 0 {
			b.WriteByte('\n')
		}
		b.WriteString(part.head)
		for _, e := range part.list {
			block(&b, "  ", "    ", e.ID+": "+e.Title, width)
			block(&b, "    proven when ", "    ", strings.Join(strings.Fields(e.Proof), " "), width)
		}
	}
	return b.String()
}
