package weigh

import (
	"testing"

	"uakari/internal/fact"
)

// TestNextStart is a unit that is down, by what its next start would fail at.
func TestNextStart(t *testing.T) {
	missing := fact.StartBlock{Kind: "file", Setting: "EnvironmentFile", Path: "/etc/tidegate/env",
		Text: "its file of variables /etc/tidegate/env is not there"}
	for name, c := range map[string]struct {
		unit fact.Unit
		want []string
	}{
		"stopped, and nothing stops it": {fact.Unit{Active: "inactive", Checked: true},
			[]string{"service/stopped proven"}},
		"stopped, and a file is missing": {fact.Unit{Active: "inactive", Checked: true,
			Blocked: []fact.StartBlock{missing}}, []string{"service/start-blocked proven", "service/stopped proven"}},
		"stopped, and a file that another unit may make": {fact.Unit{Active: "inactive", Checked: true,
			Blocked: []fact.StartBlock{{Kind: "file", Path: "/run/tide", Text: "it is not there",
				After: "tidefirst.service"}}}, []string{"service/start-blocked likely", "service/stopped proven"}},
		"stopped, and its settings are not of their grammar": {fact.Unit{Active: "inactive", Checked: true,
			Blocked: []fact.StartBlock{{Kind: "settings", Path: "/etc/tide.yaml", Text: "line 3"}}},
			[]string{"service/start-blocked likely", "service/stopped proven"}},
		"masked, and a file is missing": {fact.Unit{Active: "inactive", Load: "masked", Checked: true,
			Blocked: []fact.StartBlock{missing}}, []string{"service/stopped proven"}},
		"failed, and a file is missing": {fact.Unit{Active: "failed", Result: "resources", Checked: true,
			Blocked: []fact.StartBlock{missing}}, []string{"service/failed proven"}},
		"a port that it may not listen on": {fact.Unit{Active: "inactive", Checked: true, LeastPort: 1024},
			[]string{"service/start-blocked proven", "service/stopped proven"}},
		"a port that it may listen on": {fact.Unit{Active: "inactive", Checked: true, LeastPort: 80},
			[]string{"service/stopped proven"}},
	} {
		t.Run(name, func(t *testing.T) {
			u := c.unit
			u.Name = "nginx.service"
			if u.Load == "" {
				u.Load = "loaded"
			}
			s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, reset).
				listening().programs("systemd", fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "settings",
				Settings: "/etc/nginx/nginx.conf", Ports: []uint16{80}, Units: []fact.Unit{u}})
			expect(t, s.weigh(), c.want...)
		})
	}
}
