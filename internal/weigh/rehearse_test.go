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
		if r.Clears {
			clears++
		} else {
			t.Logf("%s: %+v", name, r.Steps)
		}
		for _, s := range r.Steps {
			if s.Idle {
				idle++
				t.Logf("%s: %s is idle: %s; %s", name, s.Cause, s.Summary, s.Changes)
			}
		}
	}
	t.Logf("%d faults, %d clear after their fixes, %d fixes are idle", faults, clears, idle)
}
