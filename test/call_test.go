package test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestCallToClose plays docs/from-call-to-close.md against a real PostgreSQL, fault by
// fault: it is stopped, then the account may not log in, then the secret is wrong. The
// case is closed by the run in which the account was accepted, and by no other.
func TestCallToClose(t *testing.T) {
	db := newDatabase(t)
	db.ask("CREATE ROLE gauge NOLOGIN PASSWORD 'gannet-22'")
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	right := write(t, filepath.Join(dir, "right"), "gannet-22\n")
	kept := write(t, filepath.Join(dir, "kept"), "gannet-22\n")
	url := fmt.Sprintf("postgres://127.0.0.1:%d/postgres?sslmode=disable", db.port)
	confirmed := caseOne(t)
	db.down()
	r := run(t, "trace", "--case", "new", "--user", "gauge", "--secret", "file:"+kept, url)
	if r.status != 1 || !strings.HasPrefix(r.stdout, "No: ") {
		t.Fatalf("stopped: %+v", r)
	}
	confirmed(1, "Not yet:")
	db.up()
	db.ready()
	confirmed(1, "Not yet:") // it runs, and the role may not log in: runs without the account prove nothing
	db.ask("ALTER ROLE gauge LOGIN")
	write(t, kept, "gannet-23\n")
	confirmed(1, "Not yet:") // the secret is wrong
	if r := run(t, "confirm", "1", "--times", "1", "--secret", "env:UAKARI_NOT_THERE"); r.status != 2 {
		t.Errorf("a secret that was given and is not there: %+v", r)
	}
	// The kept run's own secret is gone: all up to the login works, and nothing is closed.
	write(t, kept, "gannet-22\n")
	moved := filepath.Join(dir, "moved")
	rename(t, kept, moved)
	confirmed(3, "Not yet: "+url+": everything up to the login works; login not tried")
	rename(t, moved, kept)
	confirmed(0, "Works again: "+url+", 2 times in a row, and gauge is accepted", "--secret", "file:"+right)
}

// TestCallToClosePage is the same against a real web server, which is stopped, then in
// maintenance, then has another secret for the account.
func TestCallToClosePage(t *testing.T) {
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	accounts := write(t, filepath.Join(dir, "accounts"), "gauge:{PLAIN}gannet-23\n")
	kept := write(t, filepath.Join(dir, "kept"), "gannet-22\n")
	port := freePort(t)
	url := fmt.Sprintf("http://127.0.0.1:%d/", port)
	serve := func(location string) (stop func()) {
		t.Helper()
		conf := write(t, filepath.Join(dir, "conf"), fmt.Sprintf(pageSettings, dir, port, location))
		cmd := exec.Command(nginx, "-p", dir, "-c", conf)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		stop = sync.OnceFunc(func() { cmd.Process.Signal(os.Interrupt); cmd.Wait() })
		t.Cleanup(stop)
		for end := time.Now().Add(10 * time.Second); ; time.Sleep(50 * time.Millisecond) {
			if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
				c.Close()
				return stop
			}
			if time.Now().After(end) {
				t.Fatal("the web server does not listen")
			}
		}
	}
	confirmed := caseOne(t)
	r := run(t, "trace", "--case", "new", "--user", "gauge", "--secret", "file:"+kept, "--in-the-clear", url)
	if r.status != 1 || !strings.HasPrefix(r.stdout, "No: ") {
		t.Fatalf("stopped: %+v", r)
	}
	confirmed(1, "Not yet:")
	stop := serve("return 503;")
	confirmed(1, "Not yet:")
	stop()
	stop = serve(fmt.Sprintf("auth_basic tides; auth_basic_user_file %s; return 200 ebb;", accounts))
	// A return comes before the check of the account: the page asks for no login, and proves none.
	confirmed(3, "Not yet: nothing proves that "+url+" works; not tried: the login")
	stop()
	write(t, filepath.Join(dir, "page"), "ebb\n")
	serve(fmt.Sprintf("auth_basic tides; auth_basic_user_file %s; index page;", accounts))
	confirmed(1, "Not yet:") // the server has another secret for the account
	write(t, kept, "gannet-23\n")
	confirmed(0, "Works again: "+url+", 2 times in a row, and gauge is accepted")
}

const pageSettings = `daemon off; user root; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http {
  access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f;
  uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s; root %[1]s;
  server { listen 127.0.0.1:%[2]d; location / { %[3]s } }
}`

// caseOne confirms case 1, and asserts its status and first line, and that it is closed
// with status 0 and with no other.
func caseOne(t *testing.T) func(status int, first string, args ...string) {
	return func(status int, first string, args ...string) {
		t.Helper()
		r := run(t, append([]string{"confirm", "1", "--times", "2"}, args...)...)
		if r.status != status || !strings.HasPrefix(oneLine(r.stdout), first) {
			t.Fatalf("%v: status %d, want %d and %q: %s%s", args, r.status, status, first, r.stdout, r.stderr)
		}
		closed := strings.Contains(r.stdout, "Case 1 is closed")
		if closed != (status == 0) || closed == strings.Contains(r.stdout, "Case 1 stays open") {
			t.Errorf("%v: status %d: %s", args, status, r.stdout)
		}
	}
}
