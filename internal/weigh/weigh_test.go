package weigh

import (
	"encoding/json"
	"net/netip"
	"reflect"
	"slices"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

const (
	web    = "http://tidebook.varzea.example/"
	secure = "https://tidebook.varzea.example/"
	shell  = "ssh://tidebook.varzea.example"
)

var (
	nginxUp = fact.Program{
		Name:      "nginx",
		Path:      "/usr/sbin/nginx",
		Why:       "settings",
		Processes: []fact.Process{{PID: 4121, State: "S"}},
	}
	nginxDown = fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "settings"}
	stopped   = fact.Unit{Name: "nginx.service", Load: "loaded", Active: "inactive", Sub: "dead"}
)

func with(p fact.Program, units ...fact.Unit) fact.Program {
	p.Units = units
	return p
}

func why(p fact.Program, why string) fact.Program {
	p.Why = why
	return p
}

// TestClientAlone is what can be said from the client only: every row of the
// table of symptoms, with nothing else read.
func TestClientAlone(t *testing.T) {
	for _, c := range []struct {
		name  string
		input string
		steps []step
		// certain causes block; possible ones are listed, most frequent first
		certain  []string
		possible string
		outcome  trail.Outcome
		reached  trail.Reached
	}{
		{"silence", web, []step{silent}, nil,
			"rules/server-drop rules/transit-silent service/host-down names/stale-address ports/queue-full " +
				"rules/return-drop settings/wrong-host rules/client-drop", "unsure", "no"},
		{"refused by a reset", web, []step{reset}, nil,
			"ports/none-listening rules/server-reject rules/transit-reject settings/wrong-port names/stale-address " +
				"rules/client-reject", "unsure", "no"},
		{"ICMP of the client itself", web, []step{icmp(gauge, 3)}, []string{"rules/client-reject likely"}, "", "fault",
			"no"},
		{"ICMP of the target", web, []step{icmp(tidebook, 3)}, []string{"rules/server-reject likely"}, "", "fault",
			"no"},
		{"ICMP of neither end", web, []step{icmp("10.20.3.1", 13)}, []string{"rules/transit-reject proven"}, "",
			"fault", "no"},
		{"a neighbour that does not answer", web, []step{icmp(gauge, 1)}, nil,
			"service/host-down names/stale-address rules/transit-silent", "unsure", "no"},
		{"a router that cannot deliver", web, []step{icmp("10.20.3.1", 1)}, nil,
			"service/host-down names/stale-address rules/no-route", "unsure", "no"},
		{"a loop", web, []step{func(f *fact.Fact) {
			icmp("10.20.3.1", 0)(f)
			f.Connect.ICMP.Type = 11
		}}, []string{"rules/no-route likely"}, "", "fault", "no"},
		{"no route here", web, []step{local("ENETUNREACH")}, []string{"rules/no-route likely"}, "", "fault", "no"},
		{"no port here", web, []step{local("EADDRNOTAVAIL")}, []string{"ports/client-exhausted proven"}, "", "fault",
			"no"},
		{"not permitted here", web, []step{local("EPERM")}, []string{"rules/client-drop likely"}, "", "fault", "no"},
		{"server first, closed", shell, []step{connected, greeted(fact.Closed, "", "", "")}, nil,
			"answer/source-refused service/hung", "unsure", "no"},
		{"server first, silent", shell, []step{connected, greeted(fact.Stalled, "", "", "")}, nil,
			"service/hung settings/wrong-security", "unsure", "no"},
		{"server first, refused", "smtp://tidebook.varzea.example", []step{connected,
			greeted(fact.Done, "smtp", "554 no", "554")}, nil, "answer/source-refused service/hung", "unsure", "no"},
		{"client first, closed", web, []step{connected, answered(fact.Reply{Ending: fact.Closed})}, nil,
			"answer/source-refused service/hung settings/wrong-security", "unsure", "no"},
		{"client first, silent", web, []step{connected, answered(fact.Reply{Ending: fact.Stalled})}, nil,
			"service/hung settings/wrong-security rules/large-packets-lost", "unsure", "no"},
		{"garbage", web, []step{connected, answered(fact.Reply{Ending: fact.Malformed})}, nil,
			"answer/wrong-application settings/wrong-port", "unsure", "no"},
		{"another protocol", web, []step{connected, answered(fact.Reply{Ending: fact.Malformed, Spoke: "ssh"})},
			[]string{"answer/wrong-application proven"}, "", "fault", "no"},
		{"an alert", secure, []step{connected, shook(fact.Handshake{Ending: fact.Closed, Alert: 70})},
			[]string{"certs/no-common-version likely"}, "", "fault", "no"},
		{"an unknown alert", secure, []step{connected, shook(fact.Handshake{Ending: fact.Closed, Alert: 80})},
			[]string{"certs/handshake-stalls likely"}, "", "fault", "no"},
		{"an error answer", web, []step{connected, replied(500)}, []string{"answer/error-status proven"}, "", "fault",
			"no"},
		{"a page that nobody asked for is missing", "http://tidebook.varzea.example", []step{connected, replied(404)},
			nil, "", "clear", "yes"},
		{"a page that was asked for is missing", web, []step{connected, replied(404)},
			[]string{"answer/error-status proven"}, "", "fault", "no"},
		{"an account is wanted", web, []step{connected, replied(401)}, nil, "", "clear", "yes"},
		{"fine", web, []step{connected, replied(200)}, nil, "", "clear", "yes"},
		{"refused for its source", "mysql://tidebook.varzea.example",
			[]step{connected, greeted(fact.Done, "mysql", "Host 'gauge-07' is not allowed", "1130")},
			[]string{"answer/source-refused proven"}, "", "fault", "no"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := newScene(t, c.input).holds("v1", gauge).named(tidebook).client(tidebook, c.steps...).weigh()
			expect(t, got, c.certain...)
			var possible []string
			for _, cause := range got.Causes {
				if cause.Certainty == trail.Possible {
					possible = append(possible, cause.ID)
				}
			}
			if have := strings.Join(possible, " "); have != c.possible {
				t.Errorf("possible:\n got %s\nwant %s", have, c.possible)
			}
			if got.Outcome != c.outcome || got.Reached != c.reached {
				t.Errorf("outcome %s, reached %s; want %s, %s", got.Outcome, got.Reached, c.outcome, c.reached)
			}
		})
	}
}

