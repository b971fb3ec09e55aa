package weigh

import (
	"net/netip"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestNobodyAnswers is a client whose own kernel says, after it asked the link, that the
// server cannot be reached.
func TestNobodyAnswers(t *testing.T) {
	const router = "10.20.7.77"
	scene := func(via, state string, held ...string) *scenario {
		s := newScene(t, web).holds("v1", gauge).holds("v2", held...).named(tidebook).client(tidebook, icmp(gauge, 1))
		route := fact.Route{Outcome: "found", Dev: "eth0"}
		asked := tidebook
		if via != "" {
			route.Via, asked = netip.MustParseAddr(via), via
		}
		s.add("v1", fact.LookRoute, fact.Target{Addr: netip.MustParseAddr(tidebook)},
			func(f *fact.Fact) { f.Route = &route })
		return s.add("v1", fact.LookLink, fact.Target{Addr: netip.MustParseAddr(asked)}, func(f *fact.Fact) {
			f.Link = &fact.Link{Dev: "eth0", State: state, Answer: []netip.Addr{netip.MustParseAddr("10.20.7.32")}}
		})
	}
	scene(router, "failed", tidebook).check("the router is not there", "rules/neighbour-silent proven")
	scene(router, "", tidebook).check("the router left the table", "rules/neighbour-silent likely")
	scene("", "failed", tidebook).check("the server is elsewhere, and up", "rules/neighbour-silent likely")
	scene("", "failed").check("the server has no address", "service/address-missing proven")
}

// TestStoppedFront is a gateway at the name's address that takes nothing there, and has a
// program that should.
func TestStoppedFront(t *testing.T) {
	const front = "10.20.0.1"
	scene := func(p fact.Program) trail.Trail {
		s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(front).client(front, reset)
		s.set.Vantages = append(s.set.Vantages, fact.Vantage{ID: "v3", Role: fact.Gateway, Host: "heron",
			Means: fact.SSH})
		s.holds("v3", front).client(tidebook, connected, replied(200)).listening(listener("0.0.0.0", 80, "nginx"))
		s.add("v3", fact.LookListeners, fact.Target{Port: 80, Scheme: "http"},
			func(f *fact.Fact) { f.Listeners = &fact.Listeners{} })
		s.add("v3", fact.LookService, fact.Target{Port: 80, Scheme: "http"}, func(f *fact.Fact) {
			f.Service = &fact.Service{Manager: "systemd", Programs: []fact.Program{p}}
		})
		return s.weigh()
	}
	p := fact.Program{Name: "haproxy", Path: "/usr/sbin/haproxy", Why: "settings",
		Settings: "/etc/haproxy/haproxy.cfg", Ports: []uint16{80},
		Units: []fact.Unit{{Name: "haproxy.service", Load: "loaded", Active: "inactive", Sub: "dead",
			Result: "success", Enabled: "enabled"}}}
	expect(t, scene(p), "service/stopped proven")
	p.Units[0].Enabled = "disabled" // nobody wants it to run
	expect(t, scene(p), "names/points-at-front proven")
	p.Units[0].Enabled, p.Ports = "enabled", []uint16{443}
	expect(t, scene(p), "names/points-at-front proven")
}

// TestNamesAstray is names that this client's programs do not get, and a resolver would give.
func TestNamesAstray(t *testing.T) {
	s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).
		client(tidebook, connected, replied(200))
	s.check("programs ask resolvers")
	for i := range s.set.Facts {
		if setup := s.set.Facts[i].Setup; setup != nil {
			setup.Order = []string{"files", "[NOTFOUND=return]", "myhostname"}
		}
	}
	s.check("programs are set to ask files alone", "names/views-differ likely")
	s.add("v1", fact.LookNames, fact.Target{Name: s.ask.Endpoint.Host},
		func(f *fact.Fact) { f.System = &fact.SystemLookup{} })
	s.check("and are told nothing", "names/views-differ proven")

	short := newScene(t, "http://tidebook/").holds("v1", gauge).holds("v2", tidebook).asking("harbour.example").
		says("tidebook.harbour.example.", fact.NoSuchName).says("tidebook.", fact.ServerFailure).
		saysFor("tidebook.varzea.example", resolver, "tidebook.varzea.example.", fact.Addressed, tidebook)
	short.add("v1", fact.LookNames, fact.Target{Name: "tidebook.varzea.example"}, func(f *fact.Fact) {
		f.Setup = &fact.ResolverSetup{Path: "/etc/resolv.conf", Ndots: 1,
			Servers: []netip.AddrPort{netip.MustParseAddrPort(resolver)}}
	})
	short.check("nobody knows what is meant", "names/server-failure proven")
	short.add("v2", fact.LookNames, fact.Target{Name: "tidebook"}, func(f *fact.Fact) {
		f.Answer = &fact.Answer{Resolver: netip.MustParseAddrPort(resolver), Asked: "tidebook.varzea.example.",
			Type: "A", Outcome: fact.Addressed, Addrs: []netip.Addr{netip.MustParseAddr(tidebook)}}
	})
	short.check("the server's own search list completes it", "names/search-suffix proven")
}
