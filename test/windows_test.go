package test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// windows is the program as it is built for Windows, in a prefix of Wine.
type windows struct {
	t       *testing.T
	prefix  string
	env     []string
	before  []string // words before every command: where it runs
	overlay string

	complaint string // what the last program wrote to its standard error
}

// newWindows boots a prefix and builds the program into it. Wine lacks what Go
// asks of Windows at three places: a library, for which one is written that
// leads elsewhere, and two calls, whose failure is passed over in copies of the
// two files of the standard library.
func newWindows(t *testing.T, before ...string) *windows {
	t.Helper()
	wine := needs(t, "wine64", "/usr/lib/wine/wine64")[0]
	dir := t.TempDir()
	w := &windows{t: t, prefix: filepath.Join(dir, "p"), before: before}
	for _, each := range os.Environ() {
		if !strings.HasPrefix(each, "SSL_CERT_") && !strings.HasPrefix(each, "HOME=") {
			w.env = append(w.env, each)
		}
	}
	w.env = append(
		w.env,
		"WINEPREFIX="+w.prefix,
		"HOME="+dir,
		"WINEDEBUG=-all",
		"LANG=C.UTF-8",
		"WINEDLLOVERRIDES=winemenubuilder.exe,explorer.exe,mscoree,mshtml=d",
	)
	server := func(flag string) {
		words := append(slices.Clone(before), filepath.Join(filepath.Dir(wine), "wineserver64"), flag)
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Env = w.env
		cmd.Run() // it says so where nothing runs any more
	}
	t.Cleanup(func() { server("-k") })
	w.wine("wineboot", "--init")
	server("-k")
	server("-w")
	w.stay()
	os.Remove(filepath.Join(w.prefix, "dosdevices", "z:")) // else it reads the machine's own /etc
	system := filepath.Join(w.prefix, "drive_c", "windows", "system32")
	must(t, "", "go", "run", "./wine/random", filepath.Join(system, "bcryptprimitives.dll"))
	overlay := map[string]string{}
	for file, change := range map[string][2]string{
		"net/fd_windows.go": {"\t\tif err != nil {\n\t\t\treturn " +
			"wrapSyscallError(\"wsaioctl\", err)\n\t\t}\n", ""},
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
		changed = strings.Replace(
			changed,
			"err = syscall.WSAIoctl(fd.pfd.Sysfd, windows.SIO_UDP_NETRESET",
			"syscall.WSAIoctl(fd.pfd.Sysfd, windows.SIO_UDP_NETRESET",
			1,
		)
		overlay[path] = write(t, filepath.Join(dir, filepath.Base(file)), changed)
	}
	text, err := json.Marshal(map[string]any{"Replace": overlay})
	if err != nil {
		t.Fatal(err)
	}
	w.overlay = write(t, filepath.Join(dir, "overlay.json"), string(text))
	w.build("uakari.exe", "../cmd/uakari")
	return w
}

// stay keeps the prefix up until the test ends: its services end with the last program,
// and what starts while they do finds them twice, or not at all.
func (w *windows) stay() {
	w.t.Helper()
	words := append(slices.Clone(w.before), "/usr/lib/wine/wine64", "cmd")
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Env, cmd.Dir = w.env, "/"
	input, err := cmd.StdinPipe()
	if err != nil {
		w.t.Fatal(err)
	}
	told, err := cmd.StdoutPipe()
	if err != nil {
		w.t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		w.t.Fatal(err)
	}
	w.t.Cleanup(func() { input.Close(); cmd.Process.Kill(); cmd.Wait() })
	if n, err := told.Read(make([]byte, 64)); n == 0 { // its greeting: it is up
		w.t.Fatalf("the prefix does not come up: %v", err)
	}
	go io.Copy(io.Discard, told)
}

// build builds a program into the prefix.
func (w *windows) build(name, source string) {
	w.t.Helper()
	cmd := exec.Command("go", "build", "-overlay", w.overlay, "-o", filepath.Join(w.prefix, "drive_c", name), source)
	cmd.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		w.t.Fatalf("%v: %s", err, out)
	}
}

