package scene

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
)

// lettingIn reports whether a line of a list lets clients in by their names:
// of lists that are asked, by services that look the names up.
func (v *Scene) lettingIn(a *fact.Access, file fact.AccessFile, line fact.Line) bool {
	fields := strings.Fields(line.Text)
	if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
		return false
	}
	switch file.Kind {
	case fact.ListWrapperAllow:
		return len(a.Wrapped) > 0 && !strings.EqualFold(fields[len(fields)-1], "deny")
	case fact.ListHBA:
		return v.Protocol.List == fact.ListHBA && !slices.Contains(fields, "reject")
	case fact.ListMySQL:
		return v.Protocol.List == fact.ListMySQL
	case fact.ListSSH:
		var lines []program.SSHLine
		for _, f := range a.Files {
			if f.Kind == fact.ListSSH {
				lines = append(lines, program.SSHLines(nil, f, 0)...)
			}
		}
		return v.Protocol.List == fact.ListSSH && strings.EqualFold(fields[0], "AllowUsers") &&
			program.SSHUsesNames(lines)
	}
	return false
}

// ReverseReading reads a list that names this client, whose address does not
// lead back to that name: the service cannot know that it is meant.
func (v *Scene) ReverseReading(w *Wants, t *Try, source netip.Addr) (gate.Reading, bool) {
	if t.Server == "" || !source.IsValid() {
		return gate.Reading{}, false
	}
	for _, f := range v.Facts(t.Server, fact.LookAccess) {
		if f.Access == nil {
			continue
		}
		for _, file := range f.Access.Files {
			for _, line := range file.Lines {
				name := namedIn(line.Text, v.Host(v.Client))
				if name == "" || !v.lettingIn(f.Access, file, line) {
					continue
				}
				place := fmt.Sprintf("%s, line %d", file.Path, line.Number)
				if r, ok := v.leadsElsewhere(w, t, source, f, place, name); ok {
					return r, true
				}
			}
		}
	}
	return gate.Reading{}, false
}

// leadsElsewhere reads that the client's address does not lead back to the name by which a
// line of a list lets it in: looked up on the server, or else on the client, whose resolver
// may say another thing.
func (v *Scene) leadsElsewhere(w *Wants, t *Try, source netip.Addr, list *fact.Fact, line, name string) (
	gate.Reading, bool) {
	target := fact.Target{Addr: source}
	w.Add(Want{Look: fact.LookReverse, At: fact.Server, On: t.Server, Target: target, Gate: gate.Door})
	seen := v.Facts(t.Server, fact.LookReverse)
	of := func(f *fact.Fact) bool { return f.Reverse != nil && f.Order.Target == target }
	if len(seen) > 0 && !slices.ContainsFunc(seen, of) {
		w.Add(Want{Look: fact.LookReverse, At: fact.Client, Target: target, Gate: gate.Door})
		seen = v.Facts(v.Client, fact.LookReverse)
	}
	for _, back := range seen {
		if !of(back) || slices.Contains(back.Reverse.Back, name) {
			continue
		}
		says := "has no name"
		if len(back.Reverse.Names) > 0 {
			says = "leads to " + strings.Join(back.Reverse.Names, ", ")
		}
		r := gate.Reading{
			Gate:     gate.Door,
			Cause:    "names/reverse-differs",
			Strength: gate.Read,
			Reach:    gate.Elsewhere,
			Because:  FactIDs(list, back),
			Vantage:  t.Server,
			Summary: fmt.Sprintf("%s, lets %s in by name, and its address %s %s, looked up on %s", line, name, source, says,
				v.Host(back.Vantage)),
			Values: v.Place(
				t,
				catalogue.Values{
					"address": source.String(),
					"name":    name,
					"zone":    "the reverse zone of " + source.String(),
					"server":  v.Host(t.Server),
				},
			),
		}
		if back.Vantage != t.Server {
			r.Lacks = []gate.Lack{{Guard: gate.OneMeaning,
				Why: "it was not looked up on " + v.Host(t.Server) + ", whose resolver may give another name"}}
		}
		return r, true
	}
	return gate.Reading{}, false
}

// namedIn is the full name of a host in a line, if its first label is the
// host's; "" if there is none.
func namedIn(line, host string) string {
	for _, word := range strings.FieldsFunc(line, func(r rune) bool {
		return r == ' ' || r == '\t' || r == ',' ||
			r == ';' || r == '@'
	}) {
		first, _, dotted := strings.Cut(word, ".")
		if dotted && host != "" && strings.EqualFold(first, host) {
			return strings.ToLower(strings.TrimSuffix(word, "."))
		}
	}
	return ""
}