// TestBothEnds is one cause each, read on the server.
func TestBothEnds(t *testing.T) {
	for _, c := range []struct {
		name     string
		scenario func(*scenario) *scenario
		want     []string
		rungs    map[trail.Rung]trail.State
	}{
		{"unit stopped: one cause, two rungs follow", func(s *scenario) *scenario {
			return s.client(tidebook, reset).listening().programs("systemd", with(nginxDown, stopped))
		}, []string{"service/stopped proven"}, map[trail.Rung]trail.State{"service": "fault", "ports": "follows",
			"answer": "follows", "names": "clear"}},
		{"unit failed", func(s *scenario) *scenario {
			return s.client(tidebook, reset).listening().programs("systemd", with(nginxDown,
				fact.Unit{Name: "nginx.service", Load: "loaded", Active: "failed", Result: "exit-code"}))
		}, []string{"service/failed proven"}, nil},
		{"nobody listens, and no service is known", func(s *scenario) *scenario {
			return s.client(tidebook, reset).listening(listener("0.0.0.0", 22, "sshd")).programs("systemd")
		}, []string{"ports/none-listening proven"}, map[trail.Rung]trail.State{"ports": "fault", "answer": "follows"}},
		{"loopback only wins over another address", func(s *scenario) *scenario {
			return s.client(tidebook, reset).listening(listener("10.20.0.99", 80, "nginx"),
				listener("127.0.0.1", 80, "nginx"))
		}, []string{"ports/loopback-only proven"}, map[trail.Rung]trail.State{"service": "clear", "ports": "fault"}},
		{"another address", func(s *scenario) *scenario {
			return s.client(tidebook, reset).listening(listener("10.20.0.99", 80, "nginx"))
		}, []string{"ports/other-address proven"}, nil},
		{"the other family", func(s *scenario) *scenario {
			only := true
			l := listener("::", 80, "nginx")
			l.V6Only = &only
			return s.client(tidebook, reset).listening(l)
		}, []string{"ports/family-gap proven"}, nil},
		{"queue full", func(s *scenario) *scenario {
			l := listener("0.0.0.0", 80, "nginx")
			l.Queue, l.Limit = 129, 128
			return s.client(tidebook, silent).listening(l)
		}, []string{"ports/queue-full proven"}, map[trail.Rung]trail.State{"ports": "fault", "service": "clear",
			"settings": "clear"}},
		{"the usual port, and the service moved", func(s *scenario) *scenario {
			there := s.target(tidebook)
			there.Port = 8081
			return s.client(tidebook, reset).listening(listener("0.0.0.0", 8081, "nginx")).programs("", nginxUp).
				climb("v1", there, connected, replied(200))
		}, []string{"ports/moved proven"}, map[trail.Rung]trail.State{"answer": "clear"}},
		{"another port of the program that answers otherwise is no move", func(s *scenario) *scenario {
			there := s.target(tidebook)
			there.Port = 8081
			return s.client(tidebook, reset).listening(listener("0.0.0.0", 8081, "nginx")).programs("", nginxUp).
				climb("v1", there, connected, answered(fact.Reply{Ending: fact.Malformed}))
		}, []string{"ports/none-listening proven"}, nil},
		{"refused, while the listener is there: only the filters are left", func(s *scenario) *scenario {
			return s.client(tidebook, reset).listening(listener("0.0.0.0", 80, "nginx"))
		}, nil, map[trail.Rung]trail.State{"rules": "doubt", "ports": "clear"}},
		{"a stack: what shows first is named first", func(s *scenario) *scenario {
			own := s.target("127.0.0.1")
			return s.client(tidebook, reset).listening(listener("127.0.0.1", 80, "nginx")).climb("v2", own, connected,
				replied(503))
		}, []string{"ports/loopback-only proven", "answer/error-status proven behind ports/loopback-only"}, nil},
		{"silence, and nobody listens either: what nobody could read stands before it", func(s *scenario) *scenario {
			return s.client(tidebook, silent).listening().programs("systemd", with(nginxDown, stopped))
		}, []string{"service/stopped proven"}, nil},
		{"403 for the client and not for the server", func(s *scenario) *scenario {
			return s.client(tidebook, connected, replied(403)).listening(listener("0.0.0.0", 80, "nginx")).climb("v2",
				s.target(tidebook), connected, replied(200))
		}, []string{"answer/source-refused proven"}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook)
			got := c.scenario(s).weigh()
			expect(t, got, c.want...)
			expectRungs(t, got, c.rungs)
		})
	}
}

