package weigh

import (
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/ports"
	"uakari/internal/weigh/rules"
	"uakari/internal/weigh/scene"
)

// mapperReadings is what a port mapper tells and, where the port that it names is not reached,
// what the filters of the hosts that were read do with a packet for that port.
func mapperReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	readings := ports.MapperReadings(v, w, t)
	for _, r := range readings {
		port, err := strconv.ParseUint(r.Values["port"], 10, 16)
		if err != nil || r.Cause != "ports/dynamic-shut" {
			continue
		}
		other := *t
		other.Target = fact.Target{Name: t.Target.Name, Addr: t.Target.Addr, Port: uint16(port), Scheme: "tcp",
			Security: fact.Plain}
		climb, seen := v.ClimbAt(v.Client, other.Target)
		if !seen {
			continue
		}
		other.Climb, other.Sessions, other.Symptom = climb, climb, climb.Symptom(v.Own())
		for _, f := range rules.FilterReadings(v, w, &other) {
			if f.Open() || !strings.HasPrefix(f.Cause, "rules/") {
				continue
			}
			f.Gate, f.Reach, f.Shows = r.Gate, r.Reach, nil
			f.Summary = r.Summary + ": " + f.Summary
			f.Because = gate.Union(f.Because, r.Because)
			readings = append(readings, f)
		}
	}
	return readings
}
