package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// authority runs a real name server for varzea.example on a host.
func (l *lab) authority(ns, addr, serial, tidebook string) {
	l.t.Helper()
	if _, err := exec.LookPath("named"); err != nil {
		missing(l.t, "needs named: apt-get install bind9")
	}
	// The server leaves its rights behind, so its folder is not under the
	// test's own, which nobody else may enter.
	dir, err := os.MkdirTemp("/var/tmp", "uakari-named-")
	if err != nil {
		l.t.Fatal(err)
	}
	l.t.Cleanup(func() { os.RemoveAll(dir) })
	write(l.t, filepath.Join(dir, "zone"), fmt.Sprintf(`$TTL 300
@ IN SOA ns1.varzea.example. post.varzea.example. ( %s 3600 600 86400 60 )
@ IN NS ns1.varzea.example.
@ IN NS ns2.varzea.example.
ns1 IN A 10.20.7.53
ns2 IN A 10.20.7.54
tidebook IN A %s
gone IN CNAME old.varzea.example.
sounding IN TXT "no address here"
xn--mar-dma IN A 10.20.0.14
_ldap._tcp IN SRV 20 0 389 tidebook
_ldap._tcp IN SRV 10 60 8080 tidebook
_kerberos._tcp IN SRV 0 0 0 .
_ntp._udp IN SRV 0 0 123 tidebook
tide-book IN A 10.20.0.14
two IN A 10.20.0.99
two IN A 10.20.0.14
self IN A 127.0.0.1
front IN A 10.20.7.1
$GENERATE 1-99 large IN A 10.20.9.$
`, serial, tidebook))
	conf := write(
		l.t,
		filepath.Join(dir, "named.conf"),
		fmt.Sprintf(
			`options { directory "%s"; listen-on { %s; }; listen-on-v6 { none; }; recursion no; pid-file none; session-keyfile "%s/key"; dnssec-validation no; };
controls { };
zone "varzea.example" { type primary; file "zone"; };
zone "broken.example" { type primary; file "nowhere"; };
`,
			dir,
			addr,
			dir,
		),
	)
	l.background(ns, "named", "-g", "-c", conf)
	l.ready(ns, addr)
}

// background runs a program on a host until the test ends.
func (l *lab) background(ns string, words ...string) *exec.Cmd {
	l.t.Helper()
	cmd := exec.Command("ip", append([]string{"netns", "exec", ns}, words...)...)
	log := &strings.Builder{}
	cmd.Stdout, cmd.Stderr = log, log
	cmd.WaitDelay = time.Second // its children may outlive it for a moment
	if err := cmd.Start(); err != nil {
		l.t.Fatal(err)
	}
	l.t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
		if l.t.Failed() {
			l.t.Logf("%v: %s", words, log)
		}
	})
	return cmd
}

