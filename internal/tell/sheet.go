package tell

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// SheetDraft is a first sheet with a comment at every part.
const SheetDraft = `# What stands between clients and servers, and no host can be asked for.
format: uakari.sheet/1
name: office                       # short; trails name it
groups:                            # lists of addresses, nets, ranges and other groups
  gauges: [10.20.7.0/24]
  guests: [10.20.7.200-10.20.7.220]
layers:                            # in the order in which packets meet them
  - name: portal group
    kind: stateful                 # replies follow; stateless: each direction by itself
    guards: [10.20.0.0/24]         # whom it stands before
    order: first                   # the first match decides; any: an allow suffices, and a deny wins
    otherwise: deny                # what no rule names
    in:                            # to those it guards; out: from them
      - {name: portal, do: allow, from: [gauges], not-from: [guests], transport: tcp, ports: [443]}
# routes:
#   - name: gauges
#     for: [gauges]                # whose packets it sends on
#     table:
#       - {to: 10.20.0.0/24, via: heron}   # via: none drops
# scopes:                          # whose clients an application serves
#   groups: [{name: field, serves: ['10.20.0.14:443']}]
#   ranges: [{range: 10.20.7.0/24, group: field}]
# sign-in:                         # who may sign in, from where, with what
#   accounts: {ana: [admins], upload: [programs]}
#   admins: admins                 # nobody should shut all of these out
#   services: programs             # accounts of programs, which have no second factor
#   rules:
#     - {name: programs at home, do: allow, who: [programs], from: [gauges]}
#     - {name: outside, do: require, require: second-factor, who: [all], not-from: [gauges]}
# forwards:                        # addresses that lead on to others
#   - {name: portal, from: '10.20.0.40:443', to: ['10.20.0.14:443']}
# machines:                        # by the word of those who run them
#   - {address: 10.20.0.14, name: tidebook, power: on, checks: passed, console: 'https://heron.varzea.example/tidebook', at: 2026-11-23T10:41:07Z}
`

