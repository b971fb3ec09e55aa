package test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
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
	confirmed := func(status int, first string, args ...string) {
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
