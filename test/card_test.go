package test

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/goccy/go-yaml"

	"uakari/internal/trail"
)

// wholeCard is a card with every key that there is.
const wholeCard = `format: uakari.card/1
name: tidebook
endpoint: https://tidebook.varzea.example/
aliases: [readings.varzea.example]
unit: tidebook.service
program: /usr/sbin/tidebook
ports: [443, 8443]
log: /var/log/tidebook.log
fresh: 10m
allow-list: /etc/tidebook/stations
needs: [ledger.service]
client-program: tidebook-upload
service-record: _tides._tcp.varzea.example
proxy: http://heron:3128
limit: 10s
port-map:
  - {port: 443, for: browsers}
  - {range: 50000-50100, for: transfers}
settings:
  - name: the portal's port
    is: port
    client: {file: /etc/gauge.ini, format: ini, key: portal.port}
    server: {file: /etc/tidebook.yaml, format: yaml, key: listen.port}
    copies:
      - {file: /etc/upload.env, format: env, key: PORTAL_PORT}
  - name: the station
    value: "7"
    client: {file: /etc/gauge.ini, format: ini, key: station}
signs:
  - {on: client, folder: /var/lib/gauge, at-least: 3, fresh: 24h}
  - {on: server, file: /var/log/tidebook.log, last-line: done, must: ok, must-not: FATAL}
account: {name: upload, mechanism: password, groups: [programs]}
answer: {status: [200, 204], contains: tides, program: tidebook}
reasons:
  - {log: 'state code 775', cause: login/locked, says: the portal's own lock}
from: [10.20.7.0/24]
hops: ['postgres://ledger.varzea.example/']
pairs: ['http://receipts.varzea.example:8483/']
notes: [restarts at four]
links:
  - {part: certs, url: 'https://desk.varzea.example/certs'}
call:
  - {part: certs, who: the certificate desk}
`

