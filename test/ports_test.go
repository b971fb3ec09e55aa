package test

import (
	"testing"
	"time"
)

// TestClientExhausted leaves a client no local port to come from.
func TestClientExhausted(t *testing.T) {
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	const endpoint = "http://10.20.0.14:8080/"
	expectHealthy(t, traced(t, enter(l.client), endpoint))
	time.Sleep(100 * time.Millisecond)
	l.background(
		l.client,
		"bash",
		"-c",
		"echo 61000 61001 > /proc/sys/net/ipv4/ip_local_port_range; exec 3<>/dev/tcp/10.20.0.14/8080; exec "+
			"4<>/dev/tcp/10.20.0.14/8080; sleep 60",
	)
	time.Sleep(300 * time.Millisecond)
	expect(t, traced(t, enter(l.client), "--wait", "1s", endpoint), "ports/client-exhausted proven")
}
