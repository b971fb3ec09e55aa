//go:build linux

package linux

import (
	"context"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/host/programfiles"
)

func taken(
	t *testing.T,
	take func(context.Context, look.Env, fact.Order, look.Emit),
	env look.Env,
	target fact.Target,
) []fact.Fact {
	t.Helper()
	var list []fact.Fact
	take(context.Background(), env, fact.Order{Target: target}, func(f fact.Fact) { list = append(list, f) })
	return list
}

// TestListeners finds this test's own listener, its owner and its queue.
func TestListeners(t *testing.T) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Close(fd)
	if err := unix.Bind(fd, &unix.SockaddrInet4{Addr: [4]byte{127, 20, 0, 77}}); err != nil {
		t.Fatal(err)
	}
	if err := unix.Listen(fd, 0); err != nil {
		t.Fatal(err)
	}
	name, err := unix.Getsockname(fd)
	if err != nil {
		t.Fatal(err)
	}
	port := uint16(name.(*unix.SockaddrInet4).Port)
	find := func() fact.Listener {
		t.Helper()
		for _, f := range taken(t, Listeners, look.Env{}, fact.Target{Port: port}) {
			if f.Listeners != nil {
				if on := f.Listeners.On("tcp", port); len(on) == 1 {
					return on[0]
				}
			}
		}
		t.Fatalf("port %d is not among the listeners", port)
		return fact.Listener{}
	}
	l := find()
	if l.PID != os.Getpid() || l.Addr != netip.MustParseAddr("127.20.0.77") || l.Program == "" || l.Queue != 0 ||
		l.Full() {
		t.Errorf("got %+v", l)
	}
	if age := time.Since(l.Since); age < -2*time.Second || age > 30*time.Minute {
		t.Errorf("the owner, this test, started %s ago", age)
	}
	c, err := net.Dial("tcp", netip.AddrPortFrom(l.Addr, port).String())
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	if l := find(); l.Queue != 1 || !l.Full() {
		t.Errorf("with one waiting: %+v", l)
	}
}

func TestWildcards(t *testing.T) {
	l, err := net.Listen("tcp6", "[::]:0")
	if err != nil {
		t.Skipf("no IPv6: %v", err)
	}
	defer l.Close()
	port := netip.MustParseAddrPort(l.Addr().String()).Port()
	for _, f := range taken(t, Listeners, look.Env{}, fact.Target{Port: port}) {
		on := f.Listeners.On("tcp", port)
		if len(on) != 1 || on[0].V6Only == nil || !*on[0].V6Only {
			t.Fatalf("got %+v", on)
		}
		if takes, certain := on[0].Takes(netip.MustParseAddr("10.20.0.14")); takes || !certain {
			t.Error("a listener for IPv6 only is said to take IPv4")
		}
	}
}

func TestAddresses(t *testing.T) {
	list := taken(t, Looks[fact.LookAddresses], look.Env{}, fact.Target{})
	if len(list) != 1 || list[0].Addresses == nil || !list[0].Addresses.Holds(netip.MustParseAddr("127.20.0.14")) ||
		list[0].Addresses.Holds(netip.MustParseAddr("192.0.2.1")) {
		t.Errorf("got %+v", list)
	}
}

// TestService finds a program that a card names: installed, then running.
func TestService(t *testing.T) {
	program := filepath.Join(t.TempDir(), "sluicegate")
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(self, program); err != nil {
		t.Fatal(err)
	}
	env := look.Env{Card: &fact.Card{Name: "sluice", Program: program}}
	first := func() fact.Program {
		for _, f := range taken(t, Service, env, fact.Target{Scheme: "https", Port: 8443}) {
			if f.Service != nil {
				return f.Service.Programs[0]
			}
		}
		t.Fatal("no service fact")
		return fact.Program{}
	}
	if p := first(); p.Why != "card" || p.Name != "sluicegate" || p.Path != program || len(p.Processes) != 0 {
		t.Errorf("not running: %+v", p)
	}
	running, err := os.StartProcess(
		program,
		[]string{program, "-test.run=TestHelperSleeps"},
		&os.ProcAttr{Env: []string{"SLEEP=1"}},
	)
	if err != nil {
		t.Fatal(err)
	}
	defer running.Wait()
	defer running.Kill()
	if p := first(); len(p.Processes) != 1 || p.Processes[0].PID != running.Pid {
		t.Errorf("running as %d: %+v", running.Pid, p)
	}
}