// TestCardCommands writes, checks and shows cards.
func TestCardCommands(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "tidebook.yaml")
	if r := run(t, "card", "new", "https://tidebook.varzea.example/", "-o", file); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := run(t, "card", "new", "https://tidebook.varzea.example/", "-o", file); r.status != 2 ||
		!strings.Contains(r.stderr, "there already") {
		t.Errorf("it overwrites: %+v", r)
	}
	if r := run(t, "card", "check", file); r.status != 0 || !strings.Contains(r.stdout, "well (tidebook)") {
		t.Errorf("its own draft: %+v", r)
	}
	if r := run(t, "card", "show", file); r.status != 0 ||
		!strings.Contains(r.stdout, "https://tidebook.varzea.example:443/") {
		t.Errorf("%+v", r)
	}
	for _, text := range []string{readFile(t, file), wholeCard} {
		if r := run(t, "card", "check", write(t, filepath.Join(dir, "whole.yaml"), text)); r.status != 0 {
			t.Errorf("%+v", r)
		}
		asJSON, err := yaml.YAMLToJSON([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		validate(t, "card", asJSON)
	}
	if r := run(t, "card", "show", filepath.Join(dir, "whole.yaml")); !strings.Contains(r.stdout, "50000-50100") ||
		!strings.Contains(r.stdout, "certs: call the certificate desk") {
		t.Errorf("%+v", r)
	}
	var long strings.Builder
	long.WriteString("format: uakari.card/1\nname: long\nnotes:\n")
	for i := range 10000 {
		fmt.Fprintf(&long, "  - line %d\n", i)
	}
	long.WriteString("progam: nginx\n")
	for name, c := range map[string]struct{ text, want string }{
		"a misspelt key": {"format: uakari.card/1\nname: x\nprot: 5\n",
			`:3:1: unknown field "prot"; did you mean "port`},
		"far down": {long.String(), `:10004:1: unknown field "progam"; did you mean "program"?`},
		"a wrong time": {"format: uakari.card/1\nname: x\nlimit: soon\n",
			`:3:8: limit "soon"; expected a time like 10m`},
		"a secret": {"format: uakari.card/1\nname: x\nsettings:\n  - name: s\n    is: port\n    client: " +
			"{file: /x, format: ini, key: db.password}\n", "names a secret"},
		"a wrong format": {"format: uakari.card/1\nname: x\nsettings:\n  - name: s\n    is: port\n    client: " +
			"{file: /x, format: inii, key: port}\n", `:6:32: format "inii"; expected one of add`},
		"a pattern, no value": {"format: uakari.card/1\nname: x\nsettings:\n  - name: s\n    value: 5\n    client: " +
			"{file: /x, pattern: 'port (.*)'}\n", `:6:33: "port (.*)" has no group for the value`},
		"a pattern, a secret": {"format: uakari.card/1\nname: x\nsettings:\n  - name: s\n    value: 5\n    client: " +
			"{file: /x, pattern: 'password=(?P<value>.*)'}\n", "names a secret"},
		"same, of one alone": {"format: uakari.card/1\nname: x\nsettings:\n  - name: s\n    is: same\n    client: " +
			"{file: /x, format: ini, key: port}\n", "same: what with?"},
		"a copy of nowhere": {"format: uakari.card/1\nname: x\nsettings:\n  - name: s\n    is: same\n    client: " +
			"{file: /x, format: ini, key: port}\n    copies: [{on: both, file: /y, format: ini, key: p}]\n",
			`on "both"; expected client or server`},
		"no such cause": {"format: uakari.card/1\nname: x\nreasons:\n  - {log: a, cause: login/nothing}\n",
			"there is no cause"},
		"no expression": {"format: uakari.card/1\nname: x\nreasons:\n  - {log: '(', cause: login/locked}\n",
			":4:11:"},
		"a sign of neither": {"format: uakari.card/1\nname: x\nsigns:\n  - {on: server, fresh: 1m}\n",
			"either file: or folder:"},
		"no endpoint in hops": {"format: uakari.card/1\nname: x\nhops: ['http://']\n", ":3:8:"},
	} {
		r := run(t, "card", "check", write(t, filepath.Join(dir, "bad.yaml"), c.text))
		if r.status != 2 || !strings.Contains(r.stderr, c.want) ||
			strings.Count(strings.TrimSpace(r.stderr), "\n") > 0 {
			t.Errorf("%s: %+v", name, r)
		}
	}
}

// TestCardSettings reads settings of every format with a fault each.
func TestCardSettings(t *testing.T) {
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "tides")
	}))
	defer served.Close()
	port := served.Listener.Addr().(*net.TCPAddr).Port
	dir := t.TempDir()
	hosts := write(t, filepath.Join(dir, "hosts"), "127.0.0.1 tidebook.varzea.example\n")
	for name, c := range map[string]struct{ format, text, key, is, want, says string }{
		"ini, right": {"ini", "[portal]\nport = PORT\n", "portal.port", "port", "", ""},
		"yaml, right": {"yaml", "portal:\n  hosts:\n    - tidebook.varzea.example\n", "portal.hosts.0",
			"host", "", ""},
		"json, right": {"json", `{"portal": {"url": "http://tidebook.varzea.example:PORT/"}}`,
			"portal.url", "url", "", ""},
		"xml, right": {"xml", `<gauge><portal port="PORT"/></gauge>`, "gauge.portal@port", "port", "",
			""},
		"toml, right": {"toml", "[portal]\nhost = \"tidebook.varzea.example\" # ours\n", "portal.host",
			"host", "", ""},
		"ini, another port": {"ini", "[portal]\nport = 1\n", "portal.port", "port", "settings/wrong-port proven",
			`line 2, is "1", and should be "PORT"`},
		"env, a slip": {"env", "PORTAL=tidebok.varzea.example\n", "PORTAL", "host",
			"settings/wrong-host proven", `"tidebok.varzea.example"`},
		"env, a blank at the end": {"env", "export PORTAL=tidebook.varzea.example \n", "PORTAL", "host",
			"settings/stray-characters proven", "blank"},
		"yaml, cannot be seen": {"yaml", "portal: \"tide\u200bbook.varzea.example\"\n", "portal", "host",
			"settings/stray-characters proven", "U+200B"},
		"properties, empty": {"properties", "portal.host=\n", "portal.host", "host", "settings/blank proven",
			"empty"},
		"ini, misspelt": {"ini", "[portal]\nprot = PORT\n", "portal.port", "port", "settings/blank proven",
			`line 2 has "portal.prot = PORT": was that meant?`},
		"ini, commented out": {"ini", "[portal]\n# port = PORT\n", "portal.port", "port", "settings/blank proven",
			"commented out"},
		"ssh, another port": {"ssh", "Host tidebook\n  Port 1\n", "tidebook.Port", "port",
			"settings/wrong-port proven", `"1"`},
		"pg-service, old address": {"pg-service", "[ledger]\nhost=127.9.9.9\n", "ledger.host", "address", "", ""},
		// every loopback address is this host's
		"json, an old address": {"json", `{"host": "10.99.0.1"}`, "host", "address",
			"settings/stale-address proven", "10.99.0.1"},
		"toml, not encrypted": {"toml", "url = \"https://tidebook.varzea.example:PORT/\"\n", "url", "url",
			"settings/wrong-security proven", "https"},
		"xml, by its name": {"xml",
			`<gauge><option name="other" value="1"/><option name="port" value="1"/></gauge>`,
			"gauge.option[port]@value", "port", "settings/wrong-port proven", `option[port]@value in`},
		"add pairs, right": {"add", `<a><appSettings><add key="portal" value="PORT"/></appSettings></a>`,
			"portal", "port", "", ""},
		"blocks, another port": {"blocks", "portal {\n  port 1;\n}\n", "portal.port", "port",
			"settings/wrong-port proven", `line 2, is "1"`},
		"security, right": {"ini", "tls = off\n", "tls", "security", "", ""},
		"security, the other": {"ini", "tls = required\n", "tls", "security", "settings/wrong-security proven",
			`should be "plain"`},
		"no file": {"ini", "", "portal.port", "port", "settings/blank proven", "there is no file"},
	} {
		t.Run(name, func(t *testing.T) {
			here := func(text string) string { return strings.ReplaceAll(text, "PORT", fmt.Sprint(port)) }
			if c.format == "env" {
				here = func(text string) string { return text }
			}
			file := filepath.Join(t.TempDir(), "settings")
			if c.text != "" {
				write(t, file, here(c.text))
			}
			card := write(
				t,
				filepath.Join(t.TempDir(), "card.yaml"),
				fmt.Sprintf(
					"format: uakari.card/1\nname: tidebook\nsettings:\n  - name: the portal\n    is: %s\n    "+
						"client: {file: %q, format: %s, key: %q}\n",
					c.is,
					file,
					c.format,
					c.key,
				),
			)
			judged := traced(t, nil, "--hosts", hosts, "--card", card,
				fmt.Sprintf("http://tidebook.varzea.example:%d/", port))
			if c.want == "" {
				expectHealthy(t, judged)
				return
			}
			expect(t, judged, c.want)
			if len(judged.Causes) > 0 && !strings.Contains(judged.Causes[0].Summary, here(c.says)) {
				t.Errorf("%q lacks %q", judged.Causes[0].Summary, here(c.says))
			}
		})
	}
}

