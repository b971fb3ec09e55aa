package gate

import (
	"slices"
	"strings"
	"testing"
)

// TestSymptomTable sees that the table of symptoms does not contradict itself
// and that what nobody can read has a candidate for every gate.
func TestSymptomTable(t *testing.T) {
	for sym := NotTried; sym < symptomCount; sym++ {
		row := Symptoms[sym]
		if row.May&row.Open != 0 {
			t.Errorf("%q: %v may be shut and are surely open", row.says, (row.May & row.Open).List())
		}
		if row.says == "" {
			t.Errorf("symptom %d has no words", sym)
		}
		for _, g := range row.May.List() {
			if sym == Unasked || sym == RefusedByCode || sym.Good() {
				continue // nothing is guessed of the one, and no look ends with the other
			}
			found := slices.ContainsFunc(
				candidateTable,
				func(c candidate) bool { return c.gate == g && slices.Contains(c.symptoms, sym) },
			)
			if !found && !(sym == ServerFirstClosed && g == Session) {
				t.Errorf("%q: no candidate for gate %s", row.says, g)
			}
		}
	}
	for _, c := range candidateTable {
		for _, sym := range c.symptoms {
			if !Symptoms[sym].May.Has(c.gate) {
				t.Errorf("candidate %s: %q cannot come of gate %s", c.cause, Symptoms[sym].says, c.gate)
			}
		}
		if c.alone == "" {
			t.Errorf("candidate %s of gate %s has no words", c.cause, c.gate)
		}
	}
}

// TestCombine is the rules of certainty, one by one, on bare readings.
func TestCombine(t *testing.T) {
	seen := []string{"e1"}
	shut := func(g Gate, cause string) Reading {
		return Reading{Gate: g, Cause: cause, Strength: Read, Because: seen}
	}
	open := func(list ...Gate) []Reading {
		var all []Reading
		for _, g := range list {
			all = append(all, Reading{Gate: g, Strength: Read})
		}
		return all
	}
	for _, c := range []struct {
		rule string
		sym  Symptom
		rs   []Reading
		want string
	}{
		{"1: read shut, and the symptom fits", SilentTCP, []Reading{shut(WayIn, "rules/server-drop")},
			"rules/server-drop proven blocking"},
		{"1: nothing shows it", SilentTCP, []Reading{{Gate: WayIn, Cause: "rules/server-drop", Strength: Read}},
			"rules/server-drop likely blocking"},
		{"1: a missing guard", SilentTCP, []Reading{{Gate: WayIn, Cause: "rules/server-drop", Strength: Read,
			Lacks: []Lack{{Guard: AllRead, Why: "old"}}}}, "rules/server-drop likely blocking"},
		{"2: a later gate is shut too", SilentTCP, []Reading{shut(Session, "certs/expired"),
			shut(WayIn, "rules/server-drop")},
			"rules/server-drop proven blocking, certs/expired proven blocking masked"},
		{"2: two that would show alike: the first one met masks the second", SilentTCP,
			[]Reading{shut(Room, "ports/queue-full"), shut(WayOut, "rules/client-drop")},
			"rules/client-drop proven blocking, ports/queue-full proven blocking masked"},
		{"3: all others are open", RefusedByReset, open(Listener, Way, WayOut, Name, Intent),
			"rules/server-reject likely blocking"},
		{"4: several are left", RefusedByReset, open(Listener, Way, WayOut, Intent),
			"rules/server-reject possible, names/stale-address possible"},
		{"5: the symptom proves it open", Fine, []Reading{shut(WayIn, "rules/server-drop")},
			"rules/server-drop possible"},
		{"5: it would show as something else, and nothing before it may be shut", ICMPFromClient,
			[]Reading{shut(WayOut, "rules/client-reject"), shut(Host, "service/host-down")},
			"rules/client-reject proven blocking, service/host-down proven blocking masked"},
		{"5: a drop does not refuse", RefusedByReset, append(open(Intent, Name, WayOut, Way, Listener),
			Reading{Gate: WayIn, Cause: "rules/server-drop", Strength: Read, Shows: []Symptom{SilentTCP}}),
			"rules/server-reject likely blocking, rules/server-drop possible"},
		{"5: no reply comes back, also none that refuses", SilentTCP,
			[]Reading{{Gate: WayBack, Cause: "rules/return-drop", Strength: Read, Because: seen},
				{Gate: Listener, Cause: "ports/none-listening", Strength: Read, Because: seen,
					Shows: []Symptom{RefusedByReset}}},
			"ports/none-listening proven blocking, rules/return-drop proven blocking masked"},
		{"6: nothing is shut", Fine, nil, ""},
		{"7: everything is open, and yet", RefusedByReset, open(Intent, Name, WayOut, Way, WayIn, Listener), ""},
		{"one fault from two sides", RefusedByReset, []Reading{shut(Listener, "service/stopped"),
			shut(Listener, "ports/none-listening")}, "service/stopped proven blocking"},
		{"a harmless reading never blocks", SilentTCP, []Reading{shut(WayIn, "rules/server-drop"),
			{Gate: Name, Cause: "names/resolver-silent", Strength: Read, Harmless: true, Because: seen}},
			"names/resolver-silent proven, rules/server-drop proven blocking"},
	} {
		t.Run(c.rule, func(t *testing.T) {
			var have []string
			for _, j := range Combine(Ending{Symptom: c.sym}, c.rs, func(Reading) []Lack { return nil }).Causes {
				text := j.Cause + " " + string(j.Certainty)
				if j.Blocking {
					text += " blocking"
				}
				if len(j.MaskedBy) > 0 {
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
