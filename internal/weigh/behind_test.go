package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestHops is a gateway that answers for a backend, as far as it was seen.
func TestHops(t *testing.T) {
	gateway := func(status int) *scenario {
		return newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).
			client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "http", Status: status,
				Program: "nginx", Date: began}))
	}
	backends := func(s *scenario, list ...fact.Upstream) *scenario {
		return s.add(
			"v2",
			fact.LookUpstreams,
			fact.Target{Port: 80},
			func(f *fact.Fact) { f.Upstreams = &fact.Upstreams{List: list} },
		)
	}
	at := func(host string, port uint16, line int) fact.Upstream {
		return fact.Upstream{Scheme: "http", Host: host, Port: port, Path: "/etc/nginx/conf.d/tides.conf", Line: line}
	}
	tried := func(s *scenario, up fact.Upstream, addr string, steps ...step) *scenario {
		return s.climb(
			"v2",
			fact.Target{
				Name:     up.Host,
				Addr:     netip.MustParseAddr(addr),
				Port:     up.Port,
				Scheme:   "http",
				Security: fact.Plain,
				Path:     "/",
			},
			steps...)
	}
	one, two := at("10.20.0.15", 8080, 3), at("localhost", 8081, 4)
	for _, c := range []struct {
		name     string
		scenario *scenario
		want     []string
		says     string
	}{
		{"nobody read its settings", gateway(502), []string{"answer/hop-fails likely"},
			"answers with nothing, or with nonsense"},
		{"its settings name nobody", backends(gateway(502)), []string{"answer/hop-fails likely"}, ""},
		{"nobody tried the backend", backends(gateway(504), one), []string{"answer/hop-fails likely"},
			"does not answer in time"},
		{"the backend refuses", tried(backends(gateway(502), one), one, "10.20.0.15", reset),
			[]string{"answer/hop-fails proven"}, "10.20.0.15:8080 (/etc/nginx/conf.d/tides.conf, line 3)"},
		{"the backend is silent", tried(backends(gateway(504), one), one, "10.20.0.15", silent),
			[]string{"answer/hop-fails proven"}, "line 3"},
		{"the backend is well", tried(backends(gateway(502), one), one, "10.20.0.15", connected, replied(200)),
			[]string{"answer/hop-fails likely"}, ""},
		{"one of two refuses", tried(backends(gateway(502), one, two), two, "127.0.0.1", reset),
			[]string{"answer/hop-fails likely"}, "localhost:8081"},
		{"the application fails with what is behind it", tried(backends(gateway(500), one), one, "10.20.0.15", reset),
			[]string{"answer/hop-fails likely"}, "line 3"},
		{"the application fails by itself", tried(backends(gateway(500), one), one, "10.20.0.15", connected,
			replied(200)), []string{"answer/error-status proven"}, ""},
		{"the application's own answer", gateway(500), []string{"answer/error-status proven"}, ""},
	} {
		var have []string
		judged := c.scenario.weigh()
		for _, cause := range judged.Causes {
			if cause.Blocking {
				have = append(have, cause.ID+" "+string(cause.Certainty))
			}
		}
		if strings.Join(have, ", ") != strings.Join(c.want, ", ") ||
			!strings.Contains(summaries(judged.Causes), c.says) {
			t.Errorf("%s: %q, want %q: %s", c.name, have, c.want, summaries(judged.Causes))
		}
	}
}