// wine runs a program in the prefix.
func (w *windows) wine(words ...string) (string, int) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	words = append(append(slices.Clone(w.before), "/usr/lib/wine/wine64"), words...)
	cmd := exec.CommandContext(ctx, words[0], words[1:]...)
	cmd.Env, cmd.Dir = w.env, "/"
	// Files and no pipes: what it started keeps its output open and would be waited for.
	var told [2]*os.File
	for i := range told {
		file, err := os.Create(filepath.Join(w.t.TempDir(), "told"))
		if err != nil {
			w.t.Fatal(err)
		}
		defer file.Close()
		told[i] = file
	}
	cmd.Stdout, cmd.Stderr = told[0], told[1]
	if err := cmd.Run(); err != nil && cmd.ProcessState == nil {
		w.t.Fatalf("%v: %v", words, err)
	}
	var texts [2]string
	for i, file := range told {
		text, err := os.ReadFile(file.Name())
		if err != nil {
			w.t.Fatal(err)
		}
		texts[i] = string(text)
	}
	w.complaint = texts[1]
	return texts[0], cmd.ProcessState.ExitCode()
}

// trace is what the program there says of an endpoint.
func (w *windows) trace(args ...string) trail.Trail {
	w.t.Helper()
	words := append([]string{`C:\uakari.exe`, "trace", "--json", "--wait", "2s"}, args...)
	out, code := w.wine(words...)
	if out == "" && !strings.Contains(w.complaint, "goroutine ") { // not ours: the program did not begin
		out, code = w.wine(words...)
	}
	if out == "" {
		w.t.Fatalf("trace %q: nothing told, exit %d: %s", args, code, w.complaint)
	}
	return readTrail(w.t, out)
}