// TestCardMarks is the card's other marks: both sides' settings, a program,
// signs, limits and answers.
func TestCardMarks(t *testing.T) {
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		time.Sleep(400 * time.Millisecond)
		fmt.Fprint(w, "tides")
	}))
	defer slow.Close()
	dir := t.TempDir()
	one, two := write(t, filepath.Join(dir, "one"), "station = 7\n"),
		write(t, filepath.Join(dir, "two"), "station: 8\n")
	old := write(t, filepath.Join(dir, "old"), "tides\n")
	if err := os.Chtimes(old, time.Now(), time.Now().Add(-time.Hour)); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ card, want string }{
		"both sides differ": {fmt.Sprintf("settings:\n  - name: station\n    is: same\n    client: {file: %s, "+
			"format: ini, key: station}\n    server: {file: %s, format: yaml, key: station}\n", one, two),
			"settings/copies-differ proven"},
		"by a pattern": {fmt.Sprintf("settings:\n  - name: station\n    value: 8\n    client: {file: %s, "+
			"pattern: '^station = (?P<value>\\d+)'}\n", one), "settings/copies-differ proven"},
		"one of several": {fmt.Sprintf("settings:\n  - name: station\n    one-of: [7, 9]\n    client: "+
			"{file: %s, format: ini, key: station}\n", one), ""},
		"a copy on the server": {fmt.Sprintf("settings:\n  - name: station\n    is: same\n    client: {file: %s, "+
			"format: ini, key: station}\n    copies: [{on: server, file: %s, format: yaml, key: station}]\n", one,
			two), "settings/copies-differ proven"},
		"no client program": {"client-program: tidebook-upload-that-is-not-there\n",
			"settings/client-missing proven"},
		"too slow for clients": {"limit: 100ms\n", "answer/too-slow proven"},
		"in time":              {"limit: 5s\nclient-program: sh\n", ""},
		"another answer":       {"answer: {contains: floods}\n", "answer/wrong-application proven"},
		"another status":       {"answer: {status: [204]}\n", "answer/error-status proven"},
		"the right answer":     {"answer: {status: [200], contains: tides}\n", ""},
		"settings not received": {fmt.Sprintf("signs:\n  - {on: client, file: %s, fresh: 10m}\n", old),
			"settings/not-received proven"},
		"a sign that is there": {fmt.Sprintf("signs:\n  - {on: client, file: %s, fresh: 2h, last-line: tides, "+
			"must: '^tid', must-not: flood}\n", old), ""},
		"a last line is missing": {fmt.Sprintf("signs:\n  - {on: server, file: %s, last-line: done}\n", old),
			"service/stale-log proven"},
		"too few files": {fmt.Sprintf("signs:\n  - {on: client, folder: %s, at-least: 9}\n", dir),
			"settings/not-received proven"},
	} {
		t.Run(name, func(t *testing.T) {
			card := write(t, filepath.Join(t.TempDir(), "card.yaml"), "format: uakari.card/1\nname: tidebook\n"+c.card)
			judged := traced(t, nil, "--card", card, slow.URL+"/")
			if c.want == "" {
				expectHealthy(t, judged)
				return
			}
			expect(t, judged, c.want)
		})
	}
}

