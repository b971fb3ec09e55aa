package test

import (
	"fmt"
	"net"
	"net/http"
	"os/exec"
	"strings"
	"testing"
)

// TestPastedRecord copies a record as text, with what a console and a mail put around it, and
// traces with it from standard input.
func TestPastedRecord(t *testing.T) {
	t.Parallel()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	server := &http.Server{Handler: http.HandlerFunc(func(http.ResponseWriter, *http.Request) {})}
	go server.Serve(l)
	t.Cleanup(func() { server.Close() })
	endpoint := fmt.Sprintf("http://127.0.0.1:%d/", l.Addr().(*net.TCPAddr).Port)
	sizes := map[bool]int{}
	for _, small := range []bool{false, true} {
		args := []string{"record", "--paste", "--for", endpoint}
		if small {
			args = append(args, "--small")
		}
		r := runIn(t, nil, args...)
		if r.status != 0 || !strings.Contains(r.stdout, "-----BEGIN UAKARI RECORD ") {
			t.Fatalf("status %d: %s%s", r.status, r.stdout, r.stderr)
		}
		sizes[small] = len(r.stdout)
		for name, text := range map[string]string{
			"as it is": r.stdout,
			"quoted":   "Here it is:\r\n> " + strings.ReplaceAll(r.stdout, "\n", "\r\n> ") + "\r\nBye",
		} {
			judged := traceWith(t, text, endpoint)
			if !strings.Contains(judged, `"means": "record"`) || !strings.Contains(judged, `"reached": "yes"`) {
				t.Errorf("small %v, %s: %.300s", small, name, judged)
			}
		}
		lines := strings.SplitAfter(r.stdout, "\n")
		lost := strings.Join(append(append([]string{}, lines[:2]...), lines[3:]...), "")
		if got := traceWith(t, lost, endpoint); !strings.Contains(got, "line 0002 is missing") {
			t.Errorf("a line that was lost is not named: %.300s", got)
		}
	}
	if sizes[true] >= sizes[false] {
		t.Errorf("small: %d bytes, whole: %d", sizes[true], sizes[false])
	}
	t.Logf("whole: %d bytes of text, small: %d", sizes[false], sizes[true])
}

// traceWith traces with a record on standard input, and gives all that is said.
func traceWith(t *testing.T, record, endpoint string) string {
	t.Helper()
	cmd := exec.Command(program, "trace", "--json", "--record", "server=-", endpoint)
	cmd.Stdin, cmd.Dir = strings.NewReader(record), t.TempDir()
	out, _ := cmd.CombinedOutput() // the status is of the answer
	return string(out)
}

// TestPrintedCommand is the line to type on the other side's console, and that it is a
// command that does what it should.
func TestPrintedCommand(t *testing.T) {
	t.Parallel()
	r := run(t, "record", "--print-command", "--for", "https://10.20.0.14/it's", "--client", "10.20.7.31",
		"--user", "gauge")
	const want = `uakari record --paste --small --for 'https://10.20.0.14/it'\''s' --client 10.20.7.31 --user gauge`
	if r.status != 0 || strings.TrimSpace(r.stdout) != want {
		t.Errorf("%+v", r)
	}
	for _, args := range [][]string{{"--for", ""}, {"--for", "no such://"}} {
		bad := run(t, append([]string{"record", "--print-command"}, args...)...)
		if bad.status != 2 || strings.Count(bad.stderr, "\n") != 1 {
			t.Errorf("%q: %+v", args, bad)
		}
	}
}
