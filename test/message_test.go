package test

import (
	"encoding/json"
	"fmt"
	"net"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestTraceError keeps the message of a client with a trace, and says how it goes with the try.
func TestTraceError(t *testing.T) {
	web := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nebb\n")
	})
	shut := fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))
	for _, c := range []struct{ text, url, fits, line string }{
		{"connect: connection refused", shut, "same", "This try met the same: ports/none-listening"},
		{"x509: certificate has expired or is not yet valid", shut, "other", "does not give such a message"},
		{"Connection timed out", "http://" + web.addr + "/", "works", "This try works"},
		{"the tide is out", shut, "unknown", "not known here"},
	} {
		judged := traced(t, nil, "--error", c.text, c.url)
		if judged.Says == nil || judged.Says.Fits != c.fits {
			t.Errorf("%q: %+v", c.text, judged.Says)
		}
		if r := run(t, "trace", "--error", c.text, c.url); !strings.Contains(oneLine(r.stdout), c.line) {
			t.Errorf("%q: %s", c.text, r.stdout)
		}
	}
}

// TestMessagesOfClients lets real client programs fail, each for its own reason, and has what
// they print explained: the true cause is among the first, and the endpoint is found.
func TestMessagesOfClients(t *testing.T) {
	dir := t.TempDir()
	cert, _ := certificate(t, dir)
	shut := freePort(t)
	plain := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 502 Bad Gateway\r\nContent-Length: 4\r\n\r\nebb\n")
	})
	for _, c := range []struct {
		name, pack string
		words      []string
		cause      string
		endpoint   string
	}{
		{"curl refused", "curl", []string{"curl", "-sS", fmt.Sprintf("http://127.0.0.1:%d/", shut)},
			"ports/none-listening", ""},
		{"curl TLS to plain", "curl", []string{"curl", "-sS", "https://" + plain.addr + "/"},
			"settings/wrong-security", ""},
		{"curl no name", "curl", []string{"curl", "-sS", "http://ebb.invalid/"}, "names/no-such-name", ""},
		{"ssh refused", "openssh-client", []string{"ssh", "-o", "BatchMode=yes", "-p", fmt.Sprint(shut), "127.0.0.1"},
			"ports/none-listening", fmt.Sprintf("ssh://127.0.0.1:%d", shut)},
		{"psql refused", "postgresql-client", []string{"psql", "-h", "127.0.0.1", "-p", fmt.Sprint(shut), "-c", ""},
			"ports/none-listening", fmt.Sprintf("postgres://127.0.0.1:%d", shut)},
		{"ldapsearch refused", "ldap-utils", []string{"ldapsearch", "-x", "-H",
			fmt.Sprintf("ldap://127.0.0.1:%d", shut)}, "ports/none-listening", ""},
		{"openssl verify", "openssl", []string{"openssl", "verify", cert}, "certs/self-signed", ""},
		{"getent", "libc-bin", []string{"sh", "-c", "getent hosts ebb.invalid || echo getent: Name or service not known >&2"},
			"names/no-such-name", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			if _, err := exec.LookPath(c.words[0]); err != nil {
				missing(t, "needs "+c.words[0]+": apt-get install "+c.pack)
			}
			out, err := exec.Command(c.words[0], c.words[1:]...).CombinedOutput()
			if err == nil && len(out) == 0 {
				t.Fatal("it did not fail")
			}
			cmd := exec.Command(program, "explain", "-", "--json")
			cmd.Stdin = strings.NewReader(string(out))
			text, err := cmd.Output()
			if err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			validate(t, "causes", text)
			var got trail.Explained
			if err := json.Unmarshal(text, &got); err != nil {
				t.Fatal(err)
			}
			const first = 4
			if len(got.Messages) == 0 || c.endpoint != "" && got.Endpoint != c.endpoint ||
				!slices.Contains(got.Messages[0].Causes[:min(first, len(got.Messages[0].Causes))], c.cause) {
				t.Errorf("%s: endpoint %q, %+v", out, got.Endpoint, got.Messages)
			}
		})
	}
}
