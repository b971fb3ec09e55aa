package test

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestSince reaches an endpoint, and then not: what changed is told, what
// explains it first. Without a casebook nothing is kept.
func TestSince(t *testing.T) {
	dir := t.TempDir()
	hosts := write(t, filepath.Join(dir, "hosts"), "127.0.0.1 tidebook.varzea.example\n")
	book := filepath.Join(dir, "book.db")
	env := []string{"env", "UAKARI_CASEBOOK=" + book}
	answer := func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
	}
	web := listen(t, "127.0.0.1:0", nil, answer)
	_, port, err := net.SplitHostPort(web.addr)
	if err != nil {
		t.Fatal(err)
	}
	endpoint := "http://tidebook.varzea.example:" + port + "/"
	facts := filepath.Join(dir, "good.json")
	trace := func(args ...string) trail.Trail {
		t.Helper()
		r := runIn(t, env, append([]string{"trace", "--json", "--hosts", hosts, endpoint}, args...)...)
		return readTrail(t, r.stdout+r.stderr)
	}
	if judged := trace("--facts", facts); judged.Outcome != trail.OutcomeClear || judged.Since != nil {
		t.Fatalf("it works at first: %s", dump(judged))
	}
	if r := runIn(t, env, "trace", "--case", "new", "http://127.0.0.1:1/"); r.status != 1 && r.status != 3 {
		t.Fatalf("%+v", r)
	}
	trace() // with a casebook it is kept
	write(t, hosts, "# moved for a test\n127.0.0.9 tidebook.varzea.example\n")
	for _, from := range []string{"", facts} {
		var args []string
		if from != "" {
			args = []string{"--since", from}
		}
		judged := trace(args...)
		if judged.Since == nil || len(judged.Since.Changed) == 0 {
			t.Fatalf("nothing is told: %s", dump(judged))
		}
		c := judged.Since.Changed[0]
		if c.What != "hosts file" || !strings.Contains(c.Now, "127.0.0.9") || !strings.Contains(c.Was, "127.0.0.1") {
			t.Errorf("from %q: %+v", from, judged.Since)
		}
	}
	text := runIn(t, env, "trace", "--hosts", hosts, endpoint).stdout
	if !strings.Contains(text, "when it worked:") ||
		!strings.Contains(oneLine(text), "it was 127.0.0.1 tidebook.varzea.example") {
		t.Error(text)
	}
	if r := run(t, "trace", "--since", filepath.Join(dir, "none"), "--hosts", hosts, endpoint); r.status != 2 ||
		!strings.Contains(r.stderr, "expected a case, facts or a record") {
		t.Errorf("%+v", r)
	}
}

// TestDiffer compares records of one host, and facts of two.
func TestDiffer(t *testing.T) {
	dir := t.TempDir()
	before, after := filepath.Join(dir, "before.json"), filepath.Join(dir, "after.json")
	port := freePort(t)
	for _, file := range []string{before, after} {
		if r := run(t, "record", "--for", fmt.Sprintf("tcp://127.0.0.1:%d", port), "-o", file); r.status != 0 {
			t.Fatalf("%+v", r)
		}
		if file == before {
			l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
			if err != nil {
				t.Fatal(err)
			}
			defer l.Close()
		}
	}
	r := run(t, "differ", before, after)
	if r.status != 1 || !strings.Contains(r.stdout, "who holds the port: now test.test on 127.0.0.1") {
		t.Errorf("%+v", r)
	}
	if r := run(t, "differ", before, before); r.status != 0 || !strings.HasPrefix(r.stdout, "Alike") {
		t.Errorf("%+v", r)
	}
	if r := run(t, "differ", before, filepath.Join(dir, "none")); r.status != 2 || strings.Count(r.stderr, "\n") != 1 {
		t.Errorf("%+v", r)
	}
}

