package weigh

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

func nginxWith(r fact.Process) fact.Program {
	return fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "card", Processes: []fact.Process{r}}
}

func unitWith(edit func(*fact.Unit)) fact.Program {
	u := fact.Unit{Name: "nginx.service", Load: "loaded", Active: "failed", Since: began.Add(-time.Hour)}
	edit(&u)
	return with(nginxDown, u)
}

func logged(lines ...string) []fact.LogLine {
	var list []fact.LogLine
	for _, l := range lines {
		list = append(list, fact.LogLine{Unit: "nginx.service", Text: l})
	}
	return list
}

// TestServiceCauses is the causes of the service rung, from hand-written
// facts: the service holds no port, and the client is refused.
func TestServiceCauses(t *testing.T) {
	for name, c := range map[string]struct {
		program fact.Program
		want    string
		says    string
	}{
		"a zombie": {nginxWith(fact.Process{PID: 7, State: "Z"}), "service/zombie proven", "zombie"},
		"failed, and why": {unitWith(func(u *fact.Unit) {
			u.Result, u.Status, u.Log = "exit-code", 3,
				logged("no tide today")
		}),
			"service/failed proven", `failed for 1 hour: exit status 3, its log ends in "no tide today"`},
		"killed by a signal": {unitWith(func(u *fact.Unit) { u.Result, u.Status, u.Signal = "signal", 11, true }),
			"service/failed proven", "killed by signal 11"},
		"a file of settings is only spoken of": {unitWith(func(u *fact.Unit) {
			u.Result, u.Status, u.Log = "exit-code", 3, logged("reading configuration file /etc/tide.conf",
				"ERROR: syntax error at or near SELEC", "no tide today")
		}), "service/failed proven", "no tide today"},
		"settings refused": {unitWith(func(u *fact.Unit) {
			u.Log = logged("[emerg] unknown directive",
				"configuration file test failed")
		}),
			"service/settings-rejected proven", "[emerg]"},
		"what was mended before the last two starts does not count": {unitWith(func(u *fact.Unit) {
			u.Result, u.Status = "exit-code", 3
			u.Log = logged("Starting nginx.service - the web", "[emerg] unknown directive",
				"Starting nginx.service - the web", "no tide", "Starting nginx.service - the web", "no tide today")
		}), "service/failed proven", "no tide today"},
		"its port was taken, by somebody who is gone": {unitWith(func(u *fact.Unit) {
			u.Log = logged("bind() failed " +
				"(98: Address already in use)")
		}),
			"service/port-taken likely", "98"},
		"no room on the disk": {unitWith(func(u *fact.Unit) {
			u.Log = logged("write: No space left on " +
				"device")
		}), "service/starved proven", "No space"},
		"no such image": {unitWith(func(u *fact.Unit) {
			u.Result, u.Status, u.Log = "exit-code", 125,
				logged("Error: initializing source docker://tide/book:9: manifest unknown")
		}), "service/image-missing proven", "manifest unknown"},
		"killed for want of memory": {unitWith(func(u *fact.Unit) { u.Result = "oom-kill" }), "service/starved proven",
			"memory"},
		"a requirement is down": {unitWith(func(u *fact.Unit) {
			u.Active, u.Down = "inactive",
				[]string{"pump.service (failed)"}
		}), "service/needs-down proven", "pump.service"},
		"started again and again": {unitWith(func(u *fact.Unit) {
			u.Active, u.Sub, u.Restarts = "activating",
				"auto-restart", 9
		}), "service/restarting proven", "9 times"},
		"up for a moment, between two restarts": {with(nginxUp, fact.Unit{Name: "nginx.service", Load: "loaded",
			Active: "active", Restarts: 7, Since: began.Add(-time.Second)}),
			"service/restarting proven", "7 times"},
		"still starting": {unitWith(func(u *fact.Unit) { u.Active, u.Sub = "activating", "start-pre" }),
			"service/starting proven", "starting"},
		"a condition is not met": {unitWith(func(u *fact.Unit) {
			u.Active, u.Failed = "inactive",
				[]string{"ConditionPathExists=/srv"}
		}), "service/stopped proven", "/srv"},
		"not there at all": {fact.Program{Name: "nginx", Why: "unit",
			Units: []fact.Unit{{Name: "nginx.service", Load: "not-found"}}}, "service/not-installed proven",
			"not on tidebook"},
		"just started, no port yet": {nginxWith(fact.Process{PID: 7, State: "S", Since: began.Add(-3 * time.Second)}),
			"service/starting likely", "3 seconds"},
	} {
		t.Run(name, func(t *testing.T) {
			got := newScene(
				t,
				web,
			).holds("v1", gauge).
				holds("v2", tidebook).
				named(tidebook).
				client(tidebook, reset).
				listening().
				programs("systemd", c.program).
				weigh()
			expect(t, got, c.want)
			if !strings.Contains(got.Causes[0].Summary, c.says) {
				t.Errorf("summary %q lacks %q", got.Causes[0].Summary, c.says)
			}
			if len(got.Causes[0].Remedies) == 0 {
				t.Error("no remedy")
			}
		})
	}
}