// TestWrongPort is the client whose number is the odd one.
func TestWrongPort(t *testing.T) {
	s := newScene(t, "http://tidebook.varzea.example:8181/").holds("v1", gauge).holds("v2", tidebook).named(tidebook)
	there := s.target(tidebook)
	there.Port = 80
	s.client(tidebook, reset).
		listening(listener("0.0.0.0", 80, "nginx")).
		programs("", nginxUp).
		climb("v1", there, connected, replied(200))
	got := s.weigh()
	expect(t, got, "settings/wrong-port proven")
	expectRungs(t, got, map[trail.Rung]trail.State{"settings": "fault", "answer": "clear", "service": "clear"})
}

// TestGuards breaks one guard each and sees proven fall.
func TestGuards(t *testing.T) {
	refused := func(t *testing.T, input string) *scenario {
		return newScene(t, input).holds("v1", gauge)
	}
	t.Run("same host: the server's record is of another host", func(t *testing.T) {
		got := refused(t, web).holds("v2", "10.20.0.15").named(tidebook).client(tidebook, reset).listening().weigh()
		expect(t, got)
	})
	implied := func(s *scenario) { s.set.Vantages[1].Implied, s.set.Vantages[1].Host = true, "gauge-07" }
	t.Run("same host: a loopback address makes nobody the server", func(t *testing.T) {
		s := refused(t, web).named("127.0.0.9").holds("v2").client("127.0.0.9", reset).listening()
		implied(s)
		got := s.weigh()
		expect(t, got, "ports/none-listening likely")
		expectDoubts(t, got, "names/loops-back possible")
	})
	t.Run("same host: unless its own program is there", func(t *testing.T) {
		s := refused(
			t,
			web,
		).named("127.0.0.9").
			holds("v2").
			client("127.0.0.9", reset).
			listening().
			programs("", why(nginxDown, "card"))
		implied(s)
		expect(t, s.weigh(), "service/stopped proven")
	})
	for name, c := range map[string]struct {
		programs []fact.Program
		manager  string
		want     string
	}{
		"the only one of its kind, on the usual port": {[]fact.Program{why(nginxDown, "scheme")}, "",
			"service/stopped proven"},
		"two of a kind, and neither is known to be it": {[]fact.Program{why(nginxDown, "scheme"),
			{Name: "haproxy", Path: "/usr/sbin/haproxy", Why: "scheme"}}, "", "ports/none-listening proven"},
		"the manager knows no unit for the program": {[]fact.Program{nginxDown}, "systemd",
			"service/stopped likely"},
		"its process runs in another network namespace": {[]fact.Program{{Name: "nginx", Path: "/usr/sbin/nginx",
			Why: "settings", Processes: []fact.Process{{PID: 9, Apart: true}}}}, "", "service/stopped likely"},
		"the unit calls itself active": {[]fact.Program{with(nginxDown,
			fact.Unit{Name: "nginx.service", Load: "loaded", Active: "active"})}, "systemd", "service/stopped likely"},
		"the unit is inactive, and a process of it runs": {[]fact.Program{with(nginxUp, stopped)}, "systemd",
			"ports/none-listening proven"},
	} {
		t.Run(name, func(t *testing.T) {
			got := refused(
				t,
				web,
			).holds("v2", tidebook).
				named(tidebook).
				client(tidebook, reset).
				listening().
				programs(c.manager, c.programs...).
				weigh()
			expect(t, got, c.want)
		})
	}
	t.Run("the only one of its kind, on an odd port", func(t *testing.T) {
		got := refused(
			t,
			"http://tidebook.varzea.example:8181/",
		).holds("v2", tidebook).
			named(tidebook).
			client(tidebook, reset).
			listening().
			programs("", why(nginxDown, "scheme")).
			weigh()
		expect(t, got, "service/stopped likely")
	})
	t.Run("the only one of its kind answers on its own port, and not on the odd one", func(t *testing.T) {
		s := refused(t, "http://tidebook.varzea.example:8181/").holds("v2", tidebook).named(tidebook).client(tidebook,
			reset).
			listening(listener("0.0.0.0", 80, "nginx")).programs("", why(nginxUp, "scheme"))
		there := s.target(tidebook)
		there.Port = 80
		expect(t, s.climb("v1", there, connected, replied(200)).weigh(), "settings/wrong-port likely")
	})
	t.Run("somebody holds the port, and may be the service", func(t *testing.T) {
		unseen := listener("127.0.0.1", 8181, "")
		unseen.PID, unseen.User = 0, "root"
		got := refused(
			t,
			"http://tidebook.varzea.example:8181/",
		).holds("v2", tidebook).
			named(tidebook).
			client(tidebook, reset).
			listening(unseen).
			programs("", why(nginxDown, "scheme")).
			weigh()
		expect(t, got, "ports/loopback-only proven")
	})
	t.Run("a contradiction is a doubt", func(t *testing.T) {
		s := refused(
			t,
			web,
		).holds("v2", tidebook).
			named(tidebook).
			client(tidebook, connected, replied(200)).
			listening(listener("0.0.0.0", 80, "nginx"))
		s.add("v2", fact.LookAddresses, fact.Target{}, func(f *fact.Fact) {})
		s.set.Facts[1].Addresses.Held[1].Up = false
		got := s.weigh()
		expect(t, got)
		expectDoubts(t, got, "service/address-missing possible")
		if got.Outcome != trail.OutcomeClear {
			t.Errorf("outcome %s, want clear", got.Outcome)
		}
	})
	t.Run("a connection that got through where nobody listens was led on", func(t *testing.T) {
		got := refused(
			t,
			web,
		).holds("v2", tidebook).
			named(tidebook).
			client(tidebook, connected, replied(200)).
			listening().
			weigh()
		expectDoubts(t, got)
		if got.Outcome != trail.OutcomeClear {
			t.Errorf("outcome %s, want clear", got.Outcome)
		}
	})
	t.Run("a full queue that let the client in is a doubt", func(t *testing.T) {
		l := listener("0.0.0.0", 80, "nginx")
		l.Queue, l.Limit = 1, 0
		got := refused(
			t,
			web,
		).holds("v2", tidebook).
			named(tidebook).
			client(tidebook, connected, replied(200)).
			listening(l).
			weigh()
		expect(t, got)
		expectDoubts(t, got, "ports/queue-full possible")
	})
}

