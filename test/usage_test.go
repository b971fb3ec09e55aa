package test

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestBadInput is wrong usage and unreadable input: one clear line, status 2.
func TestBadInput(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(dir, "state"))
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"trace"}, "what is to be reached?"},
		{[]string{"trace", ""}, "nothing but blanks"},
		{[]string{"trace", "tidebook:70000"}, "expected a port from 1 to 65535"},
		{[]string{"trace", "http//x"}, `"//" without a scheme`},
		{[]string{"trace", "tide book"}, "a blank inside"},
		{[]string{"trace", "gopher://x"}, "expected one of https, http, ssh"},
		{[]string{"trace", strings.Repeat("a", 300)}, "expected at most"},
		{[]string{"trace", "a", "b"}, "one ENDPOINT at a time"},
		{[]string{"trace", "a", "--speed"}, "unknown flag: --speed"},
		{[]string{"trace", "a", "--resolver", "x"}, "expected an address"},
		{[]string{"trace", "a", "--wait", "0s"}, "expected a time above zero"},
		{[]string{"trace", "a", "--wait", "soon"}, "invalid"},
		{[]string{"trace", "a", "--deadline", "-1s"}, "expected a time above zero"},
		{[]string{"trace", "a", "--out", "xml"}, "expected text, json, md, html"},
		{[]string{"trace", "a", "--color", "red"}, "expected auto, always or never"},
		{[]string{"trace", "a", "--only", "stairs"}, "no such rung"},
		{[]string{"trace", "a", "--trust", filepath.Join(dir, "none.pem")}, "no such file"},
		{[]string{"trace", "a", "--trust", file("empty.pem", "rubbish")}, "neither PEM nor DER, PKCS #12"},
		{[]string{"trace", "a", "--hosts", filepath.Join(dir, "none")}, "no such file"},
		{[]string{"trace", "a", "--card", filepath.Join(dir, "none.yaml")}, "no such file"},
		{[]string{"trace", "a", "--card", file("card.yaml", "format: uakari.card/1\nname: x\nprot: 1\n")},
			"card.yaml:3:1: "},
		{[]string{"trace", "--replay", filepath.Join(dir, "none.json")}, "no such file"},
		{[]string{"trace", "--replay", file("cut.json", "{\n \"format\": \"uakari.facts/1\",\n \"ask\": {")},
			"cut.json:3:"},
		{[]string{"trace", "--replay", file("kind.json", "{\n \"format\": 7}")}, "kind.json:2:"},
		{[]string{"trace", "--replay", file("other.json", "{\"format\":\"uakari.facts/9\"}")},
			`expected "uakari.facts/1"`},
		{[]string{"trace", "--replay", file("x.json", "{}"), "a"}, "no ENDPOINT goes with it"},
		{[]string{"explain", "ports/loopback"}, "is it ports/loopback-only?"},
		{[]string{"explain", "tides", "harbour"}, `none speaks of it`},
		{[]string{"trase"}, `did you mean "trace"?`},
		{[]string{"rules"}, "--from is needed"},
		{[]string{"rules", "a", "--tables", file("t.rules", "*filter\nCOMMIT\n")},
			"either an ENDPOINT, or --from and --to"},
		{[]string{"rules", "--from", "x"}, "expected ADDRESS or ADDRESS:PORT"},
		{[]string{"rules", "--from", "10.20.7.31", "--to", "10.20.0.14:443", "--tables",
			file("cut.rules", "*filter\n:INPUT ACCEPT [0:0]\n-A NONE -j DROP\nCOMMIT\n")}, "cut.rules:3:"},
		{[]string{"rules", "--from", "10.20.7.31", "--to", "10.20.0.14:443", "--tables", file("open.rules",
			"*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n"), "--suppose", "open the door"}, "expected a command of nft"},
		{[]string{"rules", "a", "--sheet", filepath.Join(dir, "none.yaml")}, "no such file"},
		{[]string{"rules", "a", "--sheet", file("sheet.yaml", "format: uakari.sheet/1\nname: x\nlayres: []\n")},
			"sheet.yaml:3:1: "},
		{[]string{"names"}, "expected one NAME; there is nothing"},
		{[]string{"names", "a", "b"}, `there is "b" too`},
		{[]string{"certs"}, "expected an ENDPOINT, or files"},
		{[]string{"certs", filepath.Join(dir, "none.pem")}, "no such file"},
		{[]string{"certs", file("no.pem", "rubbish")}, "neither PEM nor DER, PKCS #12"},
		{[]string{"certs", "a", "b"}, "one ENDPOINT at a time"},
		{[]string{"confirm"}, "the number of a CASE, or the file that trace --facts wrote"},
		{[]string{"confirm", filepath.Join(dir, "none.json")}, "no such file"},
		{[]string{"confirm", file("bad.json", "root")}, "bad.json:1:"},
		{[]string{"confirm", file("zero.json", "{}"), "--times", "0"}, "expected a number from 1 to 100"},
		{[]string{"login"}, "expected one ENDPOINT, or --sheet with --user; there is nothing"},
		{[]string{"login", "--sheet", file("night.yaml", "format: uakari.sheet/1\nname: x\nsign-in:\n  rules:\n    "+
			"- {name: night, do: refuse, hours: late}\n"), "--user", "ana"},
			`night.yaml:5:40: "late": expected hours such as 07:00-19:00`},
		{[]string{"case", "show", "x"}, "expected a number"},
		{[]string{"report"}, "expected the number of a CASE"},
		{[]string{"watch", "a", "--until", "noon"}, "expected fault or clear"},
		{[]string{"card", "show", filepath.Join(dir, "none.yaml")}, "there is no such card"},
		{[]string{"ports", "--mapper", "https://127.0.0.1"}, "expected a host, rpc://HOST, or dcerpc://HOST"},
		{[]string{"ports", "--mapper", "nowhere.invalid"}, "the name does not resolve"},
		{[]string{"answer", "--idle", "1ms", "a"}, "expected a time from 1s"},
		{[]string{"answer", "a", "b"}, `there is "b" too`},
		{[]string{"settings", "nope://x"}, "expected one of https, http, ssh"},
		{[]string{"trace", "a", "--user"}, "needs an argument"},
		{[]string{"record", "x"}, `there is "x" too`},
		{[]string{"demo", "nowhere"}, "expected one of healthy, stopped"},
		{[]string{"frobnicate"}, "frobnicate"},
		{[]string{"version", "x"}, "x"},
	} {
		r := run(t, c.args...)
		if r.status != 2 || r.stdout != "" || strings.Count(r.stderr, "\n") != 1 ||
			!strings.Contains(r.stderr, c.want) {
			t.Errorf("%q: status %d, stdout %q, stderr %q; want one line with %q", c.args, r.status, r.stdout,
				r.stderr, c.want)
		}
	}
	if _, err := os.Stat(os.Getenv("XDG_STATE_HOME")); err == nil {
		t.Error("what was wrong usage made a casebook")
	}
}