// copyOf is a program with the processes of another.
func copyOf(p, other fact.Program) fact.Program {
	p.Processes = other.Processes
	return p
}

// TestOtherSpace is a listener in another network namespace of the server's host:
// the endpoint's own, somebody else's, and one of which nobody can say.
func TestOtherSpace(t *testing.T) {
	apart := nginxWith(fact.Process{PID: 4121, State: "S", Apart: true})
	stopped := unitWith(func(u *fact.Unit) { u.Active = "inactive" })
	for name, c := range map[string]struct {
		programs []fact.Program
		program  string
		want     []string
	}{
		"its own program":             {[]fact.Program{apart}, "nginx", []string{"ports/other-namespace proven"}},
		"another, and its own is off": {[]fact.Program{stopped}, "caddy", []string{"service/stopped proven"}},
		"nobody knows its own":        {nil, "caddy", []string{"ports/other-namespace likely"}},
		"a copy of it elsewhere, and its unit is off": {
			[]fact.Program{copyOf(stopped, apart)}, "caddy", []string{"service/stopped proven"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, reset)
			s.programs("systemd", c.programs...)
			s.add("v2", fact.LookListeners, fact.Target{Port: 80, Scheme: "http"}, func(f *fact.Fact) {
				l := listener("0.0.0.0", 80, c.program)
				l.PID, l.Space = 4121, "that of pid 4121"
				if c.program != "nginx" {
					l.PID = 5300
				}
				f.Listeners = &fact.Listeners{All: []fact.Listener{}, Elsewhere: []fact.Listener{l}}
			})
			expect(t, s.weigh(), c.want...)
		})
	}
}