// TestAnswers is what can be wrong with an answer that comes.
func TestAnswers(t *testing.T) {
	var under atomic.Int32
	mux := http.NewServeMux()
	redirect := func(path, to string) {
		mux.HandleFunc(
			path,
			func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Location", to); w.WriteHeader(302) },
		)
	}
	served := httptest.NewServer(mux)
	defer served.Close()
	redirect("/away", fmt.Sprintf("http://127.0.0.1:%d/", freePort(t)))
	redirect("/nowhere", "https://tidebok.varzea.example/")
	redirect("/loop", served.URL+"/loop")
	redirect("/within", served.URL+"/")
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "ok") })
	mux.HandleFunc("/mending", func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(503)
		fmt.Fprint(w, "The portal is down for maintenance.")
	})
	mux.HandleFunc("/narrow", func(w http.ResponseWriter, _ *http.Request) {
		defer under.Add(-1)
		if under.Add(1) > 2 {
			w.WriteHeader(503)
		}
		time.Sleep(20 * time.Millisecond)
	})
	for path, want := range map[string]string{"/away": "answer/redirects-away proven",
		"/nowhere": "answer/redirects-away proven", "/loop": "answer/redirects-away proven",
		"/mending": "answer/not-ready proven"} {
		expect(t, traced(t, nil, served.URL+path), want)
	}
	expectHealthy(t, traced(t, nil, served.URL+"/within"))
	r := run(t, "answer", "--parallel", "1,8", "--for", "1s", "--json", served.URL+"/narrow")
	judged := readTrail(t, r.stdout)
	if len(judged.Causes) != 1 || judged.Causes[0].ID != "answer/overloaded" ||
		judged.Causes[0].Certainty != trail.Proven ||
		!strings.Contains(judged.Causes[0].Summary, "8 requests side by side") {
		t.Errorf("%s\n%s", r.stderr, dump(judged))
	}
	if r := run(t, "answer", "--parallel", "1,999", served.URL); r.status != 2 {
		t.Errorf("%+v", r)
	}
}

