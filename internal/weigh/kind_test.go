package weigh

import (
	"testing"

	"uakari/internal/fact"
)

// TestOneOfTheKind is a web server on its own port while another of the web's
// usual ports is asked: which program was there is known only if settings name it.
func TestOneOfTheKind(t *testing.T) {
	asked := func(programs ...fact.Program) *scenario {
		s := newScene(t, "http://tidebook.varzea.example:8080/").holds("v1", gauge).holds("v2",
			tidebook).named(tidebook)
		there := s.target(tidebook)
		there.Port = 80
		return s.client(tidebook, reset).listening(listener("0.0.0.0", 80, "nginx")).programs("systemd", programs...).
			climb("v1", there, connected, replied(200))
	}
	nginx := nginxUp
	nginx.Why = "scheme"
	expect(t, asked(nginx).weigh(), "ports/moved likely")
	almanac := fact.Program{
		Name: "almanacd", Path: "/usr/sbin/almanacd", Why: "evidence", Settings: "/etc/almanac.ini",
		Ports: []uint16{8080},
		Units: []fact.Unit{{Name: "almanac.service", Load: "loaded", Active: "inactive", Started: true,
			Enabled: "generated"}},
	}
	expect(t, asked(almanac, nginx).weigh(), "service/stopped proven")
	almanac.Units[0].Started = false
	expect(t, asked(almanac, nginx).weigh(), "ports/moved likely")
}

// TestByNameAlone is a stopped unit whose port is known by its own settings, or by no more
// than what the port is called: the second is no proof.
func TestByNameAlone(t *testing.T) {
	for settings, want := range map[string]string{
		"/etc/almanac.ini": "service/stopped proven", fact.ByDefault: "service/stopped likely",
	} {
		stopped := fact.Program{
			Name: "almanacd", Path: "/usr/sbin/almanacd", Why: "evidence", Settings: settings, Ports: []uint16{8457},
			Units: []fact.Unit{{Name: "almanacd.service", Load: "loaded", Active: "inactive", Sub: "dead",
				Enabled: "enabled"}},
		}
		newScene(t, "tcp://10.20.0.14:8457").holds("v1", gauge).holds("v2", tidebook).client(tidebook, reset).
			listening().programs("systemd", stopped).check(settings, want)
	}
}
