package weigh

import (
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
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

// TestEffects wants for every cause what its remedies change in the facts, or why only a new
// look can tell.
func TestEffects(t *testing.T) {
	used := map[string]bool{}
	for _, id := range catalogue.CauseIDs() {
		entry, _ := catalogue.Explain(id)
		why, none := strings.CutPrefix(entry.Effect, "none: ")
		if used[entry.Effect] = true; none == (effects[entry.Effect] != nil) || none && len(why) < 10 {
			t.Errorf("%s: its effect is %q; expected a change, or none: and why", id, entry.Effect)
		}
	}
	for name := range effects {
		if !used[name] {
			t.Errorf("no cause has the effect %q", name)
		}
	}
}

// TestStartThatIsStopped rehearses a unit whose start something stops: that goes first, and
// the start comes after it.
func TestStartThatIsStopped(t *testing.T) {
	s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, reset).listening().
		programs("systemd", fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "settings",
			Settings: "/etc/nginx/nginx.conf", Ports: []uint16{80}, Units: []fact.Unit{{Name: "nginx.service",
				Load: "loaded", Active: "inactive", Checked: true, Blocked: []fact.StartBlock{{Kind: "file",
					Path: "/etc/tidegate/env", Text: "its file of variables /etc/tidegate/env is not there"}}}}})
	r := Rehearse(s.set)
	if len(r.Steps) != 2 || r.Steps[0].Cause != "service/start-blocked" || r.Steps[1].Cause != "service/stopped" ||
		r.Steps[0].Idle || r.Steps[1].Idle || !r.Clears || len(r.Steps[0].Left) != 1 {
		t.Errorf("%+v", r)
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
