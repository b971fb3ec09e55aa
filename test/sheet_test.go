package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestSheetCommands makes sheets from nothing and from an export, checks and
// shows them, and judges a connection by one.
func TestSheetCommands(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	file := filepath.Join(dir, "office.yaml")
	if r := run(t, "sheet", "new", "-o", file); r.status != 0 || r.stderr != "" {
		t.Fatalf("%+v", r)
	}
	if r := run(t, "sheet", "new", "-o", file); r.status != 2 || !strings.Contains(r.stderr, "there already") {
		t.Errorf("%+v", r)
	}
	if r := run(t, "sheet", "check", file); r.status != 0 ||
		!strings.Contains(r.stdout, "well (office: 1 layer, 1 rule)") {
		t.Errorf("%+v", r)
	}
	export := write(t, filepath.Join(dir, "harbour.json"), `{"kind": "List", "items": [
{"kind": "Service", "metadata": {"name": "tidebook", "namespace": "harbour"}, "spec": {"clusterIP": "10.96.0.10", "selector": {"app": "tidebook"}, "ports": [{"name": "web", "port": 443, "targetPort": "https"}, {"name": "admin", "port": 8443, "targetPort": "none"}]}},
{"kind": "Pod", "metadata": {"name": "tidebook-1", "namespace": "harbour", "labels": {"app": "tidebook"}}, "spec": {"containers": [{"ports": [{"name": "https", "containerPort": 8443}]}]}, "status": {"podIP": "10.244.1.5"}},
{"kind": "NetworkPolicy", "metadata": {"name": "stations", "namespace": "harbour"}, "spec": {"podSelector": {}, "ingress": [{"from": [{"ipBlock": {"cidr": "10.20.7.0/24", "except": ["10.20.7.99/32"]}}], "ports": [{"port": "https"}]}]}}]}`)
	made := filepath.Join(dir, "harbour.yaml")
	if r := run(t, "sheet", "new", "--from", export, "--name", "harbour", "-o", made); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := run(t, "sheet", "show", made); r.status != 0 ||
		!strings.Contains(r.stdout, "in    1  allow from 10.20.7.0/24 not from 10.20.7.99/32 tcp 8443") {
		t.Errorf("%+v", r)
	}
	open := write(t, filepath.Join(dir, "open.rules"), "*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n")
	for _, c := range []struct {
		from, to string
		status   int
		want     string
	}{
		{"10.20.7.31", "10.96.0.10:443", 0, "leads on to 10.244.1.5:8443"},
		{"10.20.7.99", "10.96.0.10:443", 1, "{do: allow, from: [10.20.7.99], transport: tcp, ports: [8443]}"},
		{"10.20.7.31", "10.96.0.10:8443", 1,
			"its port is sent to the name none, which no container of harbour/tidebook-1 has"},
	} {
		r := run(t, "rules", "--sheet", made, "--tables", open, "--from", c.from, "--to", c.to)
		if r.status != c.status || !strings.Contains(strings.Join(strings.Fields(r.stdout), " "), c.want) {
			t.Errorf("%s to %s: %d, lacks %q:\n%s%s", c.from, c.to, r.status, c.want, r.stdout, r.stderr)
		}
	}
	for name, c := range map[string]struct{ text, want string }{
		"no sheet": {"tides: 1\n", "nothing in it is known here"},
		"broken":   {"kind: [\n", ":1:7: "},
		"a wrong address": {"layer,action,source,guards\nedge,allow,10.20.7.0/240,10.20.0.0/24\n",
			`"10.20.7.0/240": expected an address`},
		"a table, no verb": {"layer,action,source\nedge,perhaps,any\n", `:2:1: action "perhaps"`},
	} {
		r := run(
			t,
			"sheet",
			"new",
			"--from",
			write(t, filepath.Join(dir, "bad"), c.text),
			"-o",
			filepath.Join(dir, "never.yaml"),
		)
		if r.status != 2 || !strings.Contains(r.stderr, c.want) {
			t.Errorf("%s: %+v", name, r)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "never.yaml")); err == nil {
		t.Error("a sheet was written of what is none")
	}
	quarrel := write(
		t,
		filepath.Join(dir, "quarrel.yaml"),
		"format: uakari.sheet/1\nname: office\nlayers:\n  - name: edge\n    kind: stateful\n    guards: "+
			"[10.20.0.0/24]\n    in:\n      - {do: allow}\n      - {do: deny, from: [10.20.7.31]}\n",
	)
	if r := run(t, "sheet", "check", quarrel); r.status != 0 || !strings.Contains(r.stdout, "rule 2 can never match") {
		t.Errorf("%+v", r)
	}
}
