package test

import (
	"fmt"
	"net"
	"path/filepath"
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
	if !strings.Contains(text, "when it worked:") || !strings.Contains(oneLine(text), "it was 127.0.0.1 tidebook.varzea.example") {
		t.Error(text)
	}
	if r := run(t, "trace", "--since", filepath.Join(dir, "none"), "--hosts", hosts, endpoint); r.status != 2 || !strings.Contains(r.stderr, "expected a case, facts or a record") {
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
