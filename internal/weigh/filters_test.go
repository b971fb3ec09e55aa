package weigh

import (
	"net/netip"
	"slices"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// Tables as iptables-save writes them, for scenes.
const tablesHead = "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n"

func tablesOf(rules string) *fact.Tables {
	return &fact.Tables{Nftables: &fact.Nftables{}, Saved: []fact.SavedTables{{Text: tablesHead + rules +
		"\nCOMMIT\n"}}}
}

// tables is the filters of a vantage, with what else decides beside them.
func (s *scenario) tables(vantage, rules string) *scenario {
	s.add(vantage, fact.LookTables, fact.Target{}, func(f *fact.Fact) { f.Tables = tablesOf(rules) })
	return s.barriers(vantage, fact.Barriers{})
}

func (s *scenario) barriers(vantage string, b fact.Barriers) *scenario {
	if !s.kernelRead(vantage) {
		s.kernel(vantage, nil)
	}
	return s.add(vantage, fact.LookBarriers, fact.Target{}, func(f *fact.Fact) { f.Barriers = &b })
}

func (s *scenario) kernelRead(vantage string) bool {
	return slices.ContainsFunc(s.set.Facts, func(f fact.Fact) bool { return f.Vantage == vantage && f.Kernel != nil })
}

// kernel is the settings of a vantage's kernel, in the place of earlier ones.
func (s *scenario) kernel(vantage string, settings map[string]string) *scenario {
	s.set.Facts = slices.DeleteFunc(slices.Clone(s.set.Facts), func(f fact.Fact) bool {
		return f.Vantage == vantage && f.Kernel != nil && f.Order.Target == fact.Target{}
	})
	return s.add(
		vantage,
		fact.LookKernel,
		fact.Target{},
		func(f *fact.Fact) { f.Kernel = &fact.Kernel{Settings: settings} },
	)
}

// sends is the route by which a vantage sends to an address, in the place of
// an earlier one.
func (s *scenario) sends(vantage, to, source, via string) *scenario {
	route := &fact.Route{Outcome: "found", Dev: "eth0", Source: netip.MustParseAddr(source)}
	if via != "" {
		route.Via = netip.MustParseAddr(via)
	}
	target := fact.Target{Addr: netip.MustParseAddr(to)}
	earlier := slices.IndexFunc(s.set.Facts, func(f fact.Fact) bool {
		return f.Vantage == vantage && f.Order == fact.Order{Look: fact.LookRoute, Target: target}
	})
	if earlier >= 0 {
		s.set.Facts[earlier].Route = route
		return s
	}
	return s.add(vantage, fact.LookRoute, target, func(f *fact.Fact) { f.Route = route })
}

func (s *scenario) peers(vantage string, addrs ...string) *scenario {
	return s.add(vantage, fact.LookPeers, fact.Target{}, func(f *fact.Fact) {
		f.Peers = &fact.Peers{}
		for _, a := range addrs {
			f.Peers.List = append(f.Peers.List, fact.Peer{Addr: netip.MustParseAddr(a), State: "established",
				Count: 1})
		}
	})
}

// gateway is heron, a vantage between the two networks.
func (s *scenario) gateway() *scenario {
	s.set.Vantages = append(s.set.Vantages, fact.Vantage{ID: "v3", Role: fact.Gateway, Host: "heron", Means: fact.SSH})
	return s.holds("v3", "10.20.7.1", "10.20.0.1")
}

func listening() fact.Listener {
	return fact.Listener{Addr: netip.MustParseAddr(tidebook), Port: 80, Limit: 511, PID: 4, Program: "nginx"}
}

// both is a client and a server on one link, seen whole, with a silence
// between them.
func both(t *testing.T) *scenario {
	return newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, silent).
		listening(listening()).
		sends("v1", tidebook, gauge, "").
		sends("v2", gauge, tidebook, "")
}

