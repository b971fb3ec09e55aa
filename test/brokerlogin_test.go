package test

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestAttendLogin lets orders of a real broker try an account at a real PostgreSQL: the one
// that was pinned, once, also after a restart; no other account and no other server; and a
// mechanism that hides the secret is used where others are ruled out.
func TestAttendLogin(t *testing.T) {
	db := newDatabase(t)
	db.ask("CREATE ROLE gauge LOGIN PASSWORD 'gannet-22'; CREATE ROLE ana LOGIN PASSWORD 'gannet-22'")
	db.down()
	db.words = append(db.words, "-c", "log_connections=on", "-c", "logging_collector=on", "-c",
		"log_directory="+db.dir, "-c", "log_filename=all.log", "-c", "log_file_mode=0644")
	db.up()
	db.ready()
	// authorized counts at the server, after a later connection of ours is in its log, too.
	authorized := func(role string) int {
		t.Helper()
		lines := func(role string) int {
			return strings.Count(readFile(t, filepath.Join(db.dir, "all.log")), "connection authorized: user="+role)
		}
		before := lines("postgres")
		db.ask("SELECT 1")
		for end := time.Now().Add(10 * time.Second); lines("postgres") == before; time.Sleep(20 * time.Millisecond) {
			if time.Now().After(end) {
				t.Fatal("its log stays behind")
			}
		}
		return lines(role)
	}
	b := newBroker(t, "")
	dir := t.TempDir()
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "book.db"))
	secret := write(t, filepath.Join(dir, "secret"), "gannet-22\n")
	url := fmt.Sprintf("postgres://127.0.0.1:%d/postgres?sslmode=disable", db.port)
	attend := func(name string, more ...string) (log *lockedText, stop func()) {
		log, cmd := b.attend(t, append([]string{"--broker", b.url(), "--name", name, "--allow-login", url, "--user",
			"gauge", "--secret", "file:" + secret}, more...)...)
		return log, func() { cmd.Process.Kill(); cmd.Wait() }
	}
	ask := func(name, account, url string) string {
		t.Helper()
		r := run(t, "trace", "--broker", b.url(), "--order-key", b.key, "--at", "client=nats:"+name, "--user", account,
			"--secret", "file:"+secret, "--json", url)
		return r.stdout + r.stderr
	}
	log, stop := attend("gauges")
	if r := run(t, "attend", "--orders-from", b.public, "--broker", b.url(), "--name", "gauges"); r.status != 2 ||
		!strings.Contains(r.stderr, "another process of this host") {
		t.Errorf("a second process for one name: %+v", r)
	}
	if said := ask("gauges", "ana", url); authorized("ana") != 0 || !strings.Contains(said, "not tried from here") {
		t.Errorf("another account: %s", said)
	}
	if said := ask("gauges", "gauge", strings.Replace(url, "127.0.0.1", "127.0.0.2", 1)); authorized("gauge") != 0 {
		t.Errorf("another server: %s", said)
	}
	for range 3 {
		ask("gauges", "gauge", url)
	}
	if n := authorized("gauge"); n != 1 {
		t.Errorf("%d tries at the server; expected 1 in three runs\n%s", n, log)
	}
	stop()
	attend("gauges")
	if ask("gauges", "gauge", url); authorized("gauge") != 1 {
		t.Error("a restart tries it again")
	}
	// Another name, another host: SCRAM shows no secret, so it is tried there.
	attend("gauge-09", "--only-hidden")
	if said := ask("gauge-09", "gauge", url); authorized("gauge") != 2 {
		t.Errorf("a mechanism that hides the secret is not used: %s", said)
	}
	if text := readFile(t, b.key); strings.Contains(log.String(), "gannet-22") || text == "" {
		t.Errorf("the secret is in the log: %s", log)
	}
}