// TestIdle leaves connections idle: one that something drops, one that bears it.
func TestIdle(t *testing.T) {
	for _, cut := range []bool{true, false} {
		served := httptest.NewUnstartedServer(
			http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "ok") }),
		)
		if cut {
			served.Config.ConnState = func(c net.Conn, s http.ConnState) {
				if s == http.StateIdle {
					time.AfterFunc(500*time.Millisecond, func() {
						c.(*net.TCPConn).SetLinger(0)
						c.Close()
					})
				}
			}
		}
		served.Start()
		r := run(t, "answer", "--idle", "1s", "--json", served.URL+"/")
		judged := readTrail(t, r.stdout)
		if cut {
			expect(t, judged, "answer/cut-when-idle proven")
		} else {
			expectHealthy(t, judged)
		}
		served.Close()
	}
}

// TestClientUnit is an agent on the client that is stopped while a try by hand
// gets through.
func TestClientUnit(t *testing.T) {
	t.Parallel()
	h := boot(t)
	h.install()
	h.put(
		"/etc/systemd/system/gauge-agent.service",
		"[Service]\nExecStart=/bin/sleep 600\n[Install]\nWantedBy=multi-user.target\n",
	)
	h.put(
		"/root/card.yaml",
		"format: uakari.card/1\nname: tidebook\nendpoint: http://10.20.0.14/\nclient-unit: gauge-agent.service\n",
	)
	h.do("systemctl daemon-reload; systemctl start gauge-agent")
	trace := func() trail.Trail {
		t.Helper()
		r := runWords(t, append(h.enter(), "/usr/local/bin/uakari", "trace", "--json", "--card", "/root/card.yaml"))
		return readTrail(t, r.stdout+r.stderr)
	}
	if judged := trace(); judged.Outcome != trail.OutcomeClear {
		t.Errorf("it runs: %s", dump(judged))
	}
	h.do("systemctl stop gauge-agent")
	expect(t, trace(), "settings/client-stopped proven")
	h.do("rm /etc/systemd/system/gauge-agent.service; systemctl daemon-reload")
	expect(t, trace(), "settings/client-stopped proven")
}