// TestFilterReadings is rules of either end, with the guards that keep them
// from being proven.
func TestFilterReadings(t *testing.T) {
	const from, port = "-A INPUT -s 10.20.7.31 -j DROP", "-A INPUT -p tcp --dport 80 -j DROP"
	for _, c := range []struct {
		name     string
		scenario func(*scenario) *scenario
		want     []string
		says     string
	}{
		{"the server's rule, on one link", func(s *scenario) *scenario {
			return s.tables("v1", "").tables("v2",
				from)
		}, []string{"rules/server-drop proven"}, "chain INPUT, rule 1"},
		{"the server's rule for anybody, behind a router", func(s *scenario) *scenario {
			return s.sends("v1", tidebook, gauge, "10.20.7.1").tables("v1", "").tables("v2", port)
		}, []string{"rules/server-drop proven"}, ""},
		{"the client's own rule", func(s *scenario) *scenario {
			return s.tables("v1", "-A OUTPUT -p tcp --dport 80 -j DROP").tables("v2", "")
		}, []string{"rules/client-drop proven"}, ""},
		{"both ends", func(s *scenario) *scenario {
			return s.tables("v1", "-A OUTPUT -p tcp --dport 80 -j DROP").tables("v2", port)
		}, []string{"rules/client-drop proven", "rules/server-drop proven"}, ""},
		{"the reply, at the server", func(s *scenario) *scenario {
			return s.tables("v1", "").tables("v2", "-A OUTPUT -p tcp --sport 80 -j DROP")
		}, []string{"rules/return-drop proven"}, "drops the reply"},
		{"the reply, at the client", func(s *scenario) *scenario {
			return s.tables("v1", "-A INPUT -p tcp --sport 80 -j DROP").tables("v2", "")
		}, []string{"rules/return-drop proven"}, ""},
		{"a rule of another port", func(s *scenario) *scenario {
			return s.tables("v1", "").tables("v2", "-A INPUT -p tcp --dport 81 -j DROP")
		}, []string{"rules/transit-silent likely"}, ""},
		{"the rate decides", func(s *scenario) *scenario {
			return s.tables("v1", "").tables("v2",
				"-A INPUT -m limit --limit 5/s -j ACCEPT\n-A INPUT -s 10.20.7.0/24 -m limit --limit 1/s -j DROP")
		}, []string{"rules/rate-limited likely"}, "nothing else"},
		{"nobody read the server's", func(s *scenario) *scenario { return s.tables("v1", "") }, nil, ""},
	} {
		s := c.scenario(both(t))
		s.check(c.name, c.want...)
		if text := summaries(s.weigh().Causes); !strings.Contains(text, c.says) {
			t.Errorf("%s: it says %q, not %q", c.name, text, c.says)
		}
	}
}

// TestFilterGuards breaks one guard at a time.
func TestFilterGuards(t *testing.T) {
	const from = "-A INPUT -s 10.20.7.31 -j DROP"
	behind := func(s *scenario) *scenario {
		return s.sends("v1", tidebook, gauge, "10.20.7.1").tables("v1", "").tables("v2", from)
	}
	for _, c := range []struct {
		name     string
		scenario func(*scenario) *scenario
		want     trail.Certainty
	}{
		{"on one link", func(s *scenario) *scenario { return s.tables("v1", "").tables("v2", from) }, trail.Proven},
		{"a router may translate", behind, trail.Likely},
		{"a router, and the server sees the client's own address",
			func(s *scenario) *scenario { return behind(s).peers("v2", gauge) }, trail.Proven},
		{"a router, and the server sees others", func(s *scenario) *scenario {
			return behind(s).peers("v2",
				"10.20.9.9")
		}, trail.Likely},
		{"a router that was read", func(s *scenario) *scenario {
			return behind(s).sends("v2", gauge, tidebook, "10.20.0.1").gateway().tables("v3", "").
				kernel("v3", map[string]string{"net/ipv4/ip_forward": "1"})
		}, trail.Proven},
	} {
		found := trail.Certainty("")
		for _, cause := range c.scenario(both(t)).weigh().Causes {
			if cause.ID == "rules/server-drop" && cause.Blocking {
				found = cause.Certainty
			}
		}
		if found != c.want {
			t.Errorf("%s: %q, want %q", c.name, found, c.want)
		}
	}
}