// TestNames is every way in which a name fails.
func TestNames(t *testing.T) {
	const name = "tidebook.varzea.example."
	for _, c := range []struct {
		what     string
		scenario func(*scenario) *scenario
		want     []string
	}{
		{"no such name", func(s *scenario) *scenario { return s.asking().says(name, fact.NoSuchName) },
			[]string{"names/no-such-name proven"}},
		{"no address", func(s *scenario) *scenario { return s.asking().says(name, fact.NoData) },
			[]string{"names/no-address proven"}},
		{"the only resolver is silent", func(s *scenario) *scenario { return s.asking().says(name, fact.NoReply) },
			[]string{"names/resolver-silent proven"}},
		{"the only resolver is unreachable", func(s *scenario) *scenario {
			return s.asking().says(name,
				fact.Unreachable)
		}, []string{"names/resolver-silent proven"}},
		{"it fails", func(s *scenario) *scenario { return s.asking().says(name, fact.ServerFailure) },
			[]string{"names/server-failure proven"}},
		{"it refuses", func(s *scenario) *scenario { return s.asking().says(name, fact.QueryRefused) },
			[]string{"names/resolver-refuses proven"}},
		{"a suffix of the search list gives it", func(s *scenario) *scenario {
			return s.asking("river.example").says(name, fact.NoSuchName).says(name+"river.example.", fact.Addressed,
				tidebook).client(tidebook, connected, replied(200))
		}, nil},
		{"the hosts file sends it to an old machine, which refuses", func(s *scenario) *scenario {
			return s.named(tidebook).hosts("10.20.0.66").client("10.20.0.66", reset).client(tidebook, connected,
				replied(200))
		}, []string{"names/hosts-override proven"}},
		{"both the hosts file's address and the resolver's fail, and only the second is the server's",
			func(s *scenario) *scenario {
				return s.named(tidebook).hosts("10.20.0.66").holds("v2", tidebook).client("10.20.0.66",
					silent).client(tidebook, reset).
					listening().programs("", nginxDown)
			}, []string{"names/hosts-override proven", "service/stopped proven behind names/hosts-override"}},
		{"the hosts file sends it to where the portal errs, and so does the resolver", func(s *scenario) *scenario {
			return s.named(tidebook).hosts("10.20.0.66").client("10.20.0.66", silent).client(tidebook, connected,
				replied(500))
		}, []string{"names/hosts-override proven", "answer/error-status proven behind names/hosts-override"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			expect(t, c.scenario(newScene(t, web).holds("v1", gauge)).weigh(), c.want...)
		})
	}
}

