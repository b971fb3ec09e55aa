package weigh

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// began is when every scenario plays.
var began = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)

const (
	gauge    = "10.20.7.31"
	tidebook = "10.20.0.14"
	resolver = "10.20.0.2:53"
)

// scenario is a set of facts written by hand.
type scenario struct {
	t   *testing.T
	ask fact.Ask
	set fact.Set
}

// step is one step of a climb.
type step func(*fact.Fact)

// newScene is a client, gauge-07, that asks for an endpoint. The server side
// is tidebook, seen as if the program ran there too.
func newScene(t *testing.T, input string) *scenario {
	t.Helper()
	e, err := endpoint.Parse(input)
	if err != nil {
		t.Fatal(err)
	}
	ask := fact.Ask{Endpoint: e, Began: began, WaitMS: 4000}
	return &scenario{t: t, ask: ask, set: fact.New(ask, []fact.Vantage{
		{ID: "v1", Role: fact.Client, Host: "gauge-07", Means: fact.Here},
		{ID: "v2", Role: fact.Server, Host: "tidebook", Means: fact.SSH},
	})}
}

func (s *scenario) weigh() trail.Trail {
	t, _ := Weigh(s.set)
	s.judgedOf(t)
	return t
}

func (s *scenario) wants(look fact.Kind, at fact.Role) bool {
	_, wants := Weigh(s.set)
	for _, w := range wants {
		if w.Look == look && w.At == at {
			return true
		}
	}
	return false
}

func (s *scenario) add(vantage string, look fact.Kind, target fact.Target, fill func(*fact.Fact)) *scenario {
	f := fact.Fact{
		Vantage: vantage,
		At:      began,
		Order:   fact.Order{Look: look, Target: target},
		Source:  string(look),
		Saw:     "seen",
	}
	fill(&f)
	s.set = s.set.With(f)
	return s
}

// target is the endpoint as tried at an address.
func (s *scenario) target(addr string) fact.Target {
	e := s.ask.Endpoint
	return fact.Target{
		Name:     e.Host,
		Addr:     netip.MustParseAddr(addr),
		Port:     e.Port,
		Scheme:   e.Scheme,
		Security: e.Security,
		Path:     e.Path,
	}
}

// asking is how the client looks up names.
func (s *scenario) asking(search ...string) *scenario {
	return s.add("v1", fact.LookNames, fact.Target{Name: s.ask.Endpoint.Host}, func(f *fact.Fact) {
		f.Setup = &fact.ResolverSetup{
			Path:    "/etc/resolv.conf",
			Servers: []netip.AddrPort{netip.MustParseAddrPort(resolver)},
			Search:  search,
			Ndots:   1,
		}
	})
}

// says is one resolver's answers to A and AAAA for a name.
func (s *scenario) says(name string, outcome fact.AnswerOutcome, addrs ...string) *scenario {
	return s.saysFor(s.ask.Endpoint.Host, resolver, name, outcome, addrs...)
}

func (s *scenario) saysFor(looked, resolver, name string, outcome fact.AnswerOutcome, addrs ...string) *scenario {
	for _, kind := range []string{"A", "AAAA"} {
		a := fact.Answer{Resolver: netip.MustParseAddrPort(resolver), Asked: name, Type: kind, Outcome: outcome,
			TTL: 300}
		for _, text := range addrs {
			if addr := netip.MustParseAddr(text); addr.Is4() == (kind == "A") {
				a.Addrs = append(a.Addrs, addr)
			}
		}
		if outcome == fact.Addressed && len(a.Addrs) == 0 {
			a.Outcome = fact.NoData
		}
		s.add("v1", fact.LookNames, fact.Target{Name: looked}, func(f *fact.Fact) { f.Answer = &a })
	}
	return s
}

// named is a name that one resolver answers with addresses.
func (s *scenario) named(addrs ...string) *scenario {
	return s.asking().says(s.ask.Endpoint.Host+".", fact.Addressed, addrs...)
}

func (s *scenario) hosts(addrs ...string) *scenario {
	return s.add("v1", fact.LookNames, fact.Target{Name: s.ask.Endpoint.Host}, func(f *fact.Fact) {
		h := fact.HostsFile{Path: "/etc/hosts", Name: s.ask.Endpoint.Host, Line: 7}
		for _, a := range addrs {
			h.Addrs = append(h.Addrs, netip.MustParseAddr(a))
		}
		f.HostsFile = &h
	})
}

func connected(f *fact.Fact) { f.Connect = &fact.Connect{Outcome: fact.Connected} }

func silent(f *fact.Fact) { f.Connect = &fact.Connect{Outcome: fact.Silent, TookMS: 4000} }

func reset(f *fact.Fact) { f.Connect = &fact.Connect{Outcome: fact.Reset} }

func local(errno string) step {
	return func(f *fact.Fact) { f.Connect = &fact.Connect{Outcome: fact.LocalError, Errno: errno} }
}

func icmp(from string, code uint8) step {
	return func(f *fact.Fact) {
		f.Connect = &fact.Connect{
			Outcome: fact.ICMP,
			ICMP:    &fact.ICMPError{From: netip.MustParseAddr(from), Type: 3, Code: code, Version: 4},
		}
	}
}

func greeted(e fact.Ending, protocol, refusal, code string) step {
	return func(f *fact.Fact) {
		f.Greeting = &fact.Greeting{Ending: e, Protocol: protocol, Refusal: refusal, Code: code, Head: refusal}
	}
}

