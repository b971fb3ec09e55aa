package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestSince is what is told to have changed between two runs, and what is not.
func TestSince(t *testing.T) {
	holder := func(program string, pid int, addr string) fact.Listener {
		l := listening()
		l.Program, l.PID, l.Addr = program, pid, netip.MustParseAddr(addr)
		return l
	}
	addrs := func(list ...string) func(*fact.Fact) {
		return func(f *fact.Fact) {
			f.Answer = &fact.Answer{Asked: "tidebook.varzea.example."}
			for _, a := range list {
				f.Answer.Addrs = append(f.Answer.Addrs, netip.MustParseAddr(a))
			}
		}
	}
	served := func(version string, files ...fact.SettingsFile) func(*scenario) {
		return func(s *scenario) {
			s.add("v2", fact.LookService, fact.Target{}, func(f *fact.Fact) {
				p := fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Files: files}
				p.Package = fact.Package{Name: "nginx", Version: version}
				f.Service = &fact.Service{Programs: []fact.Program{p}}
			})
		}
	}
	site := func(mark string, says ...string) fact.SettingsFile {
		return fact.SettingsFile{Path: "/etc/nginx/a", Mark: mark, Says: says}
	}
	again := fact.Target{Name: "tidebook.varzea.example", Again: 2}
	for _, c := range []struct {
		name     string
		was, now func(*scenario)
		cause    trail.Cause
		want     []string
	}{
		{"nothing", func(s *scenario) { s.listening(holder("nginx", 40, "0.0.0.0")) },
			func(s *scenario) { s.listening(holder("nginx", 40, "0.0.0.0")) }, trail.Cause{}, nil},
		{"a restart is a number, and no change", func(s *scenario) { s.listening(holder("nginx", 40, "0.0.0.0")) },
			func(s *scenario) { s.listening(holder("nginx", 77, "0.0.0.0")) }, trail.Cause{}, nil},
		{"another address, and the cause that it explains", func(s *scenario) {
			s.listening(holder("nginx", 40,
				"0.0.0.0"))
		}, func(s *scenario) { s.listening(holder("nginx", 40, "127.0.0.1")) },
			trail.Cause{ID: "ports/loopback-only", Rung: trail.Ports, Blocking: true},
			[]string{"tidebook who holds the port: nginx on 0.0.0.0 > nginx on 127.0.0.1 (ports/loopback-only)"}},
		{"a cause of another rung is not explained", func(s *scenario) { s.listening(holder("nginx", 40, "0.0.0.0")) },
			func(s *scenario) { s.listening(holder("rogue", 40, "0.0.0.0")) },
			trail.Cause{ID: "rules/server-drop", Rung: trail.Rules, Blocking: true},
			[]string{"tidebook who holds the port: nginx on 0.0.0.0 > rogue on 0.0.0.0 ()"}},
		{"nobody holds it any more", func(s *scenario) { s.listening(holder("nginx", 40, "0.0.0.0")) },
			func(s *scenario) { s.listening() }, trail.Cause{},
			[]string{"tidebook who holds the port: nginx on 0.0.0.0 >  ()"}},
		{"nobody looked there then", func(*scenario) {}, func(s *scenario) {
			s.listening(holder("nginx", 40,
				"0.0.0.0"))
		}, trail.Cause{}, nil},
		{"nobody looked there now", func(s *scenario) { s.listening(holder("nginx", 40, "0.0.0.0")) },
			func(*scenario) {}, trail.Cause{}, nil},
		{"an address more, in another order", func(s *scenario) {
			s.add("v1", fact.LookNames, fact.Target{},
				addrs("10.20.0.14", "10.20.0.15"))
		},
			func(s *scenario) {
				s.add("v1", fact.LookNames, fact.Target{}, addrs("10.20.0.16", "10.20.0.15", "10.20.0.14"))
			}, trail.Cause{},
			[]string{"gauge-07 addresses of the name:  > tidebook.varzea.example is 10.20.0.16 ()"}},
		{"a settings file, and the package", served("1.22", site("00aa")), served("1.26", site("00bb")),
			trail.Cause{ID: "service/stopped", Rung: trail.Service, Blocking: true},
			[]string{
				"tidebook packages: nginx 1.22 > nginx 1.26 (service/stopped)",
				"tidebook settings files: /etc/nginx/a: text 00aa > /etc/nginx/a: text 00bb (service/stopped)",
			}},
		{"a setting of a file", served("1.22", site("00aa", "listen = 8080", "gzip = on")),
			served("1.22", site("00bb", "listen = 8443", "gzip = on")), trail.Cause{},
			[]string{"tidebook settings files: /etc/nginx/a: listen = 8080 > /etc/nginx/a: listen = 8443 ()"}},
		{"a value that is not kept", served("1.22", site("00aa", "gzip = on")),
			served("1.22", site("00bb", "gzip = on")), trail.Cause{},
			[]string{"tidebook settings files: /etc/nginx/a: text 00aa > /etc/nginx/a: text 00bb ()"}},
		{"settings that an earlier version did not keep", served("1.22", site("00aa")),
			served("1.22", site("00aa", "gzip = on")), trail.Cause{}, nil},
		{"a settings file that only one run could read", served("1.22", site("00aa")), served("1.22", site("")),
			trail.Cause{}, nil},
		{"and the other way round", served("1.22", site("")), served("1.22", site("00aa")), trail.Cause{}, nil},
		{"a second look of the same run", func(s *scenario) {
			s.add("v1", fact.LookNames, fact.Target{},
				addrs("10.20.0.14"))
		},
			func(s *scenario) {
				s.add("v1", fact.LookNames, fact.Target{}, addrs("10.20.0.14")).add("v1", fact.LookNames, again,
					addrs("10.20.0.99"))
			}, trail.Cause{}, nil},
	} {
		before, now := newScene(t, web), newScene(t, web)
		c.was(before)
		c.now(now)
		for _, f := range now.set.Facts {
			c.cause.Because = append(c.cause.Because, f.ID)
		}
		var got []string
		for _, d := range Since(before.set, now.set, []trail.Cause{c.cause}) {
			got = append(got, fmt.Sprintf("%s %s: %s > %s (%s)", d.Host, d.What, d.Was, d.Now, d.Explains))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

// TestOnTheWay is which containers an endpoint may hang on.
func TestOnTheWay(t *testing.T) {
	published := []fact.Published{{Transport: "tcp", Port: 8080, Inside: 80}}
	of := func(names ...string) (list []fact.Network) {
		for _, n := range names {
			list = append(list, fact.Network{Name: n})
		}
		return list
	}
	list := []fact.Container{
		{ID: "1", Name: "web", Published: published, Networks: of("tide", "podman")},
		{ID: "2", Name: "db", Networks: of("tide")},
		{ID: "3", Name: "other", Networks: of("podman"), Published: []fact.Published{{Transport: "tcp", Port: 9090}}},
		{ID: "4", Name: "far", Networks: of("harbour")},
		{ID: "5", Name: "beside", HostNet: true},
		{Name: "a network namespace alone", Published: published},
	}
	for port, want := range map[uint16]string{8080: "web db beside ", 9090: "other beside ", 1: "beside ",
		0: "web db other far beside "} {
		got := ""
		for _, c := range onTheWay(list, fact.Endpoint{Host: "tidebook", Port: port, Transport: "tcp"}) {
			got += c.Name + " "
		}
		if got != want {
			t.Errorf("port %d: %q, expected %q", port, got, want)
		}
	}
}