func TestNameGuards(t *testing.T) {
	s := newScene(t, web).asking().says("tidebook.varzea.example.", fact.NoSuchName)
	for source, want := range map[string]string{"files dns": "proven",
		"files mdns4_minimal [NOTFOUND=return] dns": "likely", "": "proven"} {
		s.set.Facts[0].Setup.Order = strings.Fields(source)
		expect(t, s.weigh(), "names/no-such-name "+want)
	}
}

// TestRefusedByOtherAddress sees a refusal from the server's second address.
func TestRefusedByOtherAddress(t *testing.T) {
	got := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook, "10.20.0.15").
		named(tidebook).
		client(tidebook, icmp("10.20.0.15", 13)).
		weigh()
	expect(t, got, "rules/transit-reject likely")
}

func TestNameDoubts(t *testing.T) {
	t.Run("the hosts file differs and works", func(t *testing.T) {
		got := newScene(t, web).named(tidebook).hosts("10.20.0.66").client("10.20.0.66", connected,
			replied(200)).weigh()
		expect(t, got)
		expectDoubts(t, got, "names/hosts-override proven")
	})
	t.Run("the first resolver is silent, the second answers", func(t *testing.T) {
		s := newScene(t, web)
		s.add("v1", fact.LookNames, fact.Target{Name: s.ask.Endpoint.Host}, func(f *fact.Fact) {
			f.Setup = &fact.ResolverSetup{
				Servers: []netip.AddrPort{netip.MustParseAddrPort("10.20.0.3:53"), netip.MustParseAddrPort(resolver)},
				Ndots:   1,
			}
		})
		name := s.ask.Endpoint.Host
		s.saysFor(name, "10.20.0.3:53", name+".", fact.NoReply).saysFor(name, resolver, name+".", fact.Addressed,
			tidebook)
		got := s.client(tidebook, connected, replied(200)).weigh()
		expectDoubts(t, got, "names/resolver-silent proven")
		if got.Outcome != trail.OutcomeClear {
			t.Errorf("outcome %s", got.Outcome)
		}
	})
	t.Run("one of two addresses fails", func(t *testing.T) {
		got := newScene(
			t,
			web,
		).holds("v1", gauge).
			named(tidebook, "10.20.0.15").
			client(tidebook, silent).
			client("10.20.0.15", connected, replied(200)).
			weigh()
		expect(t, got)
		expectDoubts(t, got, "names/one-bad-address proven")
	})
	t.Run("both addresses fail in one way: one cause", func(t *testing.T) {
		got := newScene(
			t,
			web,
		).holds("v1", gauge).
			named(tidebook, "10.20.0.15").
			client(tidebook, icmp("10.20.3.1", 13)).
			client("10.20.0.15", icmp("10.20.3.1", 13)).
			weigh()
		expect(t, got, "rules/transit-reject proven")
	})
	t.Run("a family that the client does not have is moot", func(t *testing.T) {
		got := newScene(
			t,
			web,
		).holds("v1", gauge).
			named("fd20::14", tidebook).
			client("fd20::14", local("ENETUNREACH")).
			client(tidebook, connected, replied(200)).
			weigh()
		expectDoubts(t, got)
		if got.Outcome != trail.OutcomeClear {
			t.Errorf("outcome %s", got.Outcome)
		}
	})
	t.Run("an underscore that works is a doubt, one that does not is the fault", func(t *testing.T) {
		got := newScene(
			t,
			"http://tide_book.varzea.example/",
		).named(tidebook).
			client(tidebook, connected, replied(200)).
			weigh()
		expectDoubts(t, got, "names/bad-label proven")
		s := newScene(t, "http://tide_book.varzea.example/").asking().says("tide_book.varzea.example.",
			fact.NoSuchName)
		mended := "tide-book.varzea.example"
		s.add("v1", fact.LookNames, fact.Target{Name: mended}, func(f *fact.Fact) {
			f.Setup = &fact.ResolverSetup{Servers: []netip.AddrPort{netip.MustParseAddrPort(resolver)}, Ndots: 1}
		}).saysFor(mended, resolver, mended+".", fact.Addressed, tidebook)
		expect(t, s.weigh(), "names/bad-label proven")
	})
	t.Run("an underscore whose mended name is missing too is a missing name", func(t *testing.T) {
		s := newScene(t, "http://tide_book.varzea.example/").asking().says("tide_book.varzea.example.",
			fact.NoSuchName)
		mended := "tide-book.varzea.example"
		s.add("v1", fact.LookNames, fact.Target{Name: mended}, func(f *fact.Fact) {
			f.Setup = &fact.ResolverSetup{Servers: []netip.AddrPort{netip.MustParseAddrPort(resolver)}, Ndots: 1}
		}).saysFor(mended, resolver, mended+".", fact.NoSuchName)
		expect(t, s.weigh(), "names/no-such-name proven")
	})
}