// withGroup is both ends read, and a packet program of a control group on the
// server.
func withGroup(group, name string, unit fact.Unit) func(*scenario) *scenario {
	return func(s *scenario) *scenario {
		unit.Name, unit.Load, unit.Active = "nginx.service", "loaded", "active"
		s.programs("systemd", fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "unit",
			Units:     []fact.Unit{unit},
			Processes: []fact.Process{{PID: 4121, State: "S"}}})
		s.add("v2", fact.LookTables, fact.Target{}, func(f *fact.Fact) { f.Tables = tablesOf("") })
		return s.tables("v1", "").
			barriers("v2", fact.Barriers{Groups: []fact.GroupProgram{{Group: group, Hook: "what comes in",
				Name: name}}})
	}
}

// TestReadOpen is when tables that say nothing against a packet open their
// gate, and when they do not.
func TestReadOpen(t *testing.T) {
	for _, c := range []struct {
		name     string
		scenario func(*scenario) *scenario
		open     bool
	}{
		{"both ends", func(s *scenario) *scenario { return s.tables("v1", "").tables("v2", "") }, true},
		{"a packet program", func(s *scenario) *scenario {
			s.add("v2", fact.LookTables, fact.Target{}, func(f *fact.Fact) { f.Tables = tablesOf("") })
			return s.tables("v1", "").barriers("v2", fact.Barriers{Programs: []string{"XDP on eth0"}})
		}, false},
		{"a program of the service's control group", withGroup("/system.slice/nginx.service", "tide_gate",
			fact.Unit{}), false},
		{"a program of all control groups", withGroup("/", "tide_gate", fact.Unit{}), false},
		{"a program of a slice", withGroup("/system.slice", "sd_fw_ingress", fact.Unit{}), false},
		{"a program of another service", withGroup("/system.slice/ledger.service", "tide_gate", fact.Unit{}), true},
		{"the unit's own address list", withGroup("/system.slice/nginx.service", "sd_fw_ingress",
			fact.Unit{Denies: []string{"10.99.0.0/16"}}), true},
		{"an address list that was not read", withGroup("/system.slice/nginx.service", "sd_fw_ingress", fact.Unit{}),
			false},
		{"control groups that were not read", func(s *scenario) *scenario {
			s.add("v2", fact.LookTables, fact.Target{}, func(f *fact.Fact) { f.Tables = tablesOf("") })
			return s.tables("v1", "").barriers("v2",
				fact.Barriers{Unread: "packet programs of control groups could not be read"})
		}, false},
		{"IPsec policies", func(s *scenario) *scenario {
			s.add("v2", fact.LookTables, fact.Target{}, func(f *fact.Fact) { f.Tables = tablesOf("") })
			return s.tables("v1", "").barriers("v2", fact.Barriers{Policies: 2})
		}, false},
		{"older tables that were not read", func(s *scenario) *scenario {
			s.add("v2", fact.LookTables, fact.Target{}, func(f *fact.Fact) {
				f.Tables = tablesOf("")
				f.Tables.Unread = []string{"tables of the older iptables are loaded"}
			})
			return s.tables("v1", "").barriers("v2", fact.Barriers{})
		}, false},
		{"the settings of the kernel were not read", func(s *scenario) *scenario {
			s.tables("v1", "").tables("v2", "")
			s.set.Facts = slices.DeleteFunc(s.set.Facts, func(f fact.Fact) bool {
				return f.Vantage == "v2" && f.Kernel != nil
			})
			return s
		}, false},
		{"programs were not looked for", func(s *scenario) *scenario {
			s.add("v2", fact.LookTables, fact.Target{}, func(f *fact.Fact) { f.Tables = tablesOf("") })
			return s.tables("v1", "")
		}, false},
	} {
		// What is left when both ends are open is the way between.
		likely := false
		for _, cause := range c.scenario(both(t)).weigh().Causes {
			likely = likely || cause.ID == "rules/transit-silent" && cause.Certainty == trail.Likely
		}
		if likely != c.open {
			t.Errorf("%s: open %v, want %v", c.name, likely, c.open)
		}
	}
}

