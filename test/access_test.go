package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestSheets puts a cloud's layers between two hosts and sees that what they
// say explains the silence, each layer and direction for itself.
func TestSheets(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	l.filter(l.router, "table ip f { chain c { type filter hook forward priority 0;\ntcp dport 8080 drop\n}\n}")
	sheet := func(layers string) string {
		return write(
			t,
			filepath.Join(t.TempDir(), "office.yaml"),
			"format: uakari.sheet/1\nname: office\ngroups:\n  gauges: [10.20.7.0/24]\n"+layers,
		)
	}
	for name, c := range map[string]struct{ layers, want, says string }{
		"a layer without an allow": {"layers:\n  - {name: portal, kind: stateful, guards: [10.20.0.0/24], in: [{do: " +
			"allow, from: [10.20.8.0/24], ports: [8080]}]}\n",
			"rules/sheet-in likely",
			"sheet office, layer portal, in stops the request: deny, since no rule allows it"},
		"a layer without an allow for anybody": {"layers:\n  - {name: portal, kind: stateful, guards: " +
			"[10.20.0.0/24], in: [{do: allow, ports: [443]}]}\n",
			"rules/sheet-in proven",
			"sheet office, layer portal, in stops the request: deny, since no rule allows it"},
		"a layer that denies": {"layers:\n  - {name: stations, kind: stateful, guards: [gauges], out: [{name: no " +
			"odd ports, do: deny, ports: [8000-8999]}, {do: allow}]}\n",
			"rules/sheet-out proven", "layer stations, out, rule 1 (no odd ports) stops the request: deny"},
		"a reply that nobody thought of": {"layers:\n  - {name: list, kind: stateless, guards: [10.20.0.0/24], in: " +
			"[{do: allow, ports: [8080]}], out: [{do: allow, ports: [8080]}]}\n",
			"rules/sheet-return proven", "stops the reply, to a port that the client chose"},
		"a route that drops": {"routes:\n  - {name: core, for: [gauges], table: [{to: 0.0.0.0/0, via: heron}, {to: " +
			"10.20.0.0/24, via: none}]}\n",
			"rules/no-route proven", "the entry for 10.20.0.14 drops it"},
		"no scope": {"scopes: {groups: [{name: field, serves: ['10.20.0.14:8080']}], ranges: [{range: 10.20.9.0/24, " +
			"group: field}]}\n",
			"", "10.20.7.31 is in no declared range"},
	} {
		judged := traced(t, enter(l.client), "--wait", "1s", "--sheet", sheet(c.layers), "http://10.20.0.14:8080/")
		if c.want != "" {
			expect(t, judged, c.want)
		}
		if !strings.Contains(dump(judged), c.says) && c.want != "" {
			t.Errorf("%s: it does not say %q\n%s", name, c.says, dump(judged))
		}
	}
}

// TestSheetErrors sees that a faulty sheet is said with its place.
func TestSheetErrors(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"format: uakari.sheet/1\nname: a\nlayers:\n  - {name: b, kind: stately, guards: [10.0.0.0/8]}\n",
			`:4:21: "stately": expected stateful or stateless`},
		{"format: uakari.sheet/1\nname: a\nlayer: []\n", `:3:1: `},
		{"format: uakari.sheet/1\nname: a\nlayers:\n  - name: b\n    kind: stateful\n    guards: [gauges]\n",
			`:6:14: "gauges": expected an address, a net, a range`},
		{"format: uakari.sheet/2\nname: a\n", `:1:9: format "uakari.sheet/2"`},
		{"format: uakari.sheet/1\nname: a\nlayers:\n  - {name: b, kind: stateful, guards: [10.0.0.1], in: [{do: " +
			"allow, ports: [99999]}]}\n", `expected a port or a range`},
		{"format: uakari.sheet/1\nname: a\nscopes: {groups: [], ranges: [{range: 10.0.0.0/8, group: x}]}\n",
			`there is no such group of scopes`},
	} {
		file := write(t, filepath.Join(t.TempDir(), "s.yaml"), c.text)
		r := run(t, "rules", "--sheet", file, "--from", "10.20.7.31", "--to", "10.20.0.14:443")
		if r.status != 2 || !strings.Contains(r.stderr, file+":") ||
			!strings.Contains(r.stderr, strings.TrimPrefix(c.want, ":")) {
			t.Errorf("%q: status %d, %q; want %q", c.text, r.status, r.stderr, c.want)
		}
	}
}

// TestLists lets an application turn a client away by a plain list that a
// card names.
func TestLists(t *testing.T) {
	l := newLab(t)
	dir := t.TempDir()
	list := write(t, filepath.Join(dir, "gauges.txt"), "# who may report\n10.20.8.0/24\n10.20.9.7\n")
	card := write(
		t,
		filepath.Join(dir, "card.yaml"),
		"format: uakari.card/1\nname: tide\nprogram: test.test\nallow-list: "+list+"\n",
	)
	start(
		t,
		"10.20.0.14:8080",
		enter(l.server),
		os.Args[0],
		"-test.run=TestHelperMute$",
		"-test.timeout=0",
		"WEB=10.20.0.14:8080",
	)
	r := runIn(t, enter(l.server), "record", "--card", card, "--for", "http://10.20.0.14:8080/", "-o", "-")
	record := write(t, filepath.Join(dir, "tidebook.json"), r.stdout)
	judged := traced(t, enter(l.client), "--wait", "2s", "--card", card, "--record", record, "http://10.20.0.14:8080/")
	if !strings.Contains(dump(judged), "rules/not-on-list likely true: "+list+" does not name 10.20.7.31") {
		t.Errorf("the list is not found\n%s", dump(judged))
	}
}