// TestWindowsClient traces from Windows: its own name servers, its hosts file,
// its store of roots and its numbers of errors.
func TestWindowsClient(t *testing.T) {
	t.Parallel()
	w := newWindows(t)
	m := newMaker(t)
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, IPAddresses: []net.IP{{127, 0, 0, 1}}},
		m.cert,
		m.key,
	)
	pair, err := tls.X509KeyPair([]byte(pemOf(leaf)), []byte(keyPEM(t, key)))
	if err != nil {
		t.Fatal(err)
	}
	answer := func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
	}
	web := listen(t, "127.0.0.1:0", nil, answer)
	secured := listen(
		t,
		"127.0.0.1:0",
		func(int32) *tls.Config { return &tls.Config{Certificates: []tls.Certificate{pair}} },
		answer,
	)
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
		{"roots of the system", []string{"https://" + secured.addr}, trail.OutcomeFault,
			"certs/missing-intermediate proven"},
		{"a root that is named", []string{"--trust", `C:\` + filepath.Base(trust), "https://" + secured.addr},
			trail.OutcomeClear, "200"},
		{"nobody listens", []string{"http://127.0.0.1:" + fmt.Sprint(freePort(t))}, trail.OutcomeFault,
			"ports/none-listening proven"},
		{"reset in place of an answer", []string{"http://" + resets.addr}, trail.OutcomeUnsure, "without a byte"},
		{"no such name", []string{"http://nobody.varzea.example"}, "", "names"},
	} {
		judged := w.trace(c.args...)
		text := dump(judged)
		if c.outcome != "" && judged.Outcome != c.outcome || !strings.Contains(text, c.holds) ||
			strings.Contains(text, "127.0.0.1:53") {
			t.Errorf("%s: outcome %s\n%s", c.name, judged.Outcome, text)
		}
	}
}

// keep runs the test's own program under a name, on an address, until the
// test or whoever calls what it returns ends it.
func (w *windows) keep(name, listen string) (end func()) {
	w.t.Helper()
	text, err := os.ReadFile(filepath.Join(w.prefix, "drive_c", "tidesvc.exe"))
	if err != nil {
		w.t.Fatal(err)
	}
	write(w.t, filepath.Join(w.prefix, "drive_c", name), string(text))
	words := append(slices.Clone(w.before), "/usr/lib/wine/wine64", `C:\`+name, "-alone", "-listen", listen)
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Env = w.env
	if err := cmd.Start(); err != nil {
		w.t.Fatal(err)
	}
	end = sync.OnceFunc(func() { cmd.Process.Kill(); cmd.Wait(); w.wine("taskkill", "/f", "/im", name) })
	w.t.Cleanup(end)
	return end
}

// until waits for the state of a service.
func (w *windows) until(service, state string) {
	w.t.Helper()
	var out string
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(200 * time.Millisecond) {
		if out, _ = w.wine("sc", "query", service); strings.Contains(out, state) {
			return
		}
	}
	w.t.Fatalf("%s is not %s: %s", service, state, out)
}

// registry lays values into the registry.
func (w *windows) registry(text string) {
	w.t.Helper()
	write(
		w.t,
		filepath.Join(w.prefix, "drive_c", "lay.reg"),
		"Windows Registry Editor Version 5.00\r\n\r\n"+strings.ReplaceAll(text, "\n", "\r\n"),
	)
	if out, code := w.wine("reg", "import", `C:\lay.reg`); code != 0 {
		w.t.Fatalf("%d: %s", code, out)
	}
}

const windowsFirewall = `[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\DomainProfile]
"EnableFirewall"=dword:00000001
[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\StandardProfile]
"EnableFirewall"=dword:00000001
[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\PublicProfile]
"EnableFirewall"=dword:00000001
[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\SharedAccess\Parameters\FirewallPolicy\FirewallRules]
"allow-page"=%s
"block-page"=%s
[HKEY_LOCAL_MACHINE\SOFTWARE\Microsoft\Windows NT\CurrentVersion\NetworkList\Profiles\{1}]
"Category"=dword:0000000%d
`

// TestWindowsServer traces, from a client that runs Linux, a server that runs
// Windows, by the record that was made there. What stops packets is a filter of
// its own, for Wine has none: what the registry says is what is judged.
func TestWindowsServer(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	w := newWindows(t, enter(l.server)...)
	w.build("tidesvc.exe", "./wine/service")
	service := func(words ...string) {
		t.Helper()
		if out, code := w.wine(append([]string{"sc"}, words...)...); code != 0 && words[0] != "stop" &&
			words[0] != "start" &&
			words[0] != "delete" {
			t.Fatalf("sc %v: %d: %s", words, code, out)
		}
	}
	until := func(state string) { t.Helper(); w.until("Tidebook", state) }
	const allow = `"v2.30|Action=Allow|Active=TRUE|Dir=In|Protocol=6|LPort=8080|Name=Tidebook page|"`
	const block = `"v2.30|Action=Block|Active=TRUE|Dir=In|Protocol=6|LPort=8080|RA4=10.20.7.0/255.255.255.0|` +
		`Name=Old yard|"`
	for _, c := range []struct {
		name     string
		listen   string
		more     string
		start    bool
		firewall [2]string
		kind     int
		drop     bool
		taken    bool
		args     []string
		want     []string
		holds    string
	}{
		{"healthy", "0.0.0.0:8080", "", true, [2]string{allow, "-"}, 2, false, false, nil, nil, "Tidebook"},
		{"stopped", "0.0.0.0:8080", "", true, [2]string{allow, "-"}, 2, false, false, nil,
			[]string{"service/stopped proven"}, "Start-Service Tidebook"},
		{"it starts late", "0.0.0.0:8080", "", false, [2]string{allow, "-"}, 2, false, false, nil,
			[]string{"service/stopped"}, "some minutes after the host"},
		{"loopback only", "127.0.0.1:8080", "", true, [2]string{allow, "-"}, 2, false, false, nil,
			[]string{"ports/loopback-only proven"}, "127.0.0.1:8080"},
		{"another port", "0.0.0.0:8081", "", true, [2]string{allow, "-"}, 2, false, false,
			[]string{"--unit", "Tidebook"}, []string{"ports/moved proven"}, "8081"},
		{"it ends at once", "0.0.0.0:8080", " -code 1069", true, [2]string{allow, "-"}, 2, false, false, nil,
			[]string{"service/failed proven"}, "could not log on"},
		{"its port is taken", "0.0.0.0:8080", "", true, [2]string{allow, "-"}, 2, false, true, nil,
			[]string{"service/port-taken proven"}, "other"},
		{"a rule blocks", "0.0.0.0:8080", "", true, [2]string{allow, block}, 2, true, false, nil,
			[]string{"rules/server-drop"}, "Set-NetFirewallRule -DisplayName 'Old yard'"},
		{"no rule allows", "0.0.0.0:8080", "", true, [2]string{"-", "-"}, 2, true, false, nil,
			[]string{"rules/server-drop proven"}, "New-NetFirewallRule"},
		{"a rule of another profile", "0.0.0.0:8080", "", true, [2]string{strings.Replace(allow, "LPort",
			"Profile=Domain|LPort", 1), "-"}, 0, true, false, nil, []string{"rules/server-drop proven"}, "inbound"},
		{"a rule for another program", "0.0.0.0:8080", "", true, [2]string{strings.Replace(allow, "|Name",
			`|App=C:\\other.exe|Name`, 1), "-"}, 2, true, false, nil, []string{"rules/server-drop proven"}, "inbound"},
		{"a rule for this program", "0.0.0.0:8080", "", true, [2]string{strings.Replace(allow, "|Name",
			`|App=C:\\tidesvc.exe|Name`, 1), "-"}, 2, false, false, nil, nil, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			w.t = t
			w.registry(fmt.Sprintf(windowsFirewall, c.firewall[0], c.firewall[1], c.kind))
			if c.taken {
				defer w.keep("other.exe", "0.0.0.0:8080")()
				time.Sleep(2 * time.Second)
			}
			service("create", "Tidebook", "start=", "auto", "binPath=", `C:\tidesvc.exe -listen `+c.listen+c.more)
			defer service("delete", "Tidebook")
			if c.name == "it starts late" {
				w.registry("[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Services\\Tidebook]\n" +
					"\"DelayedAutostart\"=dword:00000001\n")
			}
			if c.start {
				service("start", "Tidebook")
				defer func() {
					service("stop", "Tidebook")
					until("STOPPED")
					w.wine("taskkill", "/f", "/im", "tidesvc.exe")
					time.Sleep(300 * time.Millisecond)
				}()
				if c.taken || c.more != "" {
					time.Sleep(2 * time.Second) // it was stopped before, too
					until("STOPPED")
				} else {
					until("RUNNING")
				}
			}
			if c.name == "stopped" {
				service("stop", "Tidebook")
				until("STOPPED")
			}
			if c.drop {
				l.filter(l.server,
					"table inet f {\n chain in {\n type filter hook input priority 0\n tcp dport 8080 drop\n }\n}")
				defer l.filter(l.server, "flush ruleset")
			}
			text, code := w.wine(
				append(
					[]string{`C:\uakari.exe`, "record", "--for", "http://10.20.0.14:8080", "--client", "10.20.7.31",
						"-o", "-"},
					c.args...)...)
			if code != 0 {
				t.Fatalf("record: %d: %s", code, text)
			}
			record := write(t, filepath.Join(t.TempDir(), "tidebook.json"), text)
			judged := traced(
				t,
				enter(l.client),
				append([]string{"--wait", "1s", "--record", "server=" + record, "http://10.20.0.14:8080"},
					c.args...)...)
			if c.want != nil && !strings.Contains(c.want[0], " ") { // how sure, hangs on what else was seen
				if list := judged.Blocking(); len(list) != 1 || list[0].ID != c.want[0] ||
					list[0].Certainty == trail.Possible {
					t.Errorf("want %s\n%s", c.want[0], dump(judged))
				}
			} else {
				expectButAge(t, judged, c.want...)
			}
			all, err := json.Marshal(judged)
			if err != nil {
				t.Fatal(err)
			}
			if !strings.Contains(string(all), c.holds) {
				t.Errorf("it does not say %q\n%s", c.holds, dump(judged))
			}
			if strings.Contains(string(all), "systemctl") || strings.Contains(string(all), "journalctl") {
				t.Errorf("commands of another system:\n%s", all)
			}
		})
	}
}

