package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestSheets puts a cloud's layers between two hosts and sees that what they
// say explains the silence, each layer and direction for itself.
func TestSheets(t *testing.T) {
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	l.filter(l.router, "table ip f { chain c { type filter hook forward priority 0;\ntcp dport 8080 drop\n}\n}")
	sheet := func(layers string) string {
		return write(t, filepath.Join(t.TempDir(), "office.yaml"), "format: uakari.sheet/1\nname: office\ngroups:\n  gauges: [10.20.7.0/24]\n"+layers)
	}
	for name, c := range map[string]struct{ layers, want, says string }{
		"a layer without an allow": {"layers:\n  - {name: portal, kind: stateful, guards: [10.20.0.0/24], in: [{do: allow, from: [10.20.8.0/24], ports: [8080]}]}\n",
			"rules/sheet-in likely", "sheet office, layer portal, in stops the request: deny, since no rule allows it"},
		"a layer without an allow for anybody": {"layers:\n  - {name: portal, kind: stateful, guards: [10.20.0.0/24], in: [{do: allow, ports: [443]}]}\n",
			"rules/sheet-in proven", "sheet office, layer portal, in stops the request: deny, since no rule allows it"},
		"a layer that denies": {"layers:\n  - {name: stations, kind: stateful, guards: [gauges], out: [{name: no odd ports, do: deny, ports: [8000-8999]}, {do: allow}]}\n",
			"rules/sheet-out proven", "layer stations, out, rule 1 (no odd ports) stops the request: deny"},
		"a reply that nobody thought of": {"layers:\n  - {name: list, kind: stateless, guards: [10.20.0.0/24], in: [{do: allow, ports: [8080]}], out: [{do: allow, ports: [8080]}]}\n",
			"rules/sheet-return proven", "stops the reply, to a port that the client chose"},
		"a route that drops": {"routes:\n  - {name: core, for: [gauges], table: [{to: 0.0.0.0/0, via: heron}, {to: 10.20.0.0/24, via: none}]}\n",
			"rules/no-route proven", "the entry for 10.20.0.14 drops it"},
		"no scope": {"scopes: {groups: [{name: field, serves: ['10.20.0.14:8080']}], ranges: [{range: 10.20.9.0/24, group: field}]}\n",
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
		{"format: uakari.sheet/1\nname: a\nlayers:\n  - {name: b, kind: stately, guards: [10.0.0.0/8]}\n", `:4:21: "stately": expected stateful or stateless`},
		{"format: uakari.sheet/1\nname: a\nlayer: []\n", `:3:1: `},
		{"format: uakari.sheet/1\nname: a\nlayers:\n  - name: b\n    kind: stateful\n    guards: [gauges]\n", `:6:14: "gauges": expected an address, a net, or one of the groups`},
		{"format: uakari.sheet/2\nname: a\n", `:1:9: format "uakari.sheet/2"`},
		{"format: uakari.sheet/1\nname: a\nlayers:\n  - {name: b, kind: stateful, guards: [10.0.0.1], in: [{do: allow, ports: [99999]}]}\n", `expected a port or a range`},
		{"format: uakari.sheet/1\nname: a\nscopes: {groups: [], ranges: [{range: 10.0.0.0/8, group: x}]}\n", `there is no such group of scopes`},
	} {
		file := write(t, filepath.Join(t.TempDir(), "s.yaml"), c.text)
		r := run(t, "rules", "--sheet", file, "--from", "10.20.7.31", "--to", "10.20.0.14:443")
		if r.status != 2 || !strings.Contains(r.stderr, file+":") || !strings.Contains(r.stderr, strings.TrimPrefix(c.want, ":")) {
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
	card := write(t, filepath.Join(dir, "card.yaml"), "format: uakari.card/1\nname: tide\nprogram: test.test\nallow-list: "+list+"\n")
	start(t, "10.20.0.14:8080", enter(l.server), os.Args[0], "-test.run=TestHelperMute$", "-test.timeout=0", "WEB=10.20.0.14:8080")
	r := runIn(t, enter(l.server), "record", "--card", card, "--for", "http://10.20.0.14:8080/", "-o", "-")
	record := write(t, filepath.Join(dir, "tidebook.json"), r.stdout)
	judged := traced(t, enter(l.client), "--wait", "2s", "--card", card, "--record", record, "http://10.20.0.14:8080/")
	if !strings.Contains(dump(judged), "rules/not-on-list likely true: "+list+" does not name 10.20.7.31") {
		t.Errorf("the list is not found\n%s", dump(judged))
	}
}