// TestStray weighs an endpoint with a character that nobody can see.
func TestStray(t *testing.T) {
	s := newScene(t, "http://tide\u200bbook.varzea.example/")
	s.asking().says(s.ask.Endpoint.Host+".", fact.NoSuchName)
	clean := s.ask.Endpoint.Clean
	s.add("v1", fact.LookNames, fact.Target{Name: clean}, func(f *fact.Fact) {
		f.Setup = &fact.ResolverSetup{Servers: []netip.AddrPort{netip.MustParseAddrPort(resolver)}, Ndots: 1}
	})
	missing := *s
	missing.saysFor(clean, resolver, clean+".", fact.NoSuchName)
	s.saysFor(clean, resolver, clean+".", fact.Addressed, tidebook)
	target := s.target(tidebook)
	target.Name = clean
	working := *s
	working.climb("v1", target, connected, replied(200))
	expect(t, working.weigh(), "settings/stray-characters proven")
	// What lies behind is seen too.
	s.climb("v1", target, connected, replied(500))
	expect(t, s.weigh(), "settings/stray-characters proven",
		"answer/error-status proven behind settings/stray-characters")
	// Proven needs the cleaned value to work.
	expect(
		t,
		missing.weigh(),
		"settings/stray-characters likely",
		"names/no-such-name proven behind settings/stray-characters",
	)
}

