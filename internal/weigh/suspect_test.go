package weigh

import (
	"testing"

	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
)

// TestSuspect asks, of what was recorded of real faults, for every rung and for every cause
// that was found: the truth is never excluded. How often a rung that is not it is excluded is
// counted.
func TestSuspect(t *testing.T) {
	known := func(id string) bool { _, ok := catalogue.Explain(id); return ok }
	names, sets := recorded(t)
	excluded, others := 0, 0
	for _, name := range names {
		judged, _ := Weigh(sets[name])
		blocks := map[string]bool{}
		for _, c := range judged.Blocking() {
			blocks[string(c.Rung)], blocks[c.ID] = true, true
			s, ok := judged.Suspect(c.ID, known)
			if !ok || s.Is == trail.ItIsNot || c.Certainty == trail.Proven && s.Is != trail.ItIs || s.Text == "" {
				t.Errorf("%s: %s: %+v", name, c.ID, s)
			}
		}
		for _, rung := range trail.Ladder {
			s, ok := judged.Suspect(string(rung), known)
			if !ok || s.Text == "" || blocks[string(rung)] && s.Is == trail.ItIsNot ||
				!blocks[string(rung)] && s.Is == trail.ItIs {
				t.Errorf("%s: %s: %+v", name, rung, s)
			}
			if !blocks[string(rung)] {
				others++
				if s.Is == trail.ItIsNot {
					excluded++
				}
			}
		}
		for _, c := range judged.Causes {
			if s, _ := judged.Suspect(c.ID, known); c.Certainty != trail.Proven && s.Is == trail.ItIsNot &&
				judged.Outcome != trail.OutcomeClear {
				t.Errorf("%s: %s may be it, and is excluded: %s", name, c.ID, s.Text)
			}
		}
	}
	t.Logf("%d of %d rungs that are not it are excluded", excluded, others)
	if 10*excluded < 3*others {
		t.Errorf("only %d of %d rungs that are not it are excluded", excluded, others)
	}
	tr := trail.Trail{}
	for _, what := range []string{"tides", "rules/ebb", ""} {
		if _, ok := tr.Suspect(what, known); ok {
			t.Errorf("%q is a suspect", what)
		}
	}
}
