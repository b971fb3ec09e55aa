package weigh

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestSymptomTable sees that the table of symptoms does not contradict itself
// and that what nobody can read has a candidate for every gate.
func TestSymptomTable(t *testing.T) {
	for sym := NotTried; sym < symptomCount; sym++ {
		row := symptoms[sym]
		if row.may&row.open != 0 {
			t.Errorf("%q: %v may be shut and are surely open", row.says, (row.may & row.open).list())
		}
		if row.says == "" {
			t.Errorf("symptom %d has no words", sym)
		}
		for _, g := range row.may.list() {
			if sym == Unasked || sym == RefusedByCode {
				continue // nothing is guessed of the one, and no look ends with the other
			}
			found := slices.ContainsFunc(candidateTable, func(c candidate) bool { return c.gate == g && slices.Contains(c.symptoms, sym) })
			if !found && !(sym == ServerFirstClosed && g == Session) {
				t.Errorf("%q: no candidate for gate %s", row.says, g)
			}
		}
	}
	for _, c := range candidateTable {
		for _, sym := range c.symptoms {
			if !symptoms[sym].may.has(c.gate) {
				t.Errorf("candidate %s: %q cannot come of gate %s", c.cause, symptoms[sym].says, c.gate)
			}
		}
		if c.alone == "" {
			t.Errorf("candidate %s of gate %s has no words", c.cause, c.gate)
		}
	}
}

// TestCombine is the rules of certainty, one by one, on bare readings.
func TestCombine(t *testing.T) {
	shut := func(g Gate, cause string) Reading { return Reading{Gate: g, Cause: cause} }
	open := func(list ...Gate) []Reading {
		var all []Reading
		for _, g := range list {
			all = append(all, Reading{Gate: g})
		}
		return all
	}
	for _, c := range []struct {
		rule string
		sym  Symptom
		rs   []Reading
		want string
	}{
		{"1: read shut, and the symptom fits", SilentTCP, []Reading{shut(WayIn, "rules/server-drop")}, "rules/server-drop proven blocking"},
		{"1: a missing guard", SilentTCP, []Reading{{Gate: WayIn, Cause: "rules/server-drop", Short: []string{"old"}}}, "rules/server-drop likely blocking"},
		{"2: a later gate is shut too", SilentTCP, []Reading{shut(Session, "certs/expired"), shut(WayIn, "rules/server-drop")},
			"rules/server-drop proven blocking, certs/expired proven blocking masked"},
		{"2: two that would show alike: the first one met masks the second", SilentTCP, []Reading{shut(Room, "ports/queue-full"), shut(WayOut, "rules/client-drop")},
			"rules/client-drop proven blocking, ports/queue-full proven blocking masked"},
		{"3: all others are open", RefusedByReset, open(Listener, Way, WayOut, Name, Intent), "rules/server-reject likely blocking"},
		{"4: several are left", RefusedByReset, open(Listener, Way, WayOut, Intent), "rules/server-reject possible, names/stale-address possible"},
		{"5: the symptom proves it open", Fine, []Reading{shut(WayIn, "rules/server-drop")}, "rules/server-drop possible"},
		{"5: it would show as something else, and nothing before it may be shut", ICMPFromClient, []Reading{shut(WayOut, "rules/client-reject"), shut(Host, "service/host-down")},
			"rules/client-reject proven blocking, service/host-down proven blocking masked"},
		{"5: a drop does not refuse", RefusedByReset, append(open(Intent, Name, WayOut, Way, Listener), Reading{Gate: WayIn, Cause: "rules/server-drop", Shows: []Symptom{SilentTCP}}),
			"rules/server-reject likely blocking, rules/server-drop possible"},
		{"6: nothing is shut", Fine, nil, ""},
		{"7: everything is open, and yet", RefusedByReset, open(Intent, Name, WayOut, Way, WayIn, Listener), ""},
		{"one fault from two sides", RefusedByReset, []Reading{shut(Listener, "service/stopped"), shut(Listener, "ports/none-listening")}, "service/stopped proven blocking"},
		{"a harmless reading never blocks", SilentTCP, []Reading{shut(WayIn, "rules/server-drop"), {Gate: Name, Cause: "names/resolver-silent", Harmless: true}},
			"names/resolver-silent proven, rules/server-drop proven blocking"},
	} {
		t.Run(c.rule, func(t *testing.T) {
			var have []string
			for _, j := range combine(c.sym, c.rs).causes {
				text := j.Cause + " " + string(j.certainty)
				if j.blocking {
					text += " blocking"
				}
				if len(j.maskedBy) > 0 {
					text += " masked"
				}
				have = append(have, text)
			}
			if got := strings.Join(have, ", "); got != c.want {
				t.Errorf("\n got %s\nwant %s", got, c.want)
			}
		})
	}
}

// causesInCode is every catalogue identifier that the package's code names.
func causesInCode(t *testing.T) []string {
	files, err := filepath.Glob("*.go")
	if err != nil {
		t.Fatal(err)
	}
	var ids []string
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			lit, ok := n.(*ast.BasicLit)
			if !ok || lit.Kind != token.STRING {
				return true
			}
			id := strings.Trim(lit.Value, `"`)
			rung, name, ok := strings.Cut(id, "/")
			if ok && slices.Contains(trail.Ladder, trail.Rung(rung)) && name != "" {
				ids = append(ids, id)
			}
			return true
		})
	}
	return ids
}

// TestCatalogue sees that every cause in the code is explained in full, and
// every cause explained can be found.
func TestCatalogue(t *testing.T) {
	inCode := causesInCode(t)
	if len(inCode) < 30 {
		t.Fatalf("only %d causes in the code: the search for them is broken", len(inCode))
	}
	for _, id := range inCode {
		e, ok := Explain(id)
		if !ok {
			t.Errorf("%s: not in the catalogue", id)
			continue
		}
		for what, text := range map[string]string{"title": e.Title, "means": e.Means, "looks": e.Looks, "proof": e.Proof, "mistaken": e.Mistaken} {
			if strings.TrimSpace(text) == "" {
				t.Errorf("%s: no %s", id, what)
			}
		}
		if len(e.Remedies) == 0 {
			t.Errorf("%s: no remedy", id)
		}
		for _, r := range e.Remedies {
			if r.Do == "" || r.Host == "" || r.Owner == "" || r.Risk == "" || r.Undo == "" {
				t.Errorf("%s: a remedy lacks a part: %+v", id, r)
			}
		}
	}
	for _, id := range CauseIDs() {
		if !slices.Contains(inCode, id) {
			t.Errorf("%s is explained and never found", id)
		}
	}
	for winner, losers := range tellsMore {
		for _, id := range append(losers, winner) {
			if _, ok := Explain(id); !ok {
				t.Errorf("tellsMore names %s, which is not in the catalogue", id)
			}
		}
	}
}

// TestRemedyPlaces sees that values from outside are quoted in commands.
func TestRemedyPlaces(t *testing.T) {
	got := remediesFor("service/stopped", values{"unit": "a;reboot", "server": "tidebook", "program": "x", "path": "/x"})
	if len(got) != 1 || got[0].Command != "systemctl start 'a;reboot'" || got[0].Undo != "systemctl stop 'a;reboot'" {
		t.Errorf("got %+v", got)
	}
	for in, want := range map[string]string{"": "''", "a b": "'a b'", "it's": `'it'\''s'`, "nginx@1.service": "nginx@1.service", "$(x)": "'$(x)'"} {
		if got := ShellWord(in); got != want {
			t.Errorf("ShellWord(%q) = %s, want %s", in, got, want)
		}
	}
}