// TestTwoClients compares one client that reaches the endpoint with one that does
// not, by their records.
func TestTwoClients(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, "tides")
	}))
	defer served.Close()
	endpoint := "http://tidebook.varzea.example:" + strings.TrimPrefix(served.URL, "http://127.0.0.1:") + "/"
	recorded := func(host, hosts string) string {
		file := filepath.Join(dir, host+".json")
		r := run(
			t,
			"record",
			"--for",
			endpoint,
			"--hosts",
			write(t, filepath.Join(dir, host+".hosts"), hosts),
			"--wait",
			"1s",
			"-o",
			file,
		)
		if r.status != 0 {
			t.Fatalf("%+v", r)
		}
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		named := regexp.MustCompile(`(?m)^ "host": ".*",$`).ReplaceAll(text, []byte(` "host": "`+host+`",`))
		return write(t, file, string(named))
	}
	good := recorded("gauge-08", "127.0.0.1 tidebook.varzea.example\n")
	bad := recorded("gauge-07", "127.9.9.9 tidebook.varzea.example\n127.0.0.1 localhost\n")
	args := []string{"trace", endpoint, "--wait", "1s", "--record", "client=" + bad, "--record", "client=" + good}
	r := run(t, args...)
	flat := strings.Join(strings.Fields(r.stdout), " ")
	for _, want := range []string{"No: gauge-07 cannot reach", "Yes: gauge-08 reaches",
		"What differs from gauge-08, where it works:", "127.9.9.9 tidebook.varzea.example"} {
		if r.status != 1 && r.status != 3 || !strings.Contains(flat, want) {
			t.Errorf("%d, lacks %q:\n%s%s", r.status, want, r.stdout, r.stderr)
		}
	}
	decoder := json.NewDecoder(strings.NewReader(run(t, append(args, "--json")...).stdout))
	var reached []string
	for {
		var judged trail.Trail
		if decoder.Decode(&judged) != nil {
			break
		}
		reached = append(reached, string(judged.Reached))
		if judged.Since != nil && (judged.Since.Beside != "gauge-08" || len(judged.Since.Changed) == 0) {
			t.Errorf("%+v", judged.Since)
		}
	}
	if strings.Join(reached, " ") != "no yes" {
		t.Errorf("%q", reached)
	}
	if r := run(t, append(args, "--case", "new")...); r.status != 2 {
		t.Errorf("%+v", r)
	}
}

// TestBaseline keeps what a host is like while it is well, and compares.
func TestBaseline(t *testing.T) {
	t.Parallel()
	state := t.TempDir()
	env := []string{"env", "XDG_STATE_HOME=" + state, "UAKARI_CASEBOOK="}
	with := func(args ...string) result { return runWords(t, append(append(env, program), args...)) }
	now := filepath.Join(state, "now.json")
	if r := with("record", "-o", now); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := with("differ", "baseline", now); r.status != 2 || !strings.Contains(r.stderr, "uakari record --baseline") {
		t.Errorf("%+v", r)
	}
	if r := with("record", "--baseline"); r.status != 0 || !strings.HasPrefix(r.stdout, "Kept: what ") {
		t.Fatalf("%+v", r)
	}
	var held net.Listener
	for port := 20_000; held == nil && port < 30_000; port += 7 { // below what clients are given
		held, _ = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port)) // else it is somebody's
	}
	defer held.Close()
	if r := with("record", "-o", now); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	_, port, _ := net.SplitHostPort(held.Addr().String())
	if r := with("differ", "baseline", now); r.status != 1 || !strings.Contains(r.stdout, port) {
		t.Errorf("port %s: %+v", port, r)
	}
	if r := with("record", "--baseline", "-o", now); r.status != 2 {
		t.Errorf("%+v", r)
	}
}

// TestSinceSettings moves a real server to another port by its settings file: the
// setting that differs is told, and which package the program is of.
func TestSinceSettings(t *testing.T) {
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	dir := t.TempDir()
	env := []string{"env", "UAKARI_CASEBOOK=" + filepath.Join(dir, "book.db")}
	conf := filepath.Join(dir, "nginx.conf")
	serve := func(t *testing.T, port int) {
		write(t, conf, fmt.Sprintf("daemon off; pid %[1]s/pid; error_log %[1]s/error.log; events {}\nhttp { "+
			"access_log off; server { listen 127.0.0.1:%[2]d; return 200 ok; } }\n", dir, port))
		start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, nginx, "-c", conf)
	}
	port, moved := freePort(t), freePort(t)
	endpoint := fmt.Sprintf("http://127.0.0.1:%d/", port)
	runIn(t, env, "case", "list") // there is a casebook
	t.Run("it works", func(t *testing.T) {
		serve(t, port)
		if r := runIn(t, env, "trace", endpoint); r.status != 0 {
			t.Fatalf("%+v", r)
		}
	})
	serve(t, moved)
	r := runIn(t, env, "trace", "--json", endpoint)
	judged := readTrail(t, r.stdout+r.stderr)
	if judged.Since == nil {
		t.Fatalf("nothing is told: %s", dump(judged))
	}
	told := ""
	for _, c := range judged.Since.Changed {
		told += fmt.Sprintf("%s: %s, was %s\n", c.What, c.Now, c.Was)
	}
	want := fmt.Sprintf("settings files: %[1]s: http.server.listen = 127.0.0.1:%[2]d, was %[1]s: http.server.listen "+
		"= 127.0.0.1:%[3]d\n", conf, moved, port)
	if !strings.Contains(told, want) || strings.Contains(told, ": text ") {
		t.Errorf("%s; expected %s", told, want)
	}
}