// TestWrapper has a real server that is linked to the wrapper's library turn a
// client away by hosts.deny.
func TestWrapper(t *testing.T) {
	vsftpd := needs(t, "vsftpd", "/usr/sbin/vsftpd")[0]
	l := newLab(t)
	dir := t.TempDir()
	// What stands there covers the host's own file for programs within.
	own := filepath.Join("/etc/netns", l.server)
	if err := os.MkdirAll(own, 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(own) })
	deny := write(t, filepath.Join(own, "hosts.deny"), "# the field\nvsftpd: 10.20.7. EXCEPT 10.20.7.32\n")
	conf := write(
		t,
		filepath.Join(dir, "conf"),
		"listen=YES\nlisten_address=10.20.0.14\nbackground=NO\nanonymous_enable=YES\ntcp_wrappers=YES\nsecure_chroot_dir="+dir+"\n",
	)
	start(t, "10.20.0.14:21", enter(l.server), vsftpd, conf)
	look := func() trail.Trail {
		r := runIn(t, enter(l.server), "record", "--deadline", "9s", "--for", "ftp://10.20.0.14", "-o", "-")
		record := write(
			t,
			filepath.Join(dir, "tidebook.json"),
			strings.ReplaceAll(r.stdout, `"host": "`, `"host": "tidebook-`),
		)
		return traced(t, enter(l.client), "--wait", "2s", "--record", record, "ftp://10.20.0.14")
	}
	judged := look()
	expect(t, judged, "rules/wrapper-deny likely") // a record, and a router that was not read
	if want := "/etc/hosts.deny, line 2 (vsftpd: 10.20.7. EXCEPT 10.20.7.32), keeps 10.20.7.31 from " +
		"vsftpd"; !strings.Contains(
		dump(judged),
		want,
	) {
		t.Errorf("it does not say %q\n%s", want, dump(judged))
	}
	write(t, deny, "vsftpd: 10.20.7. EXCEPT 10.20.7.31\n")
	expectHealthy(t, look())
}

// TestListsOfServers has real servers turn a client away by their own lists,
// which a record of the server brings along.
func TestListsOfServers(t *testing.T) {
	found := needs(t, "openssh-server", "/usr/sbin/sshd", "/usr/bin/ssh-keygen")
	redis := needs(t, "redis-server", "/usr/bin/redis-server")[0]
	l := newLab(t)
	dir := t.TempDir()
	for _, name := range []string{"host", "mine"} {
		if out, err := exec.Command(found[1], "-q", "-t", "ed25519", "-N", "", "-f",
			filepath.Join(dir, name)).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	conf := write(
		t,
		filepath.Join(dir, "sshd_config"),
		"Port 2022\nHostKey "+dir+"/host\nPidFile none\nUsePAM no\nStrictModes no\nPermitRootLogin "+
			"yes\nAuthorizedKeysFile "+dir+"/mine.pub\n"+
			"AllowUsers root@10.20.9.0/24 root@127.0.0.1\n",
	)
	start(t, "127.0.0.1:2022", enter(l.server), found[0], "-D", "-e", "-f", conf)
	store := write(t, filepath.Join(dir, "redis.conf"), "bind 0.0.0.0\nport 6379\nsave \"\"\ndir "+dir+"\n")
	start(t, "127.0.0.1:6379", enter(l.server), redis, store)
	for _, c := range []struct {
		endpoint, want, says string
		args                 []string
	}{
		{"ssh://10.20.0.14:2022", "login/not-from-here likely",
			"line 8 (allowusers root@10.20.9.0/24 root@127.0.0.1) lets root in from elsewhere, and not from " +
				"10.20.7.31",
			[]string{"--user", "root", "--identity", filepath.Join(dir, "mine")}},
		{"redis://10.20.0.14", "rules/not-on-list likely", "protected mode is on (/etc/redis/redis.conf, ", nil},
	} {
		r := runIn(t, enter(l.server), "record", "--deadline", "9s", "--for", c.endpoint, "-o", "-")
		record := write(
			t,
			filepath.Join(dir, "tidebook.json"),
			strings.ReplaceAll(r.stdout, `"host": "`, `"host": "tidebook-`),
		)
		gateway := write(
			t,
			filepath.Join(dir, "heron.json"),
			strings.ReplaceAll(
				runIn(t, enter(l.router), "record", "--deadline", "9s", "-o", "-").stdout,
				`"host": "`,
				`"host": "heron-`,
			),
		)
		judged := traced(
			t,
			enter(l.client),
			append(c.args, "--wait", "2s", "--record", record, "--record", "gateway="+gateway, c.endpoint)...)
		expectButAge(t, judged, c.want)
		if !strings.Contains(dump(judged), c.says) {
			t.Errorf("it does not say %q\n%s", c.says, dump(judged))
		}
	}
}
