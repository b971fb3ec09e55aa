package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestNameCauses asks real name servers for names that lead astray, each in a
// way of its own.
func TestNameCauses(t *testing.T) {
	t.Parallel()
	needs(t, "dnsmasq-base", "/usr/sbin/dnsmasq")
	l := newLab(t)
	for _, addr := range []string{"10.20.7.53", "10.20.7.2"} {
		l.sh("ip -n " + l.router + " addr add " + addr + "/24 dev c")
	}
	l.web(l.server, "10.20.0.14:8080")
	l.authority(l.router, "10.20.7.53", "2026112302", "10.20.0.14")
	// Another view of the same names: a cache with entries of its own.
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
		"--server=10.20.7.53",
		"--host-record=tidebook.varzea.example,10.20.0.66",
		"--host-record=pier.river.example,10.20.0.66",
		"--host-record=pier.field.example,10.20.0.14",
		"--user=root",
		"--pid-file=",
	)
	l.ready(l.client, "10.20.7.53")
	l.ready(l.client, "10.20.7.2")
	dir := t.TempDir()
	record := func(ns, name, endpoint string) string {
		r := runIn(t, enter(ns), "record", "--deadline", "6s", "--wait", "1s", "--for", endpoint, "-o", "-")
		return write(t, filepath.Join(dir, name), strings.ReplaceAll(r.stdout, `"host": "`, `"host": "`+name+"-"))
	}
	tidebook, heron := record(
		l.server,
		"tidebook",
		"http://10.20.0.14:8080/",
	), record(
		l.router,
		"heron",
		"http://10.20.7.1:8080/",
	)
	card := write(
		t,
		filepath.Join(dir, "card.yaml"),
		"format: uakari.card/1\nname: tides\nservice-record: _tides._tcp.varzea.example\n",
	)
	settings := filepath.Join("/etc/netns", l.client)
	if err := os.MkdirAll(settings, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(settings) })
	write(t, filepath.Join(settings, "resolv.conf"), "search river.example field.example\nnameserver 10.20.7.2\n")
	authority, cache := []string{"--resolver", "10.20.7.53"}, []string{"--resolver", "10.20.7.2"}
	for _, c := range []struct {
		name, endpoint, want string
		args                 []string
	}{
		{"a blank of another kind in a name", "http://tide_book.varzea.example:8080/", "names/bad-label", authority},
		{"a resolver that is not ours to ask", "http://tidebook.harbour.example:8080/", "names/resolver-refuses",
			authority},
		{"a zone that did not load", "http://tidebook.broken.example:8080/", "names/server-failure", authority},
		{"the host's own address for loopback", "http://self.varzea.example:8080/", "names/loops-back",
			append(authority, "--record", tidebook)},
		{"one of two is dead", "http://two.varzea.example:8080/", "names/one-bad-address",
			append(authority, "--wait", "1s")},
		{"an address that the server no longer has", "http://tidebook.varzea.example:8080/", "names/stale-address",
			append(cache, "--wait", "1s", "--record", tidebook)},
		{"two resolvers say two things", "http://tidebook.varzea.example:8080/", "names/views-differ",
			append(append(cache, authority...), "--wait", "1s")},
		{"the address of a gateway", "http://front.varzea.example:8080/", "names/points-at-front",
			append(authority, "--record", tidebook, "--record", "gateway="+heron)},
		{"a service record that is not there", "http://tidebook.varzea.example:8080/", "names/no-service-record",
			append(authority, "--card", card)},
		{"a short name", "http://pier:8080/", "names/search-suffix", []string{"--wait", "1s", "--record", tidebook}},
	} {
		judged := traced(t, enter(l.client), append(c.args, c.endpoint)...)
		if !strings.Contains(dump(judged), "  "+c.want+" ") {
			t.Errorf("%s: want %s\n%s", c.name, c.want, dump(judged))
		}
	}
	l.filter(
		l.router,
		"table inet f { chain c { type filter hook input priority 0; policy accept;\ntcp dport 53 drop\n}\n}",
	)
	judged := traced(t, enter(l.client), append(authority, "--wait", "1s", "http://large.varzea.example:8080/")...)
	expect(t, judged, "names/large-answer-lost proven")
}