// TestWindowsSettings is a server that runs Windows, seen by its record: what the settings
// of its program say of addresses, certificates and backends. The program here is called
// as one that is known, and does as it would.
func TestWindowsSettings(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	w := newWindows(t, enter(l.server)...)
	w.build("nginx.exe", "./wine/service")
	m := newMaker(t)
	leaf, key := m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"},
		IPAddresses: []net.IP{{10, 20, 0, 14}}},
		m.cert, m.key)
	_, strange := m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "other"}}, m.cert, m.key)
	drive := filepath.Join(w.prefix, "drive_c")
	write(t, filepath.Join(drive, "a.crt"), pemOf(leaf))
	write(t, filepath.Join(drive, "a.key"), keyPEM(t, key))
	write(t, filepath.Join(drive, "b.key"), keyPEM(t, strange))
	const site = "http { server { listen 8080 ssl; ssl_certificate C:/a.crt; ssl_certificate_key C:/%s; " +
		"location / { %s proxy_pass http://10.20.0.15:9090; } } }\n"
	for _, c := range []struct {
		name, scheme, command, settings, status string
		runs                                    bool
		want                                    []string
		holds                                   string
	}{
		{"its list turns the client away", "http", `C:\nginx.exe -c C:\site.conf`,
			fmt.Sprintf(site, "a.key", "deny 10.20.7.31;"),
			"403", true, []string{"rules/not-on-list"}, "deny 10.20.7.31"},
		{"beside the program", "http", `C:\nginx.exe`, fmt.Sprintf(site, "a.key", "deny 10.20.7.31;"),
			"403", true, []string{"rules/not-on-list"}, `C:\\conf\\nginx.conf`},
		{"its key is another's", "https", `C:\nginx.exe -c C:\site.conf`, fmt.Sprintf(site, "b.key", ""),
			"200", false, []string{"service/stopped proven", "certs/key-mismatch proven"}, "b.key does not belong"},
		{"its backend", "http", `C:\nginx.exe -c C:\site.conf`, fmt.Sprintf(site, "a.key", ""),
			"200", true, nil, `"10.20.0.15"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			w.t = t
			for _, path := range []string{"site.conf", "conf/nginx.conf"} {
				os.MkdirAll(filepath.Dir(filepath.Join(drive, path)), 0o755)
				write(t, filepath.Join(drive, path), strings.ReplaceAll(c.settings, "\n", "\r\n"))
			}
			w.wine("sc", "create", "Tidebook", "start=", "auto", "binPath=",
				c.command+" -listen 0.0.0.0:8080 -status "+c.status)
			defer w.wine("sc", "delete", "Tidebook")
			if c.runs {
				w.wine("sc", "start", "Tidebook")
				w.until("Tidebook", "RUNNING")
				defer func() {
					w.wine("sc", "stop", "Tidebook")
					w.until("Tidebook", "STOPPED")
				}()
			}
			endpoint := c.scheme + "://10.20.0.14:8080"
			text, code := w.wine(`C:\uakari.exe`, "record", "--for", endpoint, "--client", "10.20.7.31", "--unit",
				"Tidebook", "-o", "-")
			if code != 0 {
				t.Fatalf("record: %d: %s", code, w.complaint)
			}
			record := write(t, filepath.Join(t.TempDir(), "tidebook.json"), text)
			judged := traced(t, enter(l.client), "--wait", "1s", "--unit", "Tidebook", "--record", "server="+record,
				endpoint)
			if len(c.want) == 1 { // how sure, hangs on whether the server has met the client's address
				if list := judged.Blocking(); len(list) != 1 || list[0].ID != c.want[0] ||
					list[0].Certainty == trail.Possible {
					t.Errorf("want %s\n%s", c.want[0], dump(judged))
				}
			} else {
				expectButAge(t, judged, c.want...)
			}
			if all, err := json.Marshal(judged); err != nil || !strings.Contains(string(all)+text, c.holds) {
				t.Errorf("it does not say %q, %v\n%s", c.holds, err, dump(judged))
			}
		})
	}
}

// TestWindowsSettled is what a Windows client is set to beside its environment: the
// proxy of its user with its exceptions, a script that decides, that of its services,
// the credentials that are kept for a host, and its routes.
func TestWindowsSettled(t *testing.T) {
	t.Parallel()
	w := newWindows(t)
	web := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
	})
	const user = `[HKEY_CURRENT_USER\Software\Microsoft\Windows\CurrentVersion\Internet Settings]` + "\n"
	const machine = `[HKEY_LOCAL_MACHINE\Software\Microsoft\Windows\CurrentVersion\Internet Settings\Connections]` +
		"\n"
	blob := func(proxy, except string) string {
		b := []byte{0x28, 0, 0, 0, 0, 0, 0, 0, 3, 0, 0, 0}
		for _, text := range []string{proxy, except} {
			b = append(b, byte(len(text)), 0, 0, 0)
			b = append(b, text...)
		}
		var hexes []string
		for _, each := range b {
			hexes = append(hexes, fmt.Sprintf("%02x", each))
		}
		return `"WinHttpSettings"=hex:` + strings.Join(hexes, ",") + "\n"
	}
	for _, c := range []struct{ name, registry, holds, lacks string }{
		{"none", user + "\"ProxyEnable\"=dword:00000000\n", "no proxy for http", ""},
		{"of the user", user +
			"\"ProxyEnable\"=dword:00000001\n\"ProxyServer\"=\"http=heron:3128;https=heron:3129\"\n",
			"Internet Settings of this user http://heron:3128", ""},
		{"for another scheme", user + "\"ProxyServer\"=\"https=heron:3129\"\n", "no proxy for http", "heron"},
		{"a script", user + "\"ProxyEnable\"=dword:00000000\n\"AutoConfigURL\"=\"http://heron/proxy.pac\"\n",
			"the script http://heron/proxy.pac decides", ""},
		{"of the services", user + "\"AutoConfigURL\"=-\n" + machine + blob("heron:3130", "<local>"),
			"WinHTTP of this machine http://heron:3130", ""},
	} {
		w.registry(c.registry)
		text := strings.ReplaceAll(dump(w.trace("http://"+web.addr)), ": ", " ")
		if !strings.Contains(text, c.holds) || c.lacks != "" && strings.Contains(text, c.lacks) {
			t.Errorf("%s: no %q in\n%s", c.name, c.holds, text)
		}
	}
	silent := w.trace("--wait", "1s", "--deadline", "8s", "http://127.0.0.1:"+fmt.Sprint(freePort(t)))
	if !strings.Contains(dump(silent), "ports/none-listening") {
		t.Error(dump(silent))
	}
}

// TestWindowsBeside is a client that runs Windows beside a server that runs Linux: with
// the record that was made there, with an echo of its own, with a setting in its
// registry, and with what its own library of TLS may speak.
func TestWindowsBeside(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	w := newWindows(t, enter(l.client)...)
	l.web(l.server, "10.20.0.14:8080")
	const endpoint = "http://10.20.0.14:8080/"
	l.filter(l.server, "table inet f { chain c { type filter hook input priority 0; tcp dport 8080 drop; }\n}")
	record := filepath.Join(w.prefix, "drive_c", "tidebook.json")
	r := runIn(t, enter(l.server), "record", "--for", endpoint, "--client", "10.20.7.31", "-o", record)
	if r.status != 0 {
		t.Fatalf("%+v", r)
	}
	judged := w.trace("--record", `server=C:\tidebook.json`, endpoint)
	expectButAge(t, judged, "rules/server-drop proven")
	text := dump(w.trace(endpoint))
	for _, part := range []string{"echo to 10.20.0.14: answered", "route to 10.20.0.14: through 10.20.7.1"} {
		if !strings.Contains(text, part) {
			t.Errorf("no %q in\n%s", part, text)
		}
	}
	l.filter(l.server, "flush ruleset")
	w.registry("[HKEY_LOCAL_MACHINE\\SOFTWARE\\Tidebook]\n\"Port\"=dword:00001f91\n")
	write(t, filepath.Join(w.prefix, "drive_c", "tidebook.yaml"),
		"format: uakari.card/1\nname: tidebook\nendpoint: http://10.20.0.14:8080/\n"+
			"settings:\n  - {name: port, is: port, client: {registry: 'HKLM\\SOFTWARE\\Tidebook', key: Port}}\n")
	text = dump(w.trace("--card", `C:\tidebook.yaml`))
	if !strings.Contains(text, `Port in HKLM\SOFTWARE\Tidebook`) || !strings.Contains(text, "8081") {
		t.Errorf("the setting of the registry is not told\n%s", text)
	}
}

// TestWindowsNames is the names and the time of a host that runs Windows, as its record has
// them.
func TestWindowsNames(t *testing.T) {
	t.Parallel()
	w := newWindows(t)
	const services = `[HKEY_LOCAL_MACHINE\SYSTEM\CurrentControlSet\Services\`
	w.registry(services + "Tcpip\\Parameters]\n\"NV Domain\"=\"varzea.example\"\n" + services +
		"LanmanServer\\Parameters]\n\"OptionalNames\"=\"yard\"\n" +
		services + "W32Time\\Parameters]\n\"Type\"=\"NTP\"\n\"NtpServer\"=\"clock.varzea.example,0x9\"\n" +
		"[HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Control\\Terminal " +
		"Server]\n\"fDenyTSConnections\"=dword:00000001\n")
	text, code := w.wine(`C:\uakari.exe`, "record", "--for", "http://127.0.0.1:1", "-o", "-")
	var record struct {
		Facts []struct {
			Identity *struct {
				Also     []string
				TimeFrom string `json:"time_from"`
				Policies []fact.Policy
			}
		}
	}
	if err := json.Unmarshal([]byte(text), &record); err != nil || code != 0 {
		t.Fatalf("%d, %v: %s", code, err, text)
	}
	for _, f := range record.Facts {
		if id := f.Identity; id != nil {
			if len(id.Also) != 2 || !strings.HasSuffix(id.Also[0], ".varzea.example") || id.Also[1] != "yard" ||
				id.TimeFrom != "nobody: its time service does not run" ||
				!slices.ContainsFunc(id.Policies,
					func(p fact.Policy) bool { return p.Says == "it takes no remote desktops" }) {
				t.Errorf("%+v", id)
			}
			return
		}
	}
	t.Error("no identity")
}

// TestWindowsPure runs the tests of what asks no system as programs of Windows.
func TestWindowsPure(t *testing.T) {
	t.Parallel()
	w := newWindows(t)
	// Tests read files beside them: here the drive is wanted that newWindows takes away.
	if err := os.Symlink("/", filepath.Join(w.prefix, "dosdevices", "z:")); err != nil {
		t.Fatal(err)
	}
	words := []string{"test", "-count=1", "-overlay", w.overlay, "-exec", "/usr/lib/wine/wine64"}
	for _, name := range []string{
		"card", "endpoint", "fact",
		"filter", "foreign", "look/host/eventlog", "look/host/logon", "look/library", "plan",
		"program", "protocol", "redact", "settingsfile", "sheet", "tell", "weigh/...", "yamlfile",
	} {
		words = append(words, "uakari/internal/"+name)
	}
	cmd := exec.Command("go", words...)
	cmd.Env = append(slices.Clone(w.env), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0", "HOME="+os.Getenv("HOME"))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// TestWindowsDemo plays the made-up world on Windows. Left out are the chapters in which
// it counts who holds a port: Wine does not say it, and takes two names of a program for one.
func TestWindowsDemo(t *testing.T) {
	t.Parallel()
	w := newWindows(t)
	out, code := w.wine(append([]string{`C:\uakari.exe`, "demo"}, windowsChapters...)...)
	if code != 0 || strings.Count(out, "\nYes: ")+strings.Count(out, "Works again:") < len(windowsChapters) {
		t.Errorf("%d: %s", code, out)
	}
	for _, foreign := range []string{"systemctl", "journalctl", "nft ", "/etc/"} {
		if strings.Contains(out, foreign) {
			t.Errorf("%q is told to somebody who has Windows", foreign)
		}
	}
}

// windowsChapters is what TestWindowsDemo plays.
var windowsChapters = strings.Fields(
	"healthy stopped override alias plain stray blank agent copies policy yesterday two stations account database")