func TestHelperSleeps(*testing.T) {
	if os.Getenv("SLEEP") != "" {
		time.Sleep(time.Minute)
	}
}

func TestSettingsPorts(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "sshd_config")
	if err := os.WriteFile(file, []byte("#Port 22\nPort 2222\nListenAddress 10.20.0.5:2022\nListenAddress "+
		"[fd20::5]:2023\nListenAddress 10.20.0.6\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	p := programfiles.Shipped("sshd")
	p.Settings.Files = []string{filepath.Join(dir, "*")}
	from, ports := settingsPorts(p, 0)
	if named := namedIn(p, onHost.SettingsOf(p, 0), fact.Target{Port: 2222}); len(named) != 1 ||
		named[0].At.File != file ||
		named[0].At.Key != "Port" || named[0].Is != "port" {
		t.Errorf("%+v", named)
	}
	if from != file || len(ports) != 3 || ports[0] != 2222 || ports[1] != 2022 || ports[2] != 2023 {
		t.Errorf("got %s %v", from, ports)
	}
	nginx := programfiles.Shipped("nginx")
	nginx.Settings.Files = p.Settings.Files
	if err := os.WriteFile(file, []byte("server {\n  listen 443 ssl;\n  listen [::]:8443 ssl;\n # listen 99;\n "+
		"listen unix:/run/x;\n}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, ports := settingsPorts(nginx, 0); len(ports) != 2 || ports[0] != 443 ||
		ports[1] != 8443 {
		t.Errorf("nginx: %v", ports)
	}
	text := "server {\n listen 443 ssl;\n ssl_certificate /etc/ssl/tides.pem;\n grpc_pass grpc://10.20.0.15:3000;\n " +
		"upstream a { server 10.20.0.15:3000; server http://u:x@10.20.0.15; }\n}\n"
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	got := ""
	for _, n := range namedIn(nginx, onHost.SettingsOf(nginx, 0), fact.Target{Port: 8443}) {
		got += n.Is + " " + n.Value + ", "
	}
	if want := "certificate /etc/ssl/tides.pem, backend 10.20.0.15:3000, "; got != want {
		t.Errorf("nginx names %q, want %q", got, want)
	}
}

func TestUnitOfPath(t *testing.T) {
	for path, want := range map[string]string{
		"/system.slice/nginx.service":                                      "nginx.service",
		"/system.slice/system-postgresql.slice/postgresql@15-main.service": "postgresql@15-main.service",
		"/user.slice/user-1000.slice/session-3.scope":                      "",
		"/user.slice/user-1000.slice/user@1000.service/app.slice/x.scope":  "",
		"/": "",
	} {
		if got := unitOfPath(path); got != want {
			t.Errorf("%s: got %q, want %q", path, got, want)
		}
	}
	if name := programName(os.Getpid()); name == "" || strings.ContainsAny(name, "/\n") {
		t.Errorf("own program: %q", name)
	}
}

// TestFaillock is how many failures lock an account, by the files that say so.
func TestFaillock(t *testing.T) {
	const line = "auth required pam_faillock.so preauth"
	for _, c := range []struct {
		own, pam string
		deny     int
		interval time.Duration
		used     bool
	}{
		{"", "auth required pam_unix.so", 3, 15 * time.Minute, false},
		{"", line, 3, 15 * time.Minute, true},
		{"deny = 5\nfail_interval=60\n", "# pam_faillock.so deny=9\n" + line, 5, time.Minute, true},
		{"deny = 5\n", line + " deny=2 unlock_time=600", 2, 15 * time.Minute, true},
	} {
		f, used := faillockOf([]byte(c.own), []byte(c.pam))
		if used != c.used || f.deny != c.deny || f.interval != c.interval {
			t.Errorf("%q, %q: %+v, %v", c.own, c.pam, f, used)
		}
	}
}

// TestOneSession is titles of processes that serve nobody who comes anew.
func TestOneSession(t *testing.T) {
	for title, want := range map[string]bool{
		"sshd: /usr/sbin/sshd -D [listener] 0 of 10-100 startups": false,
		"sshd: ana [priv]": true, "sshd: ana@pts/0": true, "sshd: unknown [net]": true, "sshd: ana@notty": true,
		"nginx: worker process": false, "nginx: worker process is shutting down": true,
		"postgres: checkpointer": false, "/usr/sbin/sshd -D": false,
	} {
		if got := oneSession().MatchString(title); got != want {
			t.Errorf("%s: %v", title, got)
		}
	}
}