// TestTransit is what lies between two ends that were read open: proven only
// with the hop after which packets die.
func TestTransit(t *testing.T) {
	hops := func(s *scenario, routers ...string) *scenario {
		return s.add("v1", fact.LookHops, fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 80},
			func(f *fact.Fact) {
				f.Hops = &fact.Hops{}
				for _, r := range routers {
					f.Hops.Routers = append(f.Hops.Routers, netip.MustParseAddr(r))
				}
			})
	}
	hops(
		both(t).tables("v1", "").tables("v2", ""),
		"10.20.7.1",
		"10.20.3.1",
	).check("both ends and a hop", "rules/transit-silent likely")
	both(t).tables("v1", "").tables("v2", "").check("both ends, no hop", "rules/transit-silent likely")
	hops(both(t).tables("v1", ""), "10.20.7.1").check("one end and a hop")
}

// TestGateways is rules, routes and settings of a host on the way, and of one
// that is not.
func TestGateways(t *testing.T) {
	forwards := map[string]string{"net/ipv4/ip_forward": "1"}
	routed := func(s *scenario) *scenario {
		return s.sends("v1", tidebook, gauge, "10.20.7.1").
			sends("v2", gauge, tidebook, "10.20.0.1").
			tables("v1", "").
			tables("v2", "").
			gateway()
	}
	for _, c := range []struct {
		name     string
		scenario func(*scenario) *scenario
		want     []string
	}{
		{"it drops", func(s *scenario) *scenario {
			return routed(s).tables("v3", "-A FORWARD -p tcp --dport 80 -j DROP").kernel("v3", forwards)
		}, []string{"rules/gateway-drop proven"}},
		{"it drops the reply", func(s *scenario) *scenario {
			return routed(s).tables("v3", "-A FORWARD -p tcp --sport 80 -j DROP").kernel("v3", forwards)
		}, []string{"rules/return-drop proven"}},
		{"it does not forward", func(s *scenario) *scenario {
			return routed(s).tables("v3", "").kernel("v3", map[string]string{"net/ipv4/ip_forward": "0"})
		}, []string{"rules/forwarding-off proven"}},
		{"it is not on the way", func(s *scenario) *scenario {
			s.sends("v1", tidebook, gauge, "10.20.7.99").sends("v2", gauge, tidebook, "10.20.0.99").tables("v1",
				"").tables("v2", "")
			return s.gateway().tables("v3", "-A FORWARD -j DROP").kernel("v3", forwards)
		}, []string{"rules/transit-silent likely"}},
	} {
		c.scenario(both(t)).check(c.name, c.want...)
	}
}

// TestOtherSource is a gateway that shows the server its own address, and a
// server whose rules name the client's.
func TestOtherSource(t *testing.T) {
	s := both(
		t,
	).sends("v1", tidebook, gauge, "10.20.7.1").
		sends("v2", gauge, tidebook, "10.20.0.1").
		tables("v1", "").
		gateway().
		kernel("v3", map[string]string{"net/ipv4/ip_forward": "1"}).
		barriers("v3", fact.Barriers{}).
		tables("v2", "-A INPUT -s 10.20.7.31 -j ACCEPT\n-A INPUT -p tcp --dport 80 -j DROP")
	s.add("v3", fact.LookTables, fact.Target{}, func(f *fact.Fact) {
		f.Tables = &fact.Tables{
			Nftables: &fact.Nftables{},
			Saved: []fact.SavedTables{
				{
					Text: "*nat\n:PREROUTING ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n-A POSTROUTING -p tcp -j SNAT " +
						"--to-source 10.20.0.1\nCOMMIT\n",
				},
			},
		}
	})
	s.check("a translation on the way", "rules/other-source proven")
	if text := summaries(s.weigh().Causes); !strings.Contains(text, "tidebook sees 10.20.0.1, not 10.20.7.31") {
		t.Errorf("it says %q", text)
	}
}