// bare is a text that YAML reads as itself without quotes.
var bare = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_./ -]*$`) })

// inYAML is a text as YAML reads it back.
func inYAML(text string) string {
	text = foreign.Printable(text)
	word := map[string]bool{"on": true, "off": true, "yes": true, "no": true, "true": true, "false": true,
		"null": true}
	if bare().MatchString(text) && !word[strings.ToLower(text)] && strings.TrimSpace(text) == text {
		return text
	}
	quoted, err := json.Marshal(text)
	if err != nil {
		return `""`
	}
	return string(quoted)
}

func listInYAML(list []string) string {
	parts := make([]string, len(list))
	for i, text := range list {
		parts[i] = inYAML(text)
	}
	return "[" + strings.Join(parts, ", ") + "]"
}

// SheetText is a sheet as a file, with notes of what could not be taken over at
// its head.
func SheetText(s fact.Sheet, notes []string) string {
	var b strings.Builder
	for _, note := range notes {
		block(&b, "# ", "#   ", foreign.Printable(note), width)
	}
	fmt.Fprintf(&b, "format: %s\nname: %s\n", foreign.Printable(s.Format), inYAML(s.Name))
	if len(s.Groups) > 0 {
		b.WriteString("groups:\n")
		for _, name := range slices.Sorted(maps.Keys(s.Groups)) {
			fmt.Fprintf(&b, "  %s: %s\n", inYAML(name), listInYAML(s.Groups[name]))
		}
	}
	if len(s.Layers) > 0 {
		b.WriteString("layers:\n")
	}
	for _, l := range s.Layers {
		fmt.Fprintf(
			&b,
			"  - name: %s\n    kind: %s\n    order: %s\n    otherwise: %s\n    guards: %s\n",
			inYAML(l.Name),
			inYAML(l.Kind),
			inYAML(l.Order),
			inYAML(l.Otherwise),
			listInYAML(l.Guards),
		)
		for _, side := range []struct {
			name  string
			rules []fact.SheetRule
		}{{"in", l.In}, {"out", l.Out}} {
			if len(side.rules) > 0 {
				fmt.Fprintf(&b, "    %s:\n", side.name)
			}
			for _, r := range side.rules {
				fmt.Fprintf(&b, "      - {%s}\n", strings.Join(ruleInYAML(r), ", "))
			}
		}
	}
	if len(s.Routes) > 0 {
		b.WriteString("routes:\n")
	}
	for _, r := range s.Routes {
		fmt.Fprintf(&b, "  - name: %s\n    for: %s\n    table:\n", inYAML(r.Name), listInYAML(r.For))
		for _, entry := range r.Table {
			fmt.Fprintf(&b, "      - {to: %s, via: %s}\n", inYAML(entry.To), inYAML(entry.Via))
		}
	}
	if len(s.Forwards) > 0 {
		b.WriteString("forwards:\n")
	}
	for _, f := range s.Forwards {
		fmt.Fprintf(&b, "  - name: %s\n    from: %s\n    to: %s\n", inYAML(f.Name), inYAML(f.From), listInYAML(f.To))
		if f.Why != "" {
			fmt.Fprintf(&b, "    why: %s\n", inYAML(f.Why))
		}
	}
	return b.String()
}

func ruleInYAML(r fact.SheetRule) []string {
	var parts []string
	if r.Name != "" {
		parts = append(parts, "name: "+inYAML(r.Name))
	}
	parts = append(parts, "do: "+inYAML(r.Do))
	for _, each := range []struct {
		key  string
		list []string
	}{{"from", r.From}, {"not-from", r.NotFrom}, {"to", r.To}, {"not-to", r.NotTo}} {
		if len(each.list) > 0 {
			parts = append(parts, each.key+": "+listInYAML(each.list))
		}
	}
	if r.Transport != "" {
		parts = append(parts, "transport: "+inYAML(r.Transport))
	}
	if len(r.Ports) > 0 {
		parts = append(parts, "ports: "+listInYAML(r.Ports))
	}
	return parts
}

// SheetChecked says that a sheet is well, how much it holds, and what in it is
// odd.
func SheetChecked(path string, s fact.Sheet, doubts []string) string {
	var b strings.Builder
	rules := 0
	for _, l := range s.Layers {
		rules += len(l.In) + len(l.Out)
	}
	fmt.Fprintf(
		&b,
		"%s: well (%s: %s, %s)\n",
		foreign.Printable(path),
		foreign.Printable(s.Name),
		foreign.Plural(len(s.Layers), "layer"),
		foreign.Plural(rules, "rule"),
	)
	for _, text := range doubts {
		block(&b, "  doubt: ", "         ", foreign.Printable(text), width)
	}
	return b.String()
}

// SheetShown is a sheet as a page for people.
func SheetShown(s fact.Sheet, doubts []string, now time.Time, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	fmt.Fprintln(&b, p.as(bold, foreign.Printable(s.Name)))
	row := func(first, text string) {
		block(&b, first, strings.Repeat(" ", len(first)), foreign.Printable(text), width)
	}
	for _, name := range slices.Sorted(maps.Keys(s.Groups)) {
		row(fmt.Sprintf("  %-12s ", foreign.Printable(name)), cmp.Or(strings.Join(s.Groups[name], ", "), "nobody yet"))
	}
	for _, l := range s.Layers {
		fmt.Fprintf(&b, "\n%s\n", p.as(bold, "Layer "+foreign.Printable(l.Name)))
		how := map[string]string{"stateful": "replies follow", "stateless": "each direction by itself"}[l.Kind]
		order := map[string]string{"first": "the first match decides",
			"any": "an allow suffices, and a deny wins"}[l.Order]
		row("  ", fmt.Sprintf("before %s; %s; %s; else %s", strings.Join(l.Guards, ", "), how, order, l.Otherwise))
		if l.Off {
			row("  ", "switched off")
		}
		for _, side := range []struct {
			name  string
			rules []fact.SheetRule
		}{{"in", l.In}, {"out", l.Out}} {
			for i, r := range side.rules {
				row(fmt.Sprintf("  %-4s %2d  ", side.name, i+1), ruleInWords(r))
			}
		}
	}
	section := func(name string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintf(&b, "\n%s\n", p.as(bold, name))
		}
		for _, line := range lines {
			block(&b, "  ", "    ", foreign.Printable(line), width)
		}
	}
	var routes, forwards, machines []string
	for _, t := range s.Routes {
		for _, entry := range t.Table {
			routes = append(routes, fmt.Sprintf("%s: %s via %s", cmp.Or(t.Name, strings.Join(t.For, ", ")), entry.To,
				entry.Via))
		}
	}
	for _, f := range s.Forwards {
		forwards = append(
			forwards,
			strings.TrimSuffix(
				fmt.Sprintf("%s (%s): %s; %s", f.Name, f.From, cmp.Or(strings.Join(f.To, ", "), "nobody"), f.Why),
				"; ",
			),
		)
	}
	for _, m := range s.Machines {
		text := fmt.Sprintf("%s (%s): power %s", cmp.Or(m.Name, m.Address), m.Address, m.Power)
		for _, more := range []struct{ when, says string }{{m.Checks, "checks " + m.Checks},
			{m.Console, "console " + m.Console}} {
			if more.when != "" {
				text += ", " + more.says
			}
		}
		machines = append(machines, text+", "+foreign.Since(now, m.At))
	}
	section("Routes", routes)
	section("Leads on", forwards)
	section("Machines", machines)
	section("Doubts", doubts)
	return b.String()
}

// ruleInWords is a rule as a line for people.
func ruleInWords(r fact.SheetRule) string {
	text := r.Do
	for _, each := range []struct {
		word string
		list []string
	}{{"from", r.From}, {"not from", r.NotFrom}, {"to", r.To}, {"not to", r.NotTo}} {
		if len(each.list) > 0 {
			text += " " + each.word + " " + strings.Join(each.list, ", ")
		}
	}
	text += " " + cmp.Or(r.Transport, "anything")
	if len(r.Ports) > 0 {
		text += " " + strings.Join(r.Ports, ", ")
	}
	if r.Name != "" {
		text += "  (" + r.Name + ")"
	}
	return text
}
