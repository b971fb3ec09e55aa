package weigh

import (
	"net/netip"
	"testing"
	"time"

	"uakari/internal/fact"
)

// TestPods is a port that leads into a pod, whose containers have one network between
// them: which of them should serve it, and does not.
func TestPods(t *testing.T) {
	const port = 18080
	inPod := func(name, state string, code int, listeners ...fact.Listener) fact.Container {
		c := fact.Container{
			Engine: "containerd", ID: name, Name: name, Pod: "harbour/tidebook", State: state, ExitCode: code,
			Published: []fact.Published{{Transport: "tcp", Port: port, Inside: 80}}, Seen: state == "running",
			Listeners: listeners,
			Networks:  []fact.Network{{Name: "the pod's", Addrs: []netip.Addr{netip.MustParseAddr("10.88.4.7")}}},
		}
		if state != "running" {
			c.Ended = time.Date(2026, 11, 24, 3, 0, 0, 0, time.UTC)
		}
		return c
	}
	web := fact.Listener{Addr: netip.IPv4Unspecified(), Port: 80, Program: "httpd", PID: 7}
	sidecar := fact.Listener{Addr: netip.IPv4Unspecified(), Port: 15000, Program: "relay", PID: 8}
	for _, c := range []struct {
		name string
		list []fact.Container
		want []string
	}{
		{"it serves", []fact.Container{inPod("web", "running", 0, web)}, nil},
		{"it ended, and one beside runs", []fact.Container{inPod("relay", "running", 0, sidecar),
			inPod("web", "exited", 3)}, []string{"service/failed proven"}},
		{"it was killed", []fact.Container{inPod("relay", "running", 0, sidecar), inPod("web", "exited", 137)},
			[]string{"service/stopped proven"}},
		{"two ended", []fact.Container{inPod("relay", "running", 0, sidecar), inPod("web", "exited", 3),
			inPod("other", "exited", 1)}, []string{"service/failed likely"}},
		{"one that goes before has not ended", []fact.Container{inPod("unpack", "running", 0),
			inPod("fetch", "exited", 0)}, []string{"service/starting likely"}},
		{"of another pod", []fact.Container{inPod("web", "running", 0), {Engine: "containerd", ID: "x", Name: "x",
			Pod: "harbour/other", State: "exited", ExitCode: 3}}, []string{"service/starting likely"}},
	} {
		s := newScene(t, "http://10.20.0.14:18080").holds("v1", gauge).holds("v2", tidebook).client(tidebook,
			reset).listening()
		s.add("v2", fact.LookContainers, fact.Target{Port: port},
			func(f *fact.Fact) { f.Containers = &fact.Containers{List: c.list} })
		s.check(c.name, c.want...)
	}
}
