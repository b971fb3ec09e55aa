package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

const old = "10.20.0.99"

// authority is the zone's servers, each with its serial and address.
func (s *scenario) authority(servers ...fact.ZoneServer) *scenario {
	return s.add("v1", fact.LookZone, fact.Target{Name: strings.TrimSuffix(s.ask.Endpoint.Host, ".")},
		func(f *fact.Fact) {
			f.Zone = &fact.Zone{Name: "varzea.example.", Servers: servers}
		})
}

func nameServer(name string, serial uint32, addr string) fact.ZoneServer {
	return fact.ZoneServer{
		Name:    name,
		Serial:  serial,
		Outcome: fact.Addressed,
		Addrs:   []netip.Addr{netip.MustParseAddr(addr)},
	}
}

// TestViews is names of which different sources say different things.
func TestViews(t *testing.T) {
	lame := nameServer("ns2", 9, tidebook)
	lame.Lame = true
	for name, c := range map[string]struct {
		scenario func(*scenario) *scenario
		want     []string
		says     string
	}{
		"a cache that is old": {func(s *scenario) *scenario {
			return s.named(old).client(old, silent).client(tidebook, connected,
				replied(200)).authority(nameServer("ns1", 7, tidebook))
		}, []string{"names/views-differ proven"}, "the authoritative server ns1 answers 10.20.0.14"},
		"a secondary that is behind": {func(s *scenario) *scenario {
			return s.named(old).client(old, silent).client(tidebook, connected,
				replied(200)).authority(nameServer("ns1", 7, tidebook), nameServer("ns2", 6, old))
		}, []string{"names/secondary-stale proven"}, "ns2 is behind (serial 6)"},
		"an authority that has none": {func(s *scenario) *scenario {
			return s.named(old).client(old, silent).client(tidebook, connected, replied(200)).authority(lame)
		}, nil, ""},
		"both addresses fail": {func(s *scenario) *scenario {
			return s.named(old).client(old, silent).client(tidebook, silent).authority(nameServer("ns1", 7, tidebook))
		}, nil, ""},
		"a second resolver knows better": {func(s *scenario) *scenario {
			s.add("v1", fact.LookNames, fact.Target{Name: s.ask.Endpoint.Host}, func(f *fact.Fact) {
				f.Setup = &fact.ResolverSetup{Servers: []netip.AddrPort{netip.MustParseAddrPort(resolver),
					netip.MustParseAddrPort("10.20.0.3:53")}, Ndots: 1}
			})
			s.says(s.ask.Endpoint.Host+".", fact.Addressed, old)
			return s.saysFor(s.ask.Endpoint.Host, "10.20.0.3:53", s.ask.Endpoint.Host+".", fact.Addressed,
				tidebook).client(old, silent).client(tidebook, connected, replied(200))
		}, []string{"names/views-differ proven"}, "the resolver 10.20.0.3 answers 10.20.0.14"},
	} {
		s := c.scenario(newScene(t, web).holds("v1", gauge))
		s.check(name, c.want...)
		if text := summaries(s.weigh().Causes); !strings.Contains(text, c.says) {
			t.Errorf("%s: it says %q, not %q", name, text, c.says)
		}
	}
}

// TestNameEnds is look-ups that give nothing, for reasons that only look like
// a missing name.
func TestNameEnds(t *testing.T) {
	peculiar := func(a fact.Answer) func(*scenario) *scenario {
		return func(s *scenario) *scenario {
			s.asking()
			for _, kind := range []string{"A", "AAAA"} {
				each := a
				each.Resolver, each.Asked, each.Type = netip.MustParseAddrPort(resolver), s.ask.Endpoint.Host+".", kind
				s.add("v1", fact.LookNames, fact.Target{Name: s.ask.Endpoint.Host},
					func(f *fact.Fact) { f.Answer = &each })
			}
			return s
		}
	}
	for name, c := range map[string]struct {
		answer fact.Answer
		want   string
	}{
		"bad signatures": {fact.Answer{Outcome: fact.ServerFailure,
			Unchecked: []netip.Addr{netip.MustParseAddr(tidebook)}}, "names/bogus-signature proven"},
		"a failure": {fact.Answer{Outcome: fact.ServerFailure}, "names/server-failure proven"},
		"cut off":   {fact.Answer{Outcome: fact.CutOff}, "names/large-answer-lost proven"},
		"a dead alias": {fact.Answer{Outcome: fact.NoSuchName, Aliases: []string{"old.varzea.example"}},
			"names/dangling-alias proven"},
		"a loop": {fact.Answer{Outcome: fact.NoData, Aliases: []string{"a.varzea.example", "b.varzea.example",
			"a.varzea.example"}}, "names/dangling-alias proven"},
		"no such name": {fact.Answer{Outcome: fact.NoSuchName}, "names/no-such-name proven"},
	} {
		peculiar(c.answer)(newScene(t, web).holds("v1", gauge)).check(name, c.want)
	}
}

// TestStub is a caching resolver on this host that fails for what is behind
// it.
func TestStub(t *testing.T) {
	stub, behind := "127.0.0.53:53", "10.20.0.2:53"
	s := newScene(t, web).add("v1", fact.LookNames, fact.Target{Name: "tidebook.varzea.example"}, func(f *fact.Fact) {
		f.Setup = &fact.ResolverSetup{
			Path:      "/etc/resolv.conf",
			Servers:   []netip.AddrPort{netip.MustParseAddrPort(stub)},
			Upstreams: []netip.AddrPort{netip.MustParseAddrPort(behind)},
			Ndots:     1,
		}
	})
	s = s.saysFor("tidebook.varzea.example", stub, "tidebook.varzea.example.", fact.ServerFailure)
	expect(t, s.weigh(), "names/server-failure proven")
	got := s.saysFor("tidebook.varzea.example", behind, "tidebook.varzea.example.", fact.NoReply).weigh()
	expect(t, got, "names/resolver-silent proven")
	if !strings.Contains(got.Causes[0].Summary, "it asks 10.20.0.2, which does not answer") {
		t.Error(got.Causes[0].Summary)
	}
}
