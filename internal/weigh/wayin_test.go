package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestDiesAfter sees that a silence is told with how far the packets get.
func TestDiesAfter(t *testing.T) {
	s := newScene(t, web).holds("v1", gauge).named(tidebook).client(tidebook, silent)
	if !s.wants(fact.LookHops, fact.Client) {
		t.Error("the hops are not wanted")
	}
	s.add("v1", fact.LookHops, fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 80}, func(f *fact.Fact) {
		f.Hops = &fact.Hops{Routers: []netip.Addr{{}, netip.MustParseAddr("10.20.3.1"), {}}}
	})
	for _, c := range s.weigh().Causes {
		if c.ID == "rules/transit-silent" && !strings.Contains(c.Summary, "dies after hop 2, 10.20.3.1") {
			t.Errorf("summary %q", c.Summary)
		}
	}
}

// TestWayIn is what stops a packet at the server beside its filter tables.
func TestWayIn(t *testing.T) {
	routed := func(s *scenario, vantage, to string, r fact.Route) *scenario {
		return s.add(vantage, fact.LookRoute, fact.Target{Addr: netip.MustParseAddr(to)},
			func(f *fact.Fact) { f.Route = &r })
	}
	out := fact.Route{Outcome: "found", Source: netip.MustParseAddr(gauge)}
	through := fact.Route{Outcome: "found", Source: netip.MustParseAddr(gauge), Via: netip.MustParseAddr("10.20.7.1")}
	listed := func(denies, allows []string) fact.Program {
		return with(
			nginxUp,
			fact.Unit{Name: "nginx.service", Load: "loaded", Active: "active", Denies: denies, Allows: allows},
		)
	}
	for name, c := range map[string]struct {
		scenario func(*scenario) *scenario
		want     []string
	}{
		"a full state table": {func(s *scenario) *scenario {
			return s.add("v2", fact.LookBarriers, fact.Target{},
				func(f *fact.Fact) { f.Barriers = &fact.Barriers{Tracked: 100, TrackMax: 100} })
		}, []string{"rules/state-table-full proven"}},
		"a state table with room": {func(s *scenario) *scenario {
			return s.add("v2", fact.LookBarriers, fact.Target{},
				func(f *fact.Fact) { f.Barriers = &fact.Barriers{Tracked: 99, TrackMax: 100} })
		}, nil},
		"no way back, on one link": {func(s *scenario) *scenario {
			return routed(routed(s, "v1", tidebook, out), "v2", gauge,
				fact.Route{Outcome: "ENETUNREACH", Entry: "none"})
		}, []string{"rules/no-return-route proven"}},
		"no way back, behind a router that may translate": {func(s *scenario) *scenario {
			return routed(routed(s, "v1", tidebook, through), "v2", gauge,
				fact.Route{Outcome: "EINVAL", Entry: "blackhole 10.20.7.0/24"})
		}, []string{"rules/no-return-route likely"}},
		"a way back": {func(s *scenario) *scenario {
			return routed(routed(s, "v1", tidebook, out), "v2", gauge, out)
		}, nil},
		"a unit that denies everybody": {func(s *scenario) *scenario {
			return routed(s, "v1", tidebook, through).programs("systemd", listed([]string{"0.0.0.0/0"}, nil))
		}, []string{"rules/unit-list proven"}},
		"a unit that denies this network": {func(s *scenario) *scenario {
			return routed(s, "v1", tidebook, out).programs("systemd", listed([]string{"10.20.7.0/24"}, nil))
		}, []string{"rules/unit-list proven"}},
		"a unit that may see another address": {func(s *scenario) *scenario {
			return routed(s, "v1", tidebook, through).programs("systemd", listed([]string{"10.20.7.0/24"}, nil))
		}, []string{"rules/unit-list likely"}},
		"a unit that allows this client": {func(s *scenario) *scenario {
			return routed(s, "v1", tidebook, out).programs("systemd",
				listed([]string{"0.0.0.0/0"}, []string{"10.20.0.0/16"}))
		}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScene(
				t,
				web,
			).holds("v1", gauge).
				holds("v2", tidebook).
				named(tidebook).
				client(tidebook, silent).
				listening(listener("0.0.0.0", 80, "nginx"))
			expect(t, c.scenario(s).weigh(), c.want...)
		})
	}
}
