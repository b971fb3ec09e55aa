package weigh

import (
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestBarePort is a port without a scheme: what its holder is known to speak is asked, and
// what stands against a connection on the server counts; else it only connects.
func TestBarePort(t *testing.T) {
	bare := func(program string, steps ...step) *scenario {
		s := newScene(t, "tcp://10.20.0.14:80").holds("v1", gauge).holds("v2", tidebook)
		l := listening()
		l.Program = program
		s.listening(l).client(tidebook, connected, greeted(fact.Stalled, "", "", ""))
		target := s.target(tidebook)
		target.Scheme, target.Security = "http", fact.Plain
		return s.climb("v1", target, steps...)
	}
	for name, c := range map[string]struct {
		got    trail.Trail
		want   trail.Verdict
		causes []string
	}{
		"nobody knows who holds it": {bare("tideserver").weigh(), trail.Connects, nil},
		"it answers":                {bare("nginx", connected, replied(200)).weigh(), trail.Works, nil},
		"it is broken": {bare("nginx", connected, replied(503)).weigh(), trail.WrongAnswer,
			[]string{"answer/error-status likely"}},
		"the wrong security, perhaps": {bare("nginx", connected, replied(400)).weigh(), trail.Connects, nil},
	} {
		t.Run(name, func(t *testing.T) {
			expect(t, c.got, c.causes...)
			if c.got.Verdict() != c.want {
				t.Errorf("verdict %d: %s", c.got.Verdict(), c.got.Headline("gauge-07", "tidebook:80"))
			}
		})
	}
	if s := bare("nginx"); !s.wants(fact.LookSession, fact.Client) {
		t.Error("what nginx speaks is not asked")
	}
}