// TestWrongSecurity tells the odd client from the changed server.
func TestWrongSecurity(t *testing.T) {
	garbage := shook(fact.Handshake{Ending: fact.Malformed, Spoke: "http"})
	for _, c := range []struct {
		name  string
		input string
		first []step
		other fact.Security
		then  []step
		want  string
	}{
		{"TLS where the server is plain", "https://tidebook.varzea.example:8443/", []step{connected, garbage},
			fact.Plain, []step{connected, replied(200)}, ""},
		{"TLS on the port for plain", "https://tidebook.varzea.example:80/", []step{connected, garbage}, fact.Plain,
			[]step{connected, replied(200)}, "settings/wrong-security proven"},
		{"plain where the server speaks TLS", "http://tidebook.varzea.example/", []step{connected, replied(400)},
			fact.TLS, []step{connected, shook(fact.Handshake{Ending: fact.Done})}, "certs/server-speaks-tls proven"},
		{"plain on the port for TLS", "http://tidebook.varzea.example:443/", []step{connected, replied(400)}, fact.TLS,
			[]step{connected, shook(fact.Handshake{Ending: fact.Done})}, "settings/wrong-security proven"},
		{"the other one fails too", "https://tidebook.varzea.example:8443/", []step{connected, garbage}, fact.Plain,
			[]step{connected, answered(fact.Reply{Ending: fact.Closed})}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newScene(t, c.input).holds("v1", gauge).named(tidebook).client(tidebook, c.first...)
			if !s.wants(fact.LookSession, fact.Client) {
				t.Error("the other security is not wanted")
			}
			other := s.target(tidebook)
			other.Security = c.other
			got := s.climb("v1", other, c.then...).weigh()
			if c.want == "" {
				expect(t, got)
				return
			}
			expect(t, got, c.want)
		})
	}
}

// TestNoRoute reads the client's own routes.
func TestNoRoute(t *testing.T) {
	for entry, want := range map[string]string{
		"none":                        "has no route",
		"unreachable 10.20.0.0/24":    `"unreachable 10.20.0.0/24"`,
		"blackhole 10.20.0.0/24":      `"blackhole 10.20.0.0/24"`,
		"prohibit 10.0.0.0/8 table 7": "table 7",
	} {
		s := newScene(t, web).holds("v1", gauge).named(tidebook).client(tidebook, local("EHOSTUNREACH"))
		if !s.wants(fact.LookRoute, fact.Client) {
			t.Error("the route is not wanted")
		}
		s.add("v1", fact.LookRoute, fact.Target{Addr: netip.MustParseAddr(tidebook)}, func(f *fact.Fact) {
			f.Route = &fact.Route{Outcome: "EHOSTUNREACH", Entry: entry}
		})
		got := s.weigh()
		expect(t, got, "rules/no-route proven")
		if text := got.Causes[0].Summary; !strings.Contains(text, want) {
			t.Errorf("summary %q lacks %q", text, want)
		}
		if len(got.Causes[0].Remedies) != 1 {
			t.Errorf("entry %q: %d remedies, want 1", entry, len(got.Causes[0].Remedies))
		}
	}
}

