package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestSender is a refusal whose hop limit hints at who sent it.
func TestSender(t *testing.T) {
	at := fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 80}
	for _, c := range []struct {
		name        string
		reset, echo int
		first, says string
	}{
		{"nothing known", 0, 0, "ports/none-listening", "another port or address"},
		{"no echo", 63, 0, "ports/none-listening", "another port or address"},
		{"alike", 63, 63, "ports/none-listening", "as from one machine"},
		{"apart", 64, 62, "rules/transit-reject", "as if two machines sent them"},
	} {
		s := newScene(t, "http://10.20.0.14").client(tidebook, reset)
		if c.reset != 0 {
			s.add("v1", fact.LookReset, at, func(f *fact.Fact) { f.Reset = &fact.ResetHops{Left: c.reset} })
		}
		s.add("v1", fact.LookEcho, fact.Target{Addr: at.Addr}, func(f *fact.Fact) { f.Echo = &fact.Echo{Answered: true, Left: c.echo} })
		got := s.weigh().Causes
		if got[0].ID != c.first || got[0].Certainty != trail.Possible || !strings.Contains(got[0].Summary, c.says) || len(got) < 4 {
			t.Errorf("%s: %s", c.name, summaries(got))
		}
	}
}

// TestLargePackets is a connection that stalls, and one in small segments that
// does not.
func TestLargePackets(t *testing.T) {
	stalled := answered(fact.Reply{Ending: fact.Stalled, Protocol: "http", TookMS: 6000})
	scene := func(waiting uint32, steps ...step) *scene {
		s := newScene(t, "http://10.20.0.14").holds("v2", tidebook).client(tidebook, connected, stalled).listening(listener("0.0.0.0", 80, "nginx"))
		s.add("v2", fact.LookListeners, fact.Target{Port: 80, Scheme: "http", Again: 1}, func(f *fact.Fact) {
			later := listener("0.0.0.0", 80, "nginx")
			later.Queue = waiting
			f.Listeners = &fact.Listeners{All: []fact.Listener{later}}
		})
		small := s.target(tidebook)
		small.Small = true
		return s.climb("v1", small, steps...)
	}
	scene(0, connected, replied(200)).check("small ones pass", "rules/large-packets-lost proven")
	scene(0, connected, stalled).check("small ones stall as well")
	if s := newScene(t, "http://10.20.0.14").client(tidebook, connected, stalled); !s.wants(fact.LookSession, fact.Client) {
		t.Error("small ones are not tried")
	}
}
