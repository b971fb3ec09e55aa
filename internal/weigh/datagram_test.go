package weigh

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// bound is a UDP socket.
func bound(addr string, port uint16, program string) fact.Listener {
	l := listener(addr, port, program)
	l.Transport = "udp"
	return l
}

// TestDatagrams is a service that is asked over UDP: silence and refusals mean
// other things there than over TCP.
func TestDatagrams(t *testing.T) {
	const dns, bare = "dns://10.20.0.14", "udp://10.20.0.14:514"
	unreachable := icmp(tidebook, 3)
	for _, c := range []struct {
		name  string
		input string
		step  step
		socks []fact.Listener
		want  []string
	}{
		{"refused, and nobody takes it", dns, unreachable, nil, []string{"ports/none-listening proven"}},
		{"a listener over TCP takes no datagrams", dns, unreachable, []fact.Listener{listener("0.0.0.0", 53, "named")},
			[]string{"ports/none-listening proven"}},
		{"refused, though somebody takes it", dns, unreachable, []fact.Listener{bound("0.0.0.0", 53, "named")},
			[]string{"rules/server-reject likely"}},
		{"on loopback only", dns, unreachable, []fact.Listener{bound("127.0.0.1", 53, "named")},
			[]string{"ports/loopback-only proven"}},
		{"silence, and nobody takes it", dns, silent, nil, []string{"ports/none-listening proven"}},
		{"an unknown service that nobody holds", bare, unreachable, nil, []string{"ports/none-listening proven"}},
		{"an unknown service that says nothing", bare, silent, []fact.Listener{bound("0.0.0.0", 514, "tidelog")}, nil},
	} {
		s := newScene(t, c.input).holds("v2", tidebook).holds("v1", gauge).client(tidebook,
			c.step).listening(c.socks...)
		s.check(c.name, c.want...)
	}

	s := newScene(t, bare).holds("v2", tidebook).client(tidebook, silent).listening(bound("0.0.0.0", 514, "tidelog"))
	if got := s.weigh(); got.Reached != trail.Unknown {
		t.Errorf("silence of what may have nothing to say: reached %s", got.Reached)
	}
	full := bound("0.0.0.0", 53, "named")
	full.Queue, full.Limit = 212_992, 0
	s = newScene(
		t,
		dns,
	).holds("v2", tidebook).
		client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "dns"})).
		listening(full)
	if got := s.weigh(); got.Outcome != trail.OutcomeClear || len(got.Causes) > 0 {
		t.Errorf("datagrams that wait are no full queue: %s", dump(got))
	}
}

// TestUnread is datagrams that wait: a hung service only if they wait on.
func TestUnread(t *testing.T) {
	for name, c := range map[string]struct {
		first, later uint32 // bytes that wait, by the second look and the third
		want         []string
	}{
		"nothing waits":        {0, 0, nil},
		"for a moment":         {832, 0, nil},
		"on and on":            {832, 832, []string{"service/hung proven"}},
		"others of them later": {2496, 832, nil},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScene(t, "dns://10.20.0.14").holds("v2", tidebook).holds("v1", gauge).client(tidebook, silent).
				listening(bound("0.0.0.0", 53, "named")).programs("systemd", fact.Program{Name: "named",
				Path: "/usr/sbin/named", Why: "holder", Processes: []fact.Process{{PID: 4121, State: "S",
					Since: began.Add(-time.Hour)}}})
			for again, queue := range []uint32{c.first, c.later} {
				at := fact.Target{Port: 53, Scheme: "dns", Again: again + 1}
				if again > 0 && c.first > 0 != wantsListeners(s, at) {
					t.Errorf("another look is wanted: %v", c.first == 0)
				}
				s.add("v2", fact.LookListeners, at, func(f *fact.Fact) {
					l := bound("0.0.0.0", 53, "named")
					l.Queue = queue
					f.Listeners = &fact.Listeners{All: []fact.Listener{l}}
				})
			}
			got := s.weigh()
			var sure []string
			for _, each := range got.Causes {
				if each.Certainty != trail.Possible {
					sure = append(sure, each.ID+" "+string(each.Certainty))
				}
			}
			if !slices.Equal(sure, c.want) {
				t.Errorf("%q, want %q\n%s", sure, c.want, dump(got))
			}
		})
	}
}

func wantsListeners(s *scenario, at fact.Target) bool {
	_, wants := Weigh(s.set)
	for _, w := range wants {
		if w.Look == fact.LookListeners && w.Target == at {
			return true
		}
	}
	return false
}

// TestSeveralCouldServe is a port that the settings of several programs name.
func TestSeveralCouldServe(t *testing.T) {
	down := func(name string, units ...fact.Unit) fact.Program {
		return fact.Program{Name: name, Path: "/usr/sbin/" + name, Why: "settings", Ports: []uint16{53}, Units: units}
	}
	idle := fact.Unit{Name: "named.service", Load: "loaded", Active: "inactive", Enabled: "disabled",
		Result: "success"}
	wanted := fact.Unit{Name: "dnsmasq.service", Load: "loaded", Active: "inactive", Enabled: "enabled",
		Result: "success"}
	for _, c := range []struct {
		name string
		list []fact.Program
		want string
	}{
		{"one", []fact.Program{down("named", idle)}, "service/stopped proven"},
		{"two that are alike", []fact.Program{down("named"), down("dnsmasq")}, "service/stopped likely"},
		{"two, of which one should run", []fact.Program{down("named", idle), down("dnsmasq", wanted)},
			"service/stopped proven"},
	} {
		s := newScene(
			t,
			"dns://10.20.0.14",
		).holds("v2", tidebook).
			client(tidebook, icmp(tidebook, 3)).
			listening().
			programs("systemd", c.list...)
		s.check(c.name, c.want)
	}
	s := newScene(
		t,
		"dns://10.20.0.14",
	).holds("v2", tidebook).
		client(tidebook, icmp(tidebook, 3)).
		listening().
		programs("", down("named"), down("dnsmasq"))
	s.set.Ask.Card = &fact.Card{Name: "tides", Program: "/usr/sbin/dnsmasq"}
	s.check("the card says which", "service/stopped proven")
}

// TestSwitchedOff is a unit that is stopped and switched off for good, beside another
// program that may serve in its place, and alone.
func TestSwitchedOff(t *testing.T) {
	off := fact.Unit{Name: "nginx.service", Load: "loaded", Active: "inactive", Enabled: "disabled", Result: "success"}
	forNow := fact.Unit{Name: "squatter.service", Load: "loaded", Active: "inactive", Enabled: "transient",
		Result: "success"}
	other := fact.Listener{Addr: netip.MustParseAddr("0.0.0.0"), Port: 8081}
	ssh := other
	ssh.Port = 22
	for _, c := range []struct {
		name string
		unit fact.Unit
		list []fact.Listener
		want string
	}{
		{"alone", off, nil, "service/stopped proven"},
		{"beside what is known for something else", off, []fact.Listener{ssh}, "service/stopped proven"},
		{"beside another", off, []fact.Listener{ssh, other}, "service/stopped likely"},
		{"started for the moment", forNow, nil, "service/stopped likely"},
	} {
		s := newScene(t, web).holds("v2", tidebook).named(tidebook).client(tidebook, reset).listening(c.list...).
			programs("systemd", fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "settings",
				Ports: []uint16{80}, Units: []fact.Unit{c.unit}})
		s.check(c.name, c.want)
	}
}
