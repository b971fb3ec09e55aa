package weigh

import (
	"net/netip"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// routed is a route, direct or through a router.
func (s *scenario) routed(vantage, to, source string, via ...string) *scenario {
	r := fact.Route{Outcome: "found", Source: netip.MustParseAddr(source)}
	for _, each := range via {
		r.Via = netip.MustParseAddr(each)
	}
	return s.add(vantage, fact.LookRoute, fact.Target{Addr: netip.MustParseAddr(to)},
		func(f *fact.Fact) { f.Route = &r })
}

// listed is a plain list that the card names, and which does not name the
// client, and the program that reads it.
func listed(t *testing.T, changed, started time.Time) *scenario {
	s := carded(t, fact.Card{Program: "nginx"}).holds("v1", gauge).holds("v2", tidebook)
	s.ask.Endpoint.Path, s.set.Ask.Endpoint.Path = "/", "/"
	p := fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "card"}
	if !started.IsZero() {
		p.Processes = []fact.Process{{PID: 4121, Since: started}}
	}
	return s.named(tidebook).
		client(tidebook, connected, replied(403)).
		listening(listener("0.0.0.0", 80, "nginx")).
		programs("", p).
		add("v2", fact.LookAccess, fact.Target{Port: 80}, func(f *fact.Fact) {
			f.Access = &fact.Access{Files: []fact.AccessFile{{Path: "/etc/nginx/nginx.conf", Kind: "nginx",
				Changed: changed,
				Lines:   linesOf("server {\n listen 80;\n allow 10.20.8.0/24;\n deny all;\n}")}}}
		})
}

// TestEveryGuard breaks one guard of something that is proven, and sees that it
// falls: to likely, or to nothing where an open gate rested on it.
func TestEveryGuard(t *testing.T) {
	hour := time.Hour
	old, young := began.Add(-9*hour), began.Add(-hour)
	whole := func() *scenario { return listed(t, old, young).routed("v1", tidebook, gauge) }
	whole().check("every guard holds", "rules/not-on-list proven")
	listed(
		t,
		old,
		young,
	).routed("v1", tidebook, gauge, "10.20.7.1").
		check("same source: a router may translate", "rules/not-on-list likely")
	seen := listed(t, old, young).routed("v1", tidebook, gauge, "10.20.7.1")
	seen.add("v2", fact.LookPeers, fact.Target{}, func(f *fact.Fact) {
		f.Peers = &fact.Peers{List: []fact.Peer{{Addr: netip.MustParseAddr(gauge)}}}
	}).check("same source: the server sees it", "rules/not-on-list proven")
	listed(t, young, old).routed("v1", tidebook, gauge).check("same process: not read since",
		"rules/not-on-list likely")
	listed(
		t,
		old,
		time.Time{},
	).routed("v1", tidebook, gauge).
		check("same process: when it read them was not seen", "rules/not-on-list likely")
	again := fact.Program{
		Name:      "nginx",
		Path:      "/usr/sbin/nginx",
		Why:       "card",
		Processes: []fact.Process{{PID: 4190, Since: began}},
	}
	whole().add("v2", fact.LookService, fact.Target{Port: 80, Scheme: "http", Again: 1},
		func(f *fact.Fact) { f.Service = &fact.Service{Programs: []fact.Program{again}} }).
		check("same process: started again meanwhile", "rules/not-on-list likely")
	record := whole()
	record.set.Vantages[1].Means, record.set.Vantages[1].Ended = fact.Record, began.Add(-time.Minute)
	record.check("same time: a record of now, and clocks that agree", "rules/not-on-list proven")
	record.set.Vantages[1].Ended = began.Add(-20 * time.Minute)
	record.check("same time: an old record", "rules/not-on-list likely")
	record.set.Vantages[1].Ended = began.Add(hour)
	record.check("same time: a record of the future", "rules/not-on-list likely")
}

// TestOldRecordOpensNothing has the server's record say that its filters let
// everything in. If it is old, what is on the way is not all that is left.
func TestOldRecordOpensNothing(t *testing.T) {
	for age, want := range map[time.Duration]trail.Certainty{time.Minute: trail.Likely,
		48 * time.Hour: trail.Possible} {
		s := both(
			t,
		).tables("v1", "").
			tables("v2", "").
			add("v1", fact.LookHops, fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 80}, func(f *fact.Fact) {
				f.Hops = &fact.Hops{Routers: []netip.Addr{{}, netip.MustParseAddr("10.20.3.1"), {}}}
			})
		s.set.Vantages[1].Means, s.set.Vantages[1].Ended = fact.Record, began.Add(-age)
		got := s.weigh()
		found := trail.Certainty("")
		for _, c := range got.Causes {
			if c.ID == "rules/transit-silent" {
				found = c.Certainty
			}
		}
		if found != want {
			t.Errorf("a record that is %s old: %q, want %q\n%s", age, found, want, dump(got))
		}
	}
}

// TestHasty is a try that was cut off before its answer could be called late:
// that none came says nothing, whatever else is open.
func TestHasty(t *testing.T) {
	waited := func(ms float64) *scenario {
		return newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			listening(listener("0.0.0.0", 80, "nginx")).
			programs("systemd", nginxUp).
			client(tidebook, connected, answered(fact.Reply{Ending: fact.Stalled, Protocol: "http", TookMS: ms}))
	}
	hasty, patient := waited(900).weigh(), waited(9000).weigh()
	if len(hasty.Blocking()) > 0 {
		t.Errorf("it was not waited for:\n%s", dump(hasty))
	}
	_ = patient
}

// TestLockedInPlainWords is a log that says of a refusal only that there was
// one: it proves a wrong secret if the account's state was read, and is well.
func TestLockedInPlainWords(t *testing.T) {
	login := func() *fact.Login {
		return &fact.Login{Outcome: fact.LoginRefused, Mechanism: "password", Offered: []string{"password"}}
	}
	logged := func(a fact.Account) *scenario {
		return sshAs(
			t,
			a,
			login(),
		).add("v2", fact.LookService, fact.Target{Port: 22, Scheme: "ssh", Again: 1}, func(f *fact.Fact) {
			f.Service = &fact.Service{
				Programs: []fact.Program{
					{
						Name: "sshd",
						Logs: []fact.LogFile{
							{Path: "/var/log/auth.log",
								Lines: []string{"Failed password for gauge from 10.20.7.31 port 40022 ssh2"}},
						},
					},
				},
			}
		})
	}
	well := fact.Account{Known: true, Shadow: true, Shell: "/bin/sh", UID: "1000"}
	logged(well).check("the account is well", "login/wrong-secret proven")
	unread := well
	unread.Shadow = false
	logged(unread).check("its state was not read", "login/wrong-secret likely")
	locked := well
	locked.Locked = true
	logged(locked).check("it is locked", "login/locked proven")
	failing := well
	failing.Deny, failing.Failures = 5, 2
	logged(failing).check("failures count", "login/wrong-secret proven")
}