func TestExplain(t *testing.T) {
	list := run(t, "explain")
	if list.status != 0 || !strings.Contains(list.stdout, "ports/loopback-only") {
		t.Errorf("the list: %+v", list)
	}
	for line := range strings.Lines(list.stdout) {
		id, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		if !strings.HasPrefix(line, "  ") {
			continue // a rung, or how to search
		}
		if r := run(t, "explain", id); r.status != 0 || !strings.HasPrefix(r.stdout, id+": ") {
			t.Errorf("%s: %+v", id, r)
		}
	}
	if r := run(t, "explain", "silence"); r.status != 0 || !strings.HasPrefix(r.stdout,
		"Causes of it, the most frequent first:\n") ||
		!strings.Contains(r.stdout, "rules/server-drop") {
		t.Errorf("by words: %+v", r)
	}
}

// TestInterrupted sees that Ctrl-C tells what is known so far.
func TestInterrupted(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close() // accepts nobody: the answer never comes
	cmd := exec.Command(program, "trace", "http://"+l.Addr().String()+"/")
	var out strings.Builder
	cmd.Stdout = &out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(700 * time.Millisecond)
	cmd.Process.Signal(syscall.SIGINT)
	cmd.Wait()
	if status := cmd.ProcessState.ExitCode(); status != 130 || !strings.HasPrefix(out.String(), "Not known: ") ||
		!strings.Contains(out.String(), "interrupted") {
		t.Errorf("status %d, said %q", status, out.String())
	}
}

// TestDeadline sees that a server that says nothing costs no more than the
// deadline.
func TestDeadline(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	r := run(t, "trace", "http://"+l.Addr().String()+"/", "--deadline", "1s")
	if r.status != 3 || r.took > 2*time.Second || !strings.Contains(r.stdout, "deadline") {
		t.Errorf("status %d after %s: %s", r.status, r.took, r.stdout)
	}
}

// TestOutputFile sees that -o writes a file that only its owner can read.
func TestOutputFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), "trail.json")
	r := run(t, "trace", "tcp://127.0.0.1:1", "--json", "-o", path)
	text, err := os.ReadFile(path)
	if err != nil || r.stdout != "" {
		t.Fatalf("%v, stdout %q", err, r.stdout)
	}
	validate(t, "trail", text)
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("mode %v, %v", info.Mode(), err)
	}
}
