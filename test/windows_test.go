package test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// windows is the program as it is built for Windows, in a prefix of Wine.
type windows struct {
	t      *testing.T
	prefix string
	env    []string
}

// newWindows boots a prefix and builds the program into it. Wine lacks what Go
// asks of Windows at three places: a library, for which one is written that
// leads elsewhere, and two calls, whose failure is passed over in copies of the
// two files of the standard library.
func newWindows(t *testing.T) *windows {
	t.Helper()
	wine := needs(t, "wine64", "/usr/lib/wine/wine64")[0]
	dir := t.TempDir()
	w := &windows{t: t, prefix: filepath.Join(dir, "p")}
	for _, each := range os.Environ() {
		if !strings.HasPrefix(each, "SSL_CERT_") && !strings.HasPrefix(each, "HOME=") {
			w.env = append(w.env, each)
		}
	}
	w.env = append(w.env, "WINEPREFIX="+w.prefix, "HOME="+dir, "WINEDEBUG=-all", "LANG=C.UTF-8", "WINEDLLOVERRIDES=winemenubuilder.exe,explorer.exe,mscoree,mshtml=d")
	t.Cleanup(func() {
		cmd := exec.Command(filepath.Join(filepath.Dir(wine), "wineserver64"), "-k")
		if _, err := exec.LookPath("wineserver"); err == nil {
			cmd = exec.Command("wineserver", "-k")
		}
		cmd.Env = w.env
		cmd.Run()
	})
	w.wine("wineboot", "--init")
	os.Remove(filepath.Join(w.prefix, "dosdevices", "z:")) // else it reads the machine's own /etc
	system := filepath.Join(w.prefix, "drive_c", "windows", "system32")
	must(t, "", "go", "run", "./wine/random", filepath.Join(system, "bcryptprimitives.dll"))
	overlay := map[string]string{}
	for file, change := range map[string][2]string{
		"net/fd_windows.go":                      {"\t\tif err != nil {\n\t\t\treturn wrapSyscallError(\"wsaioctl\", err)\n\t\t}\n", ""},
		"internal/syscall/windows/at_windows.go": {"if TestDeleteatFallback {", "if TestDeleteatFallback || true {"},
	} {
		root, err := exec.Command("go", "env", "GOROOT").Output()
		if err != nil {
			t.Fatal(err)
		}
		path := filepath.Join(strings.TrimSpace(string(root)), "src", file)
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		at := strings.LastIndex(string(text), change[0])
		if at < 0 {
			t.Fatalf("%s has changed: %q is not in it", path, change[0])
		}
		changed := string(text[:at]) + change[1] + string(text[at+len(change[0]):])
		changed = strings.Replace(changed, "err = syscall.WSAIoctl(fd.pfd.Sysfd, windows.SIO_UDP_NETRESET", "syscall.WSAIoctl(fd.pfd.Sysfd, windows.SIO_UDP_NETRESET", 1)
		overlay[path] = write(t, filepath.Join(dir, filepath.Base(file)), changed)
	}
	text, err := json.Marshal(map[string]any{"Replace": overlay})
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("go", "build", "-overlay", write(t, filepath.Join(dir, "overlay.json"), string(text)), "-o", filepath.Join(w.prefix, "drive_c", "uakari.exe"), "../cmd/uakari")
	cmd.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return w
}

// wine runs a program in the prefix.
func (w *windows) wine(words ...string) (string, int) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 90*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/usr/lib/wine/wine64", words...)
	cmd.Env, cmd.Dir = w.env, "/"
	out, err := cmd.Output()
	if err != nil && cmd.ProcessState == nil {
		w.t.Fatalf("%v: %v", words, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// trace is what the program there says of an endpoint.
func (w *windows) trace(args ...string) trail.Trail {
	w.t.Helper()
	out, _ := w.wine(append([]string{`C:\uakari.exe`, "trace", "--json", "--wait", "2s"}, args...)...)
	return readTrail(w.t, out)
}

// TestWindowsClient traces from Windows: its own name servers, its hosts file,
// its store of roots and its numbers of errors.
func TestWindowsClient(t *testing.T) {
	t.Parallel()
	w := newWindows(t)
	m := newMaker(t)
	leaf, key := m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, IPAddresses: []net.IP{{127, 0, 0, 1}}}, m.cert, m.key)
	pair, err := tls.X509KeyPair([]byte(pemOf(leaf)), []byte(keyPEM(t, key)))
	if err != nil {
		t.Fatal(err)
	}
	answer := func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
	}
	web := listen(t, "127.0.0.1:0", nil, answer)
	secured := listen(t, "127.0.0.1:0", func(int32) *tls.Config { return &tls.Config{Certificates: []tls.Certificate{pair}} }, answer)
	resets := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		if tcp, ok := c.(heardConn).Conn.(*net.TCPConn); ok {
			tcp.SetLinger(0)
		}
	})
	_, port, err := net.SplitHostPort(web.addr)
	if err != nil {
		t.Fatal(err)
	}
	hosts := filepath.Join(w.prefix, "drive_c", "windows", "system32", "drivers", "etc", "hosts")
	if err := os.MkdirAll(filepath.Dir(hosts), 0o755); err != nil {
		t.Fatal(err)
	}
	write(t, hosts, "127.0.0.1 tidebook.varzea.example\r\n")
	trust := write(t, filepath.Join(w.prefix, "drive_c", "trust.pem"), pemOf(m.cert))
	for _, c := range []struct {
		name    string
		args    []string
		outcome trail.Outcome
		holds   string
	}{
		{"a page", []string{"http://" + web.addr}, trail.OutcomeClear, "200"},
		{"by the hosts file", []string{"http://tidebook.varzea.example:" + port}, trail.OutcomeClear, "200"},
		{"roots of the system", []string{"https://" + secured.addr}, trail.OutcomeFault, "certs/missing-intermediate proven"},
		{"a root that is named", []string{"--trust", `C:\` + filepath.Base(trust), "https://" + secured.addr}, trail.OutcomeClear, "200"},
		{"nobody listens", []string{"http://127.0.0.1:" + fmt.Sprint(freePort(t))}, trail.OutcomeUnsure, "refused by a reset"},
		{"reset in place of an answer", []string{"http://" + resets.addr}, trail.OutcomeUnsure, "without a byte"},
		{"no such name", []string{"http://nobody.varzea.example"}, "", "names"},
	} {
		judged := w.trace(c.args...)
		text := dump(judged)
		if c.outcome != "" && judged.Outcome != c.outcome || !strings.Contains(text, c.holds) || strings.Contains(text, "127.0.0.1:53") {
			t.Errorf("%s: outcome %s\n%s", c.name, judged.Outcome, text)
		}
	}
}