// TestLaterPackets is a filter that lets the first packet in, and nothing of
// what follows.
func TestLaterPackets(t *testing.T) {
	s := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, connected, answered(fact.Reply{Ending: fact.Stalled, Protocol: "http", TookMS: 9000})).
		listening(listening()).
		sends("v1", tidebook, gauge, "").
		sends("v2", gauge, tidebook, "").
		tables("v1", "").
		tables("v2", "-A INPUT -m conntrack --ctstate ESTABLISHED -j DROP")
	s.check("only the first packet passes", "rules/server-drop proven")
}

// TestRefusals is a reset that a filter sends, told from a port where nobody
// listens.
func TestRefusals(t *testing.T) {
	refused := func() *scenario {
		return newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, reset).
			sends("v1", tidebook, gauge, "").
			sends("v2", gauge, tidebook, "").
			tables("v1", "")
	}
	refused().listening(listening()).
		tables("v2", "-A INPUT -p tcp --dport 80 -j REJECT --reject-with tcp-reset").
		check("a rule, and a listener", "rules/server-reject proven")
	refused().listening().tables("v2", "").check("no rule, and no listener", "ports/none-listening proven")
	refused().listening().
		tables("v2", "-A INPUT -p tcp --dport 80 -j REJECT --reject-with tcp-reset").
		check("both", "rules/server-reject proven", "ports/none-listening proven")
}

// TestContradiction is a rule that would drop what got through: a doubt.
func TestContradiction(t *testing.T) {
	s := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, connected, replied(200)).
		listening(listening()).
		sends("v1", tidebook, gauge, "").
		tables("v1", "").
		tables("v2", "-A INPUT -j DROP")
	s.check("it works")
	if s.weigh().Outcome != trail.OutcomeClear {
		t.Errorf("outcome %s", s.weigh().Outcome)
	}
}

// TestUnseenRules is what is said of filters that could not settle it.
func TestUnseenRules(t *testing.T) {
	same := func() *scenario {
		s := newScene(
			t,
			web,
		).holds("v1", gauge, tidebook).
			holds("v2", gauge, tidebook).
			named(tidebook).
			client(tidebook, reset).
			listening(listener("127.0.0.1", 80, "nginx"))
		for i := range s.set.Vantages {
			s.set.Vantages[i].Host, s.set.Vantages[i].Implied = "tidebook", s.set.Vantages[i].ID == "v2"
		}
		return s
	}
	apart := func() *scenario {
		return newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, reset).
			listening(listener("127.0.0.1", 80, "nginx"))
	}
	for _, c := range []struct {
		name     string
		scenario *scenario
		want     string
	}{
		{"one host, read", same().tables("v1", ""),
			"nothing in the tables of tidebook stops it; only a connection proves the rest"},
		{"one host, not read", same(), "the packet filters of tidebook were not read"},
		{"two hosts, one read", apart().tables("v1", ""), "the packet filters of tidebook were not read"},
		{"two hosts, both read", apart().tables("v1", "").tables("v2", ""),
			"nothing in the tables of both ends stops it; the network between was not read"},
	} {
		for _, f := range c.scenario.weigh().Rungs {
			if f.Name == trail.Rules && (f.State != trail.Unseen || f.Summary != c.want) {
				t.Errorf("%s: %s, %q; want %q", c.name, f.State, f.Summary, c.want)
			}
		}
	}
}