// TestServing is what can be wrong with a service that holds its port.
func TestServing(t *testing.T) {
	silentAnswer := answered(fact.Reply{Ending: fact.Stalled, Protocol: "http", TookMS: 6000})
	scenario := func(t *testing.T, p fact.Program, steps ...step) *scenario {
		return newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, steps...).
			listening(listener("0.0.0.0", 80, "nginx")).
			programs("systemd", p)
	}
	t.Run("halted", func(t *testing.T) {
		expect(
			t,
			scenario(t, nginxWith(fact.Process{PID: 4121, State: "T"}), connected, silentAnswer).weigh(),
			"service/hung proven",
		)
	})
	t.Run("takes nobody off its queue", func(t *testing.T) {
		s := scenario(t, nginxUp, connected, silentAnswer)
		if !s.wants(fact.LookListeners, fact.Server) {
			t.Error("the queue is not looked at again")
		}
		queued := func(again int, n uint32) {
			s.add("v2", fact.LookListeners, fact.Target{Port: 80, Scheme: "http", Again: again}, func(f *fact.Fact) {
				l := listener("0.0.0.0", 80, "nginx")
				l.Queue = n
				f.Listeners = &fact.Listeners{All: []fact.Listener{l}}
			})
		}
		queued(1, 2)
		expect(t, s.weigh(), "service/hung likely")
		queued(2, 2)
		expect(t, s.weigh(), "service/hung proven")
	})
	t.Run("busy for a moment", func(t *testing.T) {
		s := scenario(t, nginxUp, connected, silentAnswer)
		for i, n := range []uint32{1, 0} {
			s.add("v2", fact.LookListeners, fact.Target{Port: 80, Scheme: "http", Again: i + 1}, func(f *fact.Fact) {
				l := listener("0.0.0.0", 80, "nginx")
				l.Queue = n
				f.Listeners = &fact.Listeners{All: []fact.Listener{l}}
			})
		}
		for _, c := range s.weigh().Causes {
			if c.ID == "service/hung" && c.Certainty != trail.Possible {
				t.Errorf("a queue that was emptied: %s", dump(s.weigh()))
			}
		}
	})
	t.Run("no descriptors left", func(t *testing.T) {
		expect(
			t,
			scenario(
				t,
				nginxWith(fact.Process{PID: 4121, State: "S", Files: 1024, Limit: 1024}),
				connected,
				silentAnswer,
			).weigh(),
			"service/starved proven",
		)
	})
	t.Run("a process that may open none on purpose", func(t *testing.T) {
		got := scenario(t, nginxWith(fact.Process{PID: 4122, State: "S", Files: 7, Limit: 1}), connected,
			silentAnswer).weigh()
		for _, c := range got.Causes {
			if c.ID == "service/starved" {
				t.Error(dump(got))
			}
		}
	})
	t.Run("queues overflowed while ours was tried", func(t *testing.T) {
		s := scenario(t, nginxUp, silent)
		if !s.wants(fact.LookKernel, fact.Server) {
			t.Error("the counters are not wanted")
		}
		for again, count := range []uint64{17, 20} {
			s.add("v2", fact.LookKernel, fact.Target{Again: again}, func(f *fact.Fact) {
				f.Kernel = &fact.Kernel{Counters: map[string]uint64{"ListenOverflows": count}}
			})
		}
		expect(t, s.weigh(), "ports/queue-full likely")
	})
	t.Run("silent, and nothing says why", func(t *testing.T) {
		got := scenario(t, nginxUp, connected, silentAnswer).weigh()
		for _, c := range got.Causes {
			if c.Certainty == trail.Proven {
				t.Errorf("%s is called proven", c.ID)
			}
		}
	})
	t.Run("doubts of a service that works", func(t *testing.T) {
		up := fact.Unit{
			Name:     "nginx.service",
			Load:     "loaded",
			Active:   "active",
			Sub:      "running",
			Enabled:  "disabled",
			Restarts: 4,
			Since:    began.Add(-time.Minute),
		}
		s := scenario(t, with(nginxUp, up), connected, replied(200))
		s.set.Ask.Card = &fact.Card{Name: "tidebook", Ports: []uint16{80, 8081}}
		got := s.weigh()
		expect(t, got)
		expectDoubts(t, got, "service/restarting proven", "service/not-enabled proven", "ports/some-missing proven")
	})
	t.Run("ports open one after another", func(t *testing.T) {
		young := nginxWith(fact.Process{PID: 7, State: "S", Since: began.Add(-9 * time.Second)})
		s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, reset).
			listening(listener("0.0.0.0", 8081, "nginx")).programs("", young)
		s.set.Ask.Card = &fact.Card{Name: "tidebook", Ports: []uint16{80, 8081, 8082}}
		got := s.weigh()
		expect(t, got, "service/starting likely")
		if want := "2 of the card's 3 ports are still closed"; !strings.Contains(got.Causes[0].Summary, want) {
			t.Errorf("summary %q lacks %q", got.Causes[0].Summary, want)
		}
	})
	t.Run("a full disk is a doubt", func(t *testing.T) {
		s := scenario(t, nginxUp, connected, replied(500))
		s.add("v2", fact.LookResources, fact.Target{}, func(f *fact.Fact) {
			f.Resources = &fact.Resources{Disks: []fact.Disk{{Path: "/var", Size: 1 << 30, Inodes: 9, FreeInodes: 9}}}
		})
		got := s.weigh()
		expect(t, got, "answer/error-status proven")
		expectDoubts(t, got, "service/starved proven")
	})
	t.Run("a log that stands still is a doubt", func(t *testing.T) {
		p := why(nginxUp, "card")
		p.Logs = []fact.LogFile{{Path: "/var/log/tide.log", Changed: began.Add(-time.Hour), Stale: "10m"}}
		got := scenario(t, p, connected, replied(200)).weigh()
		expect(t, got)
		expectDoubts(t, got, "service/stale-log proven")
	})
	t.Run("refused by the system's policy, by its log", func(t *testing.T) {
		for before, want := range map[time.Duration]string{time.Second: "service/policy-denied proven",
			time.Hour: "service/stopped proven"} {
			down := unitWith(func(u *fact.Unit) { u.Active = "inactive" })
			s := newScene(
				t,
				web,
			).holds("v1", gauge).
				holds("v2", tidebook).
				named(tidebook).
				client(tidebook, reset).
				listening().
				programs("systemd", down)
			s.add("v2", fact.LookResources, fact.Target{}, func(f *fact.Fact) {
				line := fact.LogLine{
					At:   down.Units[0].Since.Add(-before),
					Text: `audit: apparmor="DENIED" operation="bind" comm="nginx"`,
				}
				f.Resources = &fact.Resources{Denials: []fact.LogLine{line}}
			})
			expect(t, s.weigh(), want)
		}
	})
	t.Run("another program holds the port of a named one", func(t *testing.T) {
		s := newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, connected, replied(200)).
			listening(listener("0.0.0.0", 80, "squatter")).
			programs("", why(nginxDown, "card"))
		expect(t, s.weigh(), "ports/other-owner proven")
	})
}