// TestHostDown sees that a neighbour who answers leaves only the machine.
func TestHostDown(t *testing.T) {
	s := newScene(t, "http://"+tidebook+"/").holds("v1", gauge).client(tidebook, icmp(gauge, 1))
	if !s.wants(fact.LookLink, fact.Client) {
		t.Error("the link is not wanted")
	}
	s.add("v1", fact.LookLink, fact.Target{Addr: netip.MustParseAddr(tidebook)}, func(f *fact.Fact) {
		f.Link = &fact.Link{Dev: "eth0", State: "failed", Answer: []netip.Addr{netip.MustParseAddr("10.20.0.1")}}
	})
	s.set.Vantages = s.set.Vantages[:1]
	got := s.weigh()
	expect(t, got, "service/host-down likely")
	if got.Causes[0].Short == nil || len(got.Causes[0].Because) == 0 {
		t.Errorf("says neither what is missing nor what it rests on: %+v", got.Causes[0])
	}
}

// TestHealthyIsClear sees that a healthy endpoint gives no doubt, whatever
// was seen beside it.
func TestHealthyIsClear(t *testing.T) {
	s := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, connected, replied(200)).
		listening(listener("0.0.0.0", 80, "nginx")).
		programs("systemd", nginxUp)
	got := s.weigh()
	expectDoubts(t, got)
	expectRungs(
		t,
		got,
		map[trail.Rung]trail.State{
			"settings": "clear",
			"service":  "clear",
			"ports":    "clear",
			"rules":    "clear",
			"names":    "clear",
			"certs":    "moot",
			"login":    "unseen",
			"answer":   "clear",
		},
	)
	_, wants := Weigh(s.set)
	for _, w := range wants {
		if w.Look == fact.LookSession && w.Target != s.target(tidebook) {
			t.Errorf("a healthy endpoint is tried again: %+v", w)
		}
	}
}

// TestEverythingFollowsFromFacts sees that weighing depends on the facts alone,
// not on the order in which they landed or on how they were kept.
func TestEverythingFollowsFromFacts(t *testing.T) {
	s := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, reset).
		listening().
		programs("systemd", with(nginxDown, stopped))
	first := s.weigh()
	text, err := json.Marshal(s.set)
	if err != nil {
		t.Fatal(err)
	}
	var again fact.Set
	if err := json.Unmarshal(text, &again); err != nil {
		t.Fatal(err)
	}
	if second, _ := Weigh(again); !reflect.DeepEqual(first, second) {
		t.Error("kept facts give another trail")
	}
	turned := fact.New(s.ask, s.set.Vantages)
	for _, f := range slices.Backward(s.set.Facts) {
		turned = turned.With(f)
	}
	third, _ := Weigh(turned)
	expect(t, third, "service/stopped proven")
}

// TestWantsLookPastTheFault sees that the server tries itself when the client
// gets nowhere.
func TestWantsLookPastTheFault(t *testing.T) {
	s := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, silent).
		listening(listener("0.0.0.0", 80, "nginx"))
	if !s.wants(fact.LookSession, fact.Server) {
		t.Error("the server's own try is not wanted")
	}
	if !newScene(t, web).holds("v1", gauge).named(tidebook).client(tidebook, silent).wants(fact.LookEcho,
		fact.Client) {
		t.Error("a sign of life is not wanted")
	}
}

// TestNotYetSettled judges nothing before anything is known.
func TestNotYetSettled(t *testing.T) {
	for _, s := range []*scenario{newScene(t, web), newScene(t, web).asking(), newScene(t, web).named(tidebook)} {
		got := s.weigh()
		if len(got.Causes) > 0 || got.Reached != trail.Unknown || got.Outcome != trail.OutcomeUnsure {
			t.Errorf("judged too early: %s", dump(got))
		}
	}
}
