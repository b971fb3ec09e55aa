package weigh

import (
	"testing"

	"uakari/internal/trail"
)

// TestRehearseRecorded rehearses the fixes of what was recorded of real faults, by both
// sides: each set ends, and every fix changes what is judged.
func TestRehearseRecorded(t *testing.T) {
	names, sets := recorded(t)
	faults, clears, idle := 0, 0, 0
	for _, name := range names {
		set := sets[name]
		judged, _ := Weigh(set)
		r := Rehearse(set)
		if judged.Outcome != trail.OutcomeFault {
			if len(r.Steps) > 0 && r.Steps[0].Certainty == trail.Proven {
				t.Errorf("%s: %s, and a fix is rehearsed: %+v", name, judged.Outcome, r.Steps[0])
			}
			continue
		}
		faults++
		fixed := map[string]bool{}
		for _, s := range r.Steps {
			fixed[s.Cause] = true
			if s.Idle {
				idle++
				t.Errorf("%s: the fix of %s changes nothing: %s; %s", name, s.Cause, s.Summary, s.Changes)
			}
		}
		// No fault goes away by the fix of another, but for what follows from that one.
		for _, c := range judged.Blocking() {
			if c.Certainty != trail.Possible && !fixed[c.ID] {
				t.Errorf("%s: %s went away by itself: %+v", name, c.ID, r.Steps)
			}
		}
		if r.Clears {
			clears++
		} else {
			t.Errorf("%s: %+v", name, r.Steps)
		}
	}
	t.Logf("%d faults, %d clear after their fixes, %d fixes are idle", faults, clears, idle)
	if faults < 100 {
		t.Errorf("%d faults were rehearsed", faults)
	}
}

// TestFixThatChangesNothing keeps a fault in the way that is judged as before after its fix,
// also after the fixes that come later.
func TestFixThatChangesNothing(t *testing.T) {
	c := trail.Cause{
		ID: "rules/server-drop", Vantage: "v2", Rung: trail.Rules, Blocking: true, Certainty: trail.Proven,
	}
	l := faultList{known: []fault{{Cause: c}}, done: map[string]bool{fixKey(c): true}}
	still := trail.Trail{Causes: []trail.Cause{c}}
	if left := l.left(still); len(left) != 1 || l.next(still) != nil {
		t.Errorf("left %v, next %v", left, l.next(still))
	}
	if left := l.left(trail.Trail{}); len(left) != 0 {
		t.Errorf("left %v after it is gone", left)
	}
}