func shook(h fact.Handshake) step { return func(f *fact.Fact) { f.Handshake = &h } }

func trusting(roots ...[]byte) step {
	return func(f *fact.Fact) {
		f.Trust = &fact.Trust{Source: "/etc/ssl/certs/ca-certificates.crt", Count: 140, Roots: roots}
	}
}

func replied(status int) step {
	return func(f *fact.Fact) {
		f.Reply = &fact.Reply{Ending: fact.Done, Protocol: "http", Status: status, Date: began, Refused: status == 401}
	}
}

func answered(r fact.Reply) step { return func(f *fact.Fact) { f.Reply = &r } }

// climb is a session from a vantage.
func (s *scenario) climb(vantage string, target fact.Target, steps ...step) *scenario {
	for _, each := range steps {
		s.add(vantage, fact.LookSession, target, each)
	}
	return s
}

func (s *scenario) client(addr string, steps ...step) *scenario {
	return s.climb("v1", s.target(addr), steps...)
}

// holds is the addresses of a host.
func (s *scenario) holds(vantage string, addrs ...string) *scenario {
	return s.add(vantage, fact.LookAddresses, fact.Target{}, func(f *fact.Fact) {
		a := fact.Addresses{
			Host: vantage,
			Held: []fact.Address{{Prefix: netip.MustParsePrefix("127.0.0.1/8"), Link: "lo", Up: true, Local: true}},
		}
		for _, each := range addrs {
			addr := netip.MustParseAddr(each)
			a.Held = append(a.Held, fact.Address{Prefix: netip.PrefixFrom(addr, addr.BitLen()-8), Link: "eth0",
				Up: true})
		}
		f.Addresses = &a
	})
}

// listening is the server's listeners.
func (s *scenario) listening(list ...fact.Listener) *scenario {
	return s.add(
		"v2",
		fact.LookListeners,
		fact.Target{Port: s.ask.Endpoint.Port, Scheme: s.ask.Endpoint.Scheme},
		func(f *fact.Fact) {
			f.Listeners = &fact.Listeners{All: list}
		},
	)
}

func listener(addr string, port uint16, program string) fact.Listener {
	return fact.Listener{
		Addr:    netip.MustParseAddr(addr),
		Port:    port,
		Program: program,
		PID:     4121,
		Limit:   511,
		Since:   began.Add(-72 * time.Hour),
	}
}

// programs is what stands behind the endpoint on the server.
func (s *scenario) programs(manager string, list ...fact.Program) *scenario {
	return s.add(
		"v2",
		fact.LookService,
		fact.Target{Port: s.ask.Endpoint.Port, Scheme: s.ask.Endpoint.Scheme},
		func(f *fact.Fact) {
			f.Service = &fact.Service{Manager: manager, Programs: list}
		},
	)
}

// expect compares blocking causes with what is wanted, each as
// "id certainty" or "id certainty behind id".
func expect(t *testing.T, got trail.Trail, want ...string) {
	t.Helper()
	var have []string
	for _, c := range got.Blocking() {
		text := c.ID + " " + string(c.Certainty)
		if len(c.MaskedBy) > 0 {
			for _, other := range got.Causes {
				if other.Key == c.MaskedBy[0] {
					text += " behind " + other.ID
				}
			}
		}
		have = append(have, text)
	}
	if strings.Join(have, "; ") != strings.Join(want, "; ") {
		t.Errorf("blocking causes:\n got %q\nwant %q\n%s", have, want, dump(got))
	}
}

// expectDoubts compares the causes that do not block.
func expectDoubts(t *testing.T, got trail.Trail, want ...string) {
	t.Helper()
	var have []string
	for _, c := range got.Causes {
		if !c.Blocking {
			have = append(have, c.ID+" "+string(c.Certainty))
		}
	}
	if strings.Join(have, "; ") != strings.Join(want, "; ") {
		t.Errorf("doubts:\n got %q\nwant %q", have, want)
	}
}

func expectRungs(t *testing.T, got trail.Trail, want map[trail.Rung]trail.State) {
	t.Helper()
	for _, f := range got.Rungs {
		if state, ok := want[f.Name]; ok && f.State != state {
			t.Errorf("rung %s: %s (%s), want %s", f.Name, f.State, f.Summary, state)
		}
	}
}

func dump(t trail.Trail) string {
	var b strings.Builder
	for _, f := range t.Rungs {
		b.WriteString(string(f.Name) + " " + string(f.State) + " " + f.Summary + "\n")
	}
	for _, c := range t.Causes {
		b.WriteString(c.Key + " " + c.ID + " " + string(c.Certainty) + " " + c.Summary + "\n")
	}
	return b.String()
}

// check weighs a scenario and compares its blocking causes, each with its
// certainty.
func (s *scenario) check(name string, want ...string) {
	s.t.Helper()
	var have []string
	for _, c := range s.weigh().Causes {
		if c.Blocking {
			have = append(have, c.ID+" "+string(c.Certainty))
		}
	}
	if strings.Join(have, ", ") != strings.Join(want, ", ") {
		s.t.Errorf("%s: %q, want %q: %s", name, have, want, summaries(s.weigh().Causes))
	}
}

func summaries(causes []trail.Cause) string {
	var list []string
	for _, c := range causes {
		list = append(list, c.ID+": "+c.Summary)
	}
	return strings.Join(list, "; ")
}
