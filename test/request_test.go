package test

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestRequests writes what each owner is asked for: with the cause, the evidence, risk, undo
// and the command that confirms it, and nothing to those who have nothing to do.
func TestRequests(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	hosts := write(t, filepath.Join(dir, "hosts"), "127.0.0.9 ebb.varzea.example\n")
	url := fmt.Sprintf("tcp://ebb.varzea.example:%d", freePort(t))
	if r := run(t, "trace", "--case", "new", "--hosts", hosts, url); r.status != 1 {
		t.Fatalf("%+v", r)
	}
	r := run(t, "report", "1", "--for", "service")
	for _, want := range []string{
		"Request to the owner of: the service\n", "Case 1, " + url, "Why: nothing on", "(ports/none-listening, ",
		" UTC on ", "listening sockets", "Risk: ", "Undo: ", "uakari confirm 1",
	} {
		if r.status != 0 || !strings.Contains(r.stdout, want) {
			t.Errorf("%q is missing: %+v", want, r)
		}
	}
	if r := run(t, "report", "1", "--for", "zone"); r.status != 2 ||
		!strings.Contains(r.stderr, "expected a part of one of") {
		t.Errorf("somebody who has nothing to do: %+v", r)
	}
	out := filepath.Join(dir, "requests")
	if r := run(t, "report", "1", "--for", "all", "-o", out); r.status != 0 {
		t.Errorf("%+v", r)
	}
	list, err := os.ReadDir(out)
	if err != nil || len(list) != 1 || readFile(t, filepath.Join(out, list[0].Name())) != r.stdout {
		t.Errorf("%v, %v", list, err)
	}
	// What works asks nobody for anything.
	web := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nebb\n")
	})
	run(t, "trace", "--case", "new", "http://"+web.addr+"/")
	if r := run(t, "report", "2", "--for", "all"); r.status != 2 || !strings.Contains(r.stderr, "nobody is asked") {
		t.Errorf("%+v", r)
	}
}

// TestSuspected asks a trace whether it is one thing.
func TestSuspected(t *testing.T) {
	shut := fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))
	for what, want := range map[string]struct{ is, line string }{
		"ports":                {"it is", "It is ports: nothing on"},
		"ports/none-listening": {"it is", "It is ports/none-listening: nothing"},
		"names":                {"it is not", "Not names: an address"},
		"answer":               {"cannot be excluded", "Cannot be excluded: answer: "},
	} {
		judged := traced(t, nil, "--suspect", what, shut)
		if judged.Suspected == nil || judged.Suspected.Is != want.is {
			t.Errorf("%s: %+v", what, judged.Suspected)
		}
		if r := run(t, "trace", "--suspect", what, shut); !strings.Contains(r.stdout, "\n"+want.line) {
			t.Errorf("%s: %s", what, r.stdout)
		}
	}
	if r := run(t, "trace", "--suspect", "tides", shut); r.status != 2 ||
		!strings.Contains(r.stderr, "expected a cause") {
		t.Errorf("%+v", r)
	}
}
