package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestHelperLarge is the process of a web server with a large page; it is no
// test.
func TestHelperLarge(t *testing.T) {
	serve(t, "HTTP/1.1 200 OK\r\nContent-Length: 20000\r\nConnection: close\r\n\r\n"+strings.Repeat("tide ", 4000))
}

// TestNarrowWay puts a link on the way that takes smaller packets than both
// ends believe, and holds back the messages that would tell them.
func TestNarrowWay(t *testing.T) {
	for _, ip := range []struct{ addr, mute string }{
		{"10.20.0.14", "icmp type destination-unreachable drop"},
		{"[fd20::14]", "icmpv6 type packet-too-big drop"},
	} {
		t.Run(ip.addr, func(t *testing.T) { narrow(t, ip.addr, ip.mute) })
	}
}

// narrow is one family of it.
func narrow(t *testing.T, addr, mute string) {
	t.Parallel()
	l := newLab(t)
	start(
		t,
		addr+":8080",
		enter(l.server),
		os.Args[0],
		"-test.run=TestHelperLarge$",
		"-test.timeout=0",
		"WEB="+addr+":8080",
	)
	endpoint := "http://" + addr + ":8080/"
	expectHealthy(t, traced(t, enter(l.client), endpoint))
	l.sh("ip -n " + l.router + " link set c mtu 1300")
	l.filter(l.router, "table inet f { chain c { type filter hook output priority 0; policy accept;\n"+mute+"\n}\n}")
	expect(t, traced(t, enter(l.client), "--deadline", "8s", endpoint), "rules/large-packets-lost proven")
}

// TestForgedReset has a router refuse in the server's place.
func TestForgedReset(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	own := dump(traced(t, enter(l.client), "--wait", "2s", "http://10.20.0.14:8081/"))
	if !strings.Contains(
		own,
		"ports/none-listening possible false: the service may be down, or on another port or address; the refusal "+
			"and an echo reply both come with 63 hops left",
	) {
		t.Errorf("the server's own: %s", own)
	}
	l.filter(
		l.router,
		"table inet f { chain c { type filter hook forward priority 0; policy accept;\ntcp dport 8080 reject with "+
			"tcp reset\n}\n}",
	)
	forged := dump(traced(t, enter(l.client), "--wait", "2s", "http://10.20.0.14:8080/"))
	if !strings.Contains(
		forged,
		"  rules/transit-reject possible false: a filter on the way may refuse in the server's place; the refusal "+
			"comes with more hops left than an echo reply, as if two machines sent them",
	) {
		t.Errorf("a router's: %s", forged)
	}
}

// TestRateLimit has a server drop what is over a limit: its state cannot be
// read, so that it is possible and no more.
func TestRateLimit(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	const endpoint = "http://10.20.0.14:8080/"
	l.web(l.server, "10.20.0.14:8080")
	l.filter(
		l.server,
		"table inet f { chain c { type filter hook input priority 0; policy accept;\ntcp dport 8080 ct state new "+
			"limit rate over 1/hour burst 1 packets drop\n}\n}",
	)
	expectHealthy(t, traced(t, enter(l.client), endpoint))
	r := runIn(t, enter(l.server), "record", "--wait", "1s", "--deadline", "9s", "--for", endpoint, "-o", "-")
	record := write(
		t,
		filepath.Join(t.TempDir(), "tidebook.json"),
		strings.ReplaceAll(r.stdout, `"host": "`, `"host": "tidebook-`),
	)
	judged := traced(t, enter(l.client), "--wait", "1s", "--record", record, endpoint)
	if want := "rules/rate-limited possible false: on tidebook-vm it hangs on a limit: rule 1 of chain " +
		"c"; !strings.Contains(
		dump(judged),
		want,
	) {
		t.Errorf("it does not say %q\n%s", want, dump(judged))
	}
}

// TestStateTableFull fills the table of tracked connections. Its limit is one
// for all hosts of a machine, so that nothing else may run meanwhile.
func TestStateTableFull(t *testing.T) {
	const limit = "/proc/sys/net/netfilter/nf_conntrack_max"
	l := newLab(t)
	const endpoint = "http://10.20.0.14:8080/"
	l.web(l.server, "10.20.0.14:8080")
	l.filter(
		l.server,
		"table inet f { chain c { type filter hook input priority 0; policy accept;\nct state established "+
			"accept\n}\n}",
	)
	expectHealthy(t, traced(t, enter(l.client), endpoint))
	before, err := os.ReadFile(limit)
	if err != nil {
		t.Skip("this machine tracks no connections: ", err)
	}
	t.Cleanup(func() { os.WriteFile(limit, before, 0o644) })
	if err := os.WriteFile(limit, []byte("4"), 0o644); err != nil {
		t.Skip("the limit is not this machine's to set: ", err)
	}
	l.background(
		l.client,
		"bash",
		"-c",
		"for fd in 3 4 5 6 7 8; do eval \"exec $fd<>/dev/tcp/10.20.0.14/8080\"; done; sleep 60",
	)
	time.Sleep(time.Second)
	r := runIn(t, enter(l.server), "record", "--wait", "1s", "--deadline", "9s", "--for", endpoint, "-o", "-")
	record := write(
		t,
		filepath.Join(t.TempDir(), "tidebook.json"),
		strings.ReplaceAll(r.stdout, `"host": "`, `"host": "tidebook-`),
	)
	expectButAge(
		t,
		traced(t, enter(l.client), "--wait", "2s", "--record", record, endpoint),
		"rules/state-table-full proven",
	)
}