// TestServerAddress is the server's own addresses against the one tried.
func TestServerAddress(t *testing.T) {
	refused := func(t *testing.T, input string) *scenario {
		return newScene(t, input).holds("v1", gauge).holds("v2", "10.20.0.15")
	}
	t.Run("the name gives an old address, and the server's own works", func(t *testing.T) {
		got := refused(t, web).named(tidebook).client(tidebook, silent).client("10.20.0.15", connected,
			replied(200)).weigh()
		expect(t, got, "names/stale-address proven")
	})
	t.Run("a setting holds an old address", func(t *testing.T) {
		got := refused(
			t,
			"http://"+tidebook+"/",
		).client(tidebook, silent).
			client("10.20.0.15", connected, replied(200)).
			weigh()
		expect(t, got, "settings/stale-address proven")
	})
	t.Run("neither address works: there may be a translation", func(t *testing.T) {
		got := refused(t, web).named(tidebook).client(tidebook, silent).client("10.20.0.15", silent).weigh()
		expect(t, got)
		if first := got.Causes[0]; first.ID != "names/stale-address" || first.Certainty != trail.Possible ||
			len(got.Blocking()) > 0 {
			t.Errorf("what something speaks for is told first\n%s", dump(got))
		}
	})
	for name, c := range map[string]struct {
		edit func(*fact.Address)
		want string
	}{
		"the link is down": {func(a *fact.Address) { a.Up = false }, "service/address-missing proven"},
		"another machine has it too": {func(a *fact.Address) { a.State = "duplicate" },
			"service/address-twice proven"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScene(t, web).holds("v1", gauge).named(tidebook).client(tidebook, silent)
			s.add("v2", fact.LookAddresses, fact.Target{}, func(f *fact.Fact) {
				a := fact.Address{Prefix: netip.MustParsePrefix(tidebook + "/24"), Link: "eth0", Up: true}
				c.edit(&a)
				f.Addresses = &fact.Addresses{Host: "tidebook", Held: []fact.Address{a}}
			})
			expect(t, s.weigh(), c.want)
		})
	}
}