// ready waits until a name server answers.
func (l *lab) ready(ns, addr string) {
	l.t.Helper()
	for range 100 {
		if r := runIn(l.t, enter(ns), "names", "--resolver", addr, "--wait", "200ms",
			"tidebook.varzea.example"); strings.Contains(
			r.stdout,
			"tidebook.varzea.example resolves to 10.",
		) {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	l.t.Fatalf("%s does not answer", addr)
}

// TestNamesOfRealServers asks a real cache and two real authoritative servers
// of which one is behind.
func TestNamesOfRealServers(t *testing.T) {
	l := newLab(t)
	if _, err := exec.LookPath("dnsmasq"); err != nil {
		missing(t, "needs dnsmasq: apt-get install dnsmasq-base")
	}
	for _, addr := range []string{"10.20.7.2", "10.20.7.53", "10.20.7.54"} {
		l.sh("ip -n " + l.router + " addr add " + addr + "/24 dev c")
	}
	l.web(l.server, "10.20.0.14:8080")
	l.authority(l.router, "10.20.7.53", "2026112302", "10.20.0.14")
	l.authority(l.router, "10.20.7.54", "2026112301", "10.20.0.99")
	l.background(
		l.router,
		"dnsmasq",
		"-d",
		"-C",
		"/dev/null",
		"--listen-address=10.20.7.2",
		"--bind-interfaces",
		"--no-resolv",
		"--no-hosts",
		"--server=10.20.7.54",
		"--user=root",
		"--pid-file=",
	)
	l.ready(l.client, "10.20.7.2")

	args := []string{"--resolver", "10.20.7.2", "--wait", "4s"}
	judged := traced(t, enter(l.client), append(args, "http://tidebook.varzea.example:8080/")...)
	expect(t, judged, "names/secondary-stale proven")
	if !strings.Contains(dump(judged), "ns2.varzea.example is behind (serial 2026112301) and answers 10.20.0.99") {
		t.Errorf("not told which\n%s", dump(judged))
	}
	expect(
		t,
		traced(t, enter(l.client), append(args, "http://gone.varzea.example:8080/")...),
		"names/dangling-alias proven",
	)
	expect(
		t,
		traced(t, enter(l.client), append(args, "http://sounding.varzea.example:8080/")...),
		"names/no-address proven",
	)
	expect(
		t,
		traced(t, enter(l.client), append(args, "http://nowhere.varzea.example:8080/")...),
		"names/no-such-name proven",
	)
	expectHealthy(t, traced(t, enter(l.client), "--resolver", "10.20.7.53", "http://tidebook.varzea.example:8080/"))

	r := runIn(t, enter(l.client), "names", "--resolver", "10.20.7.2", "tidebook.varzea.example")
	if r.status != 3 || !strings.Contains(r.stdout, "the views differ") ||
		!strings.Contains(r.stdout, "ns1.varzea.example, serial 2026112302") {
		t.Errorf("%d: %s%s", r.status, r.stdout, r.stderr)
	}
	j := runIn(t, enter(l.client), "names", "--json", "--resolver", "10.20.7.2", "tidebook.varzea.example")
	validate(t, "names", []byte(j.stdout))
}

// TestServiceRecords finds servers by their service records, and tries them.
func TestServiceRecords(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	l.sh("ip -n " + l.router + " addr add 10.20.7.53/24 dev c")
	l.web(l.server, "10.20.0.14:8080")
	l.authority(l.router, "10.20.7.53", "2026112302", "10.20.0.14")
	for _, c := range []struct {
		name   string
		status int
		want   []string
	}{
		{"_ldap._tcp.varzea.example", 0, []string{"_ldap._tcp.varzea.example leads to tidebook.varzea.example:8080.",
			"tidebook.varzea.example:8080 (priority 10, weight 60): 10.20.0.14 takes connections " +
				"tidebook.varzea.example:389 (priority 20, weight 0): 10.20.0.14 refuses"}},
		{"ldap://varzea.example", 0, []string{"varzea.example does not resolve here; _ldap._tcp.varzea.example " +
			"leads to tidebook.varzea.example:8080."}},
		{"kerberos://varzea.example", 1, []string{"varzea.example does not resolve here.",
			"says that there is no such service"}},
		{"_tides._tcp.varzea.example", 1, []string{"_tides._tcp.varzea.example leads to no server here.",
			"at 10.20.7.53:53 no such name"}},
		{"maré.varzea.example", 0,
			[]string{"maré.varzea.example (xn--mar-dma.varzea.example in DNS) resolves to 10.20.0.14, from 10.20.7.53:53"}},
	} {
		r := runIn(t, enter(l.client), "names", "--resolver", "10.20.7.53", "--wait", "2s", c.name)
		if r.status != c.status {
			t.Errorf("%s: exit %d, expected %d: %s%s", c.name, r.status, c.status, r.stdout, r.stderr)
		}
		for _, want := range c.want {
			if !strings.Contains(oneLine(r.stdout), oneLine(want)) {
				t.Errorf("%s: %q is missing in\n%s", c.name, want, r.stdout)
			}
		}
		j := runIn(t, enter(l.client), "names", "--json", "--resolver", "10.20.7.53", "--wait", "2s", c.name)
		validate(t, "names", []byte(j.stdout))
	}
	// A trace of a domain goes on to the servers that its records name.
	l.clock()
	time.Sleep(500 * time.Millisecond)
	at := []string{"--resolver", "10.20.7.53", "--wait", "2s"}
	well := traced(t, enter(l.client), append(at, "ntp://varzea.example")...)
	expectHealthy(t, well)
	if got := rung(well, trail.Names).Summary; !strings.Contains(
		got,
		"_ntp._udp.varzea.example leads to tidebook.varzea.example:123",
	) {
		t.Errorf("the rung of names says %q", got)
	}
	bad := dump(traced(t, enter(l.client), append(at, "ldap://varzea.example")...))
	for _, want := range []string{"tcp connect 10.20.0.14:8080: connected", "tcp connect 10.20.0.14:389: refused"} {
		if !strings.Contains(bad, want) {
			t.Errorf("%q is missing in\n%s", want, bad)
		}
	}
	none := traced(t, enter(l.client), append(at, "kerberos://varzea.example")...)
	expect(t, none, "names/no-address proven")
	if !strings.Contains(dump(none), "_kerberos._tcp.varzea.example says that the service is not offered there") {
		t.Error(dump(none))
	}
	if r := runIn(t, enter(l.client), "trace", "--resolver", "10.20.7.53", "--wait", "2s",
		"http://maré.varzea.example:8080/"); !strings.Contains(
		oneLine(r.stdout),
		"reaches maré.varzea.example:8080 (xn--mar-dma.varzea.example in DNS)",
	) {
		t.Errorf("%s%s", r.stdout, r.stderr)
	}
}