// TestCardDraft writes a card of what a host serves, and finds where a card and
// its host do not agree.
func TestCardDraft(t *testing.T) {
	t.Parallel()
	h := boot(t)
	h.install()
	h.put(
		"/etc/nginx/conf.d/tides.conf",
		"server {\n listen 8090;\n server_name tidebook.varzea.example;\n location / { proxy_pass "+
			"http://127.0.0.1:8091; }\n}\n",
	)
	h.do("systemctl reload nginx || systemctl restart nginx")
	inside := func(args ...string) result {
		return runWords(t, append(h.enter(), append([]string{"/usr/local/bin/uakari"}, args...)...))
	}
	drafted := inside("card", "new", "http://10.20.0.14/")
	for _, want := range []string{"program: /usr/sbin/nginx ", "unit: nginx.service ", "ports: [80, 8090]",
		"log: /var/log/nginx/", "\nhops: [\"http://127.0.0.1:8091/\"]"} {
		if !strings.Contains(drafted.stdout, want) {
			t.Errorf("lacks %q:\n%s%s", want, drafted.stdout, drafted.stderr)
		}
	}
	h.put("/root/hosts", "10.20.0.14 tidebook.varzea.example\n")
	named := inside("card", "new", "--hosts", "/root/hosts", "http://tidebook.varzea.example:8090/")
	for _, want := range []string{
		"is: port\n    server: {file: \"/etc/nginx/conf.d/tides.conf\", format: blocks, key: server.listen}",
		"is: host\n    server: {file: \"/etc/nginx/conf.d/tides.conf\", format: blocks, key: server.server_name}",
	} {
		if !strings.Contains(named.stdout, want) {
			t.Errorf("lacks %q:\n%s%s", want, named.stdout, named.stderr)
		}
	}
	h.put("/root/card.yaml", drafted.stdout)
	if r := inside("card", "check", "/root/card.yaml"); r.status != 0 {
		t.Errorf("%+v", r)
	}
	if r := inside("record", "--for", "http://10.20.0.14/", "-o", "/root/host.json"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := inside("card", "check", "/root/card.yaml", "--record", "/root/host.json"); r.status != 0 ||
		!strings.Contains(r.stdout, "it agrees") {
		t.Errorf("%+v", r)
	}
	h.put(
		"/root/card.yaml",
		"format: uakari.card/1\nname: tidebook\nendpoint: http://10.20.0.14/\nunit: tidebook.service\nports: [80, "+
			"9443]\n"+
			"settings:\n  - name: its port\n    is: port\n    server: {file: /etc/tidebook.ini, format: ini, key: "+
			"port}\nsigns:\n  - {on: server, file: /var/log/tidebook.log}\n",
	)
	r := inside("card", "check", "/root/card.yaml", "--record", "/root/host.json")
	for _, want := range []string{"unit: the card says tidebook.service, and the host has nginx.service",
		"the card says 9443, and nothing listens there", "it listens on 8090 too"} {
		if r.status != 1 || !strings.Contains(strings.Join(strings.Fields(r.stdout), " "), want) {
			t.Errorf("%d, lacks %q:\n%s%s", r.status, want, r.stdout, r.stderr)
		}
	}
	fromRecord := inside("card", "new", "/root/host.json")
	if !strings.Contains(fromRecord.stdout, "unit: nginx.service ") ||
		!strings.Contains(fromRecord.stdout, "ports: [80, 8090]") {
		t.Errorf("%s%s", fromRecord.stdout, fromRecord.stderr)
	}
}

// TestCardByRecord judges settings, signs, both ways and a partner's description by
// a record of the server, as if it had been looked at.
func TestCardByRecord(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/metadata" {
			fmt.Fprint(w, `<EntityDescriptor entityID="pier" validUntil="2020-01-01T00:00:00Z"/>`)
			return
		}
		fmt.Fprint(w, "tides")
	}))
	defer served.Close()
	shut := fmt.Sprintf("http://127.0.0.1:%d/", freePort(t))
	other := write(t, filepath.Join(dir, "other.ini"), "station = 8\n")
	own := write(t, filepath.Join(dir, "own.ini"), "station = 7\n")
	card := write(t, filepath.Join(dir, "card.yaml"), fmt.Sprintf(`format: uakari.card/1
name: tidebook
endpoint: %[1]s/
settings:
  - name: station
    is: same
    client: {file: %[2]s, format: ini, key: station}
    copies: [{on: server, file: %[3]s, format: ini, key: station}]
signs:
  - {on: server, file: %[3]s, fresh: 1ms}
pairs:
  - {endpoint: %[4]q, metadata: "%[1]s/metadata"}
`, served.URL, own, other, shut))
	record := filepath.Join(dir, "host.json")
	if r := run(t, "record", "--for", served.URL+"/", "--card", card, "-o", record); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	judged := readTrail(t, run(t, "trace", "--card", card, "--record", "server="+record, "--json").stdout)
	var ids []string
	for _, c := range judged.Causes {
		ids = append(ids, c.ID)
	}
	for _, want := range []string{"settings/copies-differ", "settings/metadata-stale", "service/stale-log"} {
		if !slices.Contains(ids, want) {
			t.Errorf("%q lacks %s", ids, want)
		}
	}
	if len(judged.Behind) != 1 || !judged.Behind[0].Pair || judged.Behind[0].Trail.Reached != trail.No {
		t.Errorf("the way back: %+v", judged.Behind)
	}
}