// TestAge breaks the guard of the same time.
func TestAge(t *testing.T) {
	for name, c := range map[string]struct {
		old  time.Duration // of the record, by the server's clock
		date time.Duration // how far the server's clock is ahead; 99 h: not known
		want trail.Certainty
	}{
		"fresh, by a clock that agrees":               {5 * time.Minute, 0, trail.Proven},
		"fresh, by a clock that was compared":         {5 * time.Minute, time.Hour, trail.Proven},
		"too old":                                     {20 * time.Minute, 0, trail.Likely},
		"too old by the server's clock":               {40 * time.Minute, -time.Hour, trail.Likely},
		"from the future":                             {-time.Hour, 0, trail.Likely},
		"nobody compared the clocks":                  {5 * time.Minute, 99 * time.Hour, trail.Likely},
		"old, and the server's clock is one day fast": {20 * time.Minute, 24 * time.Hour, trail.Likely},
	} {
		t.Run(name, func(t *testing.T) {
			l := listener("0.0.0.0", 80, "squatter")
			reply := fact.Reply{Ending: fact.Done, Protocol: "http", Status: 200}
			skew := time.Duration(0)
			if c.date != 99*time.Hour {
				skew = c.date
				reply.Date = began.Add(c.date)
			}
			s := newScene(
				t,
				web,
			).holds("v1", gauge).
				holds("v2", tidebook).
				named(tidebook).
				client(tidebook, connected, answered(reply)).
				listening(l).
				programs("", why(nginxDown, "card"))
			s.set.Vantages[1].Means, s.set.Vantages[1].Ended = fact.Record, began.Add(skew).Add(-c.old)
			expect(t, s.weigh(), "ports/other-owner "+string(c.want))
		})
	}
}

// TestAddressTwice is a link on which somebody answers for the server's
// address.
func TestAddressTwice(t *testing.T) {
	const ours, theirs = "02:00:0a:14:00:0e", "02:00:0a:14:00:63"
	claim := func(s *scenario, vantage string, own bool, macs ...string) *scenario {
		target := fact.Target{}
		if !own {
			target.Addr = netip.MustParseAddr(tidebook)
		}
		return s.add(vantage, fact.LookClaims, target, func(f *fact.Fact) {
			f.Claims = &fact.Claims{List: []fact.Claim{{Addr: netip.MustParseAddr(tidebook), Dev: "eth0", Own: own,
				MACs: macs}}}
		})
	}
	refused := func(server bool) *scenario {
		s := newScene(t, "http://10.20.0.14").holds("v1", gauge).client(tidebook, reset)
		if !server {
			return s
		}
		s.add("v2", fact.LookAddresses, fact.Target{}, func(f *fact.Fact) {
			f.Addresses = &fact.Addresses{Host: "tidebook", MACs: []string{ours},
				Held: []fact.Address{{Prefix: netip.MustParsePrefix("10.20.0.14/24"), Link: "eth0", Up: true}}}
		})
		return s.listening(listener("0.0.0.0", 80, "nginx"))
	}
	claim(refused(true), "v2", true, theirs).check("the server hears another", "service/address-twice proven")
	claim(refused(true), "v2", true).check("the server hears nobody")
	claim(refused(true), "v2", true, ours).check("the server hears itself on another link")
	claim(refused(true), "v1", false, ours, theirs).check("the client hears two", "service/address-twice proven")
	claim(refused(false), "v1", false, ours, theirs).check("the client alone hears two",
		"service/address-twice likely")
	claim(refused(true), "v1", false, theirs).check("one that answers for others")
}

// TestStartsLate is a service that is stopped and starts some minutes after its host.
func TestStartsLate(t *testing.T) {
	for up, want := range map[time.Duration]string{
		3 * time.Minute: "service/stopped likely", time.Hour: "service/stopped proven",
	} {
		s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook,
			reset).listening()
		s.programs("the service manager", unitWith(func(u *fact.Unit) {
			u.Active, u.Late, u.Begins = "inactive", true, "it starts by itself some minutes after the host"
		}))
		s.add("v2", fact.LookIdentity, fact.Target{}, func(f *fact.Fact) {
			f.Identity = &fact.Identity{System: "windows", Boot: began.Add(-up), Clock: began}
		})
		got := s.weigh()
		expect(t, got, want)
		if !strings.Contains(got.Causes[0].Summary, "some minutes after the host") {
			t.Error(got.Causes[0].Summary)
		}
	}
}
