package service

import (
	"testing"
	"time"

	"uakari/internal/fact"
)

// TestEndedAfter tells a service that ended since its port was held from those that ended for
// another reason, or were meant to.
func TestEndedAfter(t *testing.T) {
	taken := time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC)
	at := func(seconds int, text string) fact.LogLine {
		return fact.LogLine{At: taken.Add(time.Duration(seconds) * time.Second), Text: text}
	}
	for _, c := range []struct {
		name   string
		change func(*fact.Unit)
		want   bool
	}{
		{"it ended by itself", func(*fact.Unit) {}, true},
		{"somebody stopped it", func(u *fact.Unit) {
			u.Log = append(u.Log, at(3, "Stopping tide.service - x..."))
		}, false},
		{"it ended before", func(u *fact.Unit) { u.Since = taken.Add(-time.Second) }, false},
		{"nobody wants it to run", func(u *fact.Unit) { u.Enabled = "disabled" }, false},
		{"a timer starts it", func(u *fact.Unit) { u.Sockets = []string{"tide.timer"} }, false},
		{"an old script left nothing", func(u *fact.Unit) {
			u.Active, u.Sub, u.Enabled = "active", "exited", "generated"
		}, true},
	} {
		u := &fact.Unit{
			Name: "tide.service", Active: "inactive", Enabled: "enabled", Since: taken.Add(2 * time.Second),
			Log: []fact.LogLine{at(1, "Started tide.service - x."), at(2, "tide.service: Deactivated successfully.")},
		}
		c.change(u)
		if got := endedAfter(&fact.Program{Name: "tide"}, u, fact.Listener{Since: taken}); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}
