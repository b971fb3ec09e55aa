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
		name, reset, first, says string
	}{
		{"nothing known", "", "ports/none-listening", "another port or address"},
		{"alike", "same", "ports/none-listening", "as from one machine"},
		{"apart", "more", "rules/transit-reject", "with more hops left than an echo reply, as if two machines"},
		{"nearer", "fewer", "rules/transit-reject", "with fewer hops left"},
	} {
		s := newScene(t, "http://10.20.0.14").client(tidebook, reset)
		s.add(
			"v1",
			fact.LookEcho,
			fact.Target{Addr: at.Addr},
			func(f *fact.Fact) { f.Echo = &fact.Echo{Answered: true, Left: 63} },
		)
		if !s.wants(fact.LookReset, fact.Client) {
			t.Errorf("%s: nobody compares", c.name)
		}
		if c.reset != "" {
			s.add("v1", fact.LookReset, at, func(f *fact.Fact) {
				f.Reset = &fact.ResetHops{Beside: 63,
					Compare: c.reset}
			})
		}
		got := s.weigh().Causes
		if got[0].ID != c.first || got[0].Certainty != trail.Possible || !strings.Contains(got[0].Summary, c.says) ||
			len(got) < 4 {
			t.Errorf("%s: %s", c.name, summaries(got))
		}
	}
}

// TestLargePackets is a connection that stalls, and one in small segments that
// does not.
func TestLargePackets(t *testing.T) {
	stalled := answered(fact.Reply{Ending: fact.Stalled, Protocol: "http", TookMS: 6000})
	scenario := func(waiting uint32, steps ...step) *scenario {
		s := newScene(
			t,
			"http://10.20.0.14",
		).holds("v2", tidebook).
			client(tidebook, connected, stalled).
			listening(listener("0.0.0.0", 80, "nginx"))
		s.add("v2", fact.LookListeners, fact.Target{Port: 80, Scheme: "http", Again: 1}, func(f *fact.Fact) {
			later := listener("0.0.0.0", 80, "nginx")
			later.Queue = waiting
			f.Listeners = &fact.Listeners{All: []fact.Listener{later}}
		})
		small := s.target(tidebook)
		small.Small = true
		return s.climb("v1", small, steps...)
	}
	scenario(0, connected, replied(200)).check("small ones pass", "rules/large-packets-lost proven")
	scenario(0, connected, stalled).check("small ones stall as well")
	if s := newScene(t, "http://10.20.0.14").client(tidebook, connected, stalled); !s.wants(
		fact.LookSession,
		fact.Client,
	) {
		t.Error("small ones are not tried")
	}
}
