package test

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"uakari/internal/casebook"
)

// TestSharedCasebook keeps cases in a real PostgreSQL: two who write at once, a
// server that is gone in the middle, roles, and casebooks of other versions.
func TestSharedCasebook(t *testing.T) {
	db := newDatabase(t)
	dir, place, ask, up, down, ready := db.dir, db.place, db.ask, db.up, db.down, db.ready
	state := filepath.Join(dir, "state")
	with := func(role string, args ...string) result {
		t.Helper()
		r := runWords(t, append([]string{"env", "XDG_STATE_HOME=" + state, "UAKARI_CASEBOOK=" + place(role), program},
			args...))
		if strings.Contains(r.stdout+r.stderr, "gannet-21") {
			t.Errorf("%v shows the secret: %s%s", args, r.stdout, r.stderr)
		}
		return r
	}
	must := func(want int, role string, args ...string) result {
		t.Helper()
		r := with(role, args...)
		if r.status != want {
			t.Fatalf("%v: status %d, want %d: %s%s", args, r.status, want, r.stdout, r.stderr)
		}
		return r
	}
	shown := func(id int) (c casebook.Case) {
		t.Helper()
		if err := json.Unmarshal([]byte(must(0, "postgres", "case", "show", fmt.Sprint(id), "--json").stdout),
			&c); err != nil {
			t.Fatal(err)
		}
		return c
	}
	closed := fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))
	must(1, "postgres", "trace", closed)
	ask("CREATE ROLE ana LOGIN PASSWORD 'gannet-21'; CREATE ROLE rui LOGIN PASSWORD 'gannet-21'; CREATE ROLE eva " +
		"LOGIN PASSWORD 'gannet-21'")

	t.Run("roles that read, that write, and that may do neither", func(t *testing.T) {
		ask(must(0, "postgres", "case", "rights", "ana", "--write").stdout +
			must(0, "postgres", "case", "rights", "rui").stdout)
		must(0, "ana", "case", "note", "1", "the tide gauge too")
		if r := must(0, "rui", "case", "show", "1"); !strings.Contains(r.stdout, "the tide gauge too") {
			t.Errorf("what ana noted is not shown to rui: %s", r.stdout)
		}
		for role, args := range map[string][]string{"rui": {"case", "note", "1", "x"}, "eva": {"case", "list"}} {
			if r := must(2, role, args...); !strings.Contains(r.stderr, "this role may not do that") ||
				strings.Count(r.stderr, "\n") != 1 {
				t.Errorf("%s: %s", role, r.stderr)
			}
		}
	})
	t.Run("two write at once", func(t *testing.T) {
		before := len(shown(1).Entries)
		var wg sync.WaitGroup
		for _, role := range []string{"postgres", "ana"} {
			wg.Go(func() {
				for i := range 10 {
					if r := with(role, "case", "note", "1", fmt.Sprint(role, i)); r.status != 0 {
						t.Error(r.stderr)
					}
				}
			})
		}
		wg.Wait()
		numbers := map[int64]bool{}
		for _, e := range shown(1).Entries {
			numbers[e.Number] = true
		}
		if len(numbers) != before+20 {
			t.Errorf("%d entries; expected %d", len(numbers), before+20)
		}
	})
	t.Run("taken, found, listed", func(t *testing.T) {
		must(0, "ana", "case", "take", "1")
		for args, want := range map[string]bool{
			"--mine": true, "--open": true, "--with tide": true, "--with heron": false, "--cause names/": false,
			"--cause ports/": true,
		} {
			r := must(0, "rui", append([]string{"case", "list"}, strings.Fields(args)...)...)
			if strings.Contains(r.stdout, "127.0.0.1") != want {
				t.Errorf("%s: %s", args, r.stdout)
			}
		}
	})
	t.Run("what was kept stays", func(t *testing.T) {
		for _, statement := range []string{"UPDATE uakari.entries SET text = 'x'", "DELETE FROM uakari.entries"} {
			out, err := exec.Command(db.psql, "-X", "-c", statement, place("postgres")).CombinedOutput()
			if err == nil || !strings.Contains(string(out), "is never") {
				t.Errorf("%s: %v: %s", statement, err, out)
			}
		}
	})
	t.Run("gone in the middle", func(t *testing.T) {
		down()
		r := must(1, "postgres", "trace", closed, "--case", "1")
		if !strings.HasPrefix(r.stdout, "No: ") || !strings.Contains(r.stderr, "it cannot be reached") ||
			!strings.Contains(r.stderr, "the trace waits here") {
			t.Fatalf("%s%s", r.stdout, r.stderr)
		}
		if r := must(2, "postgres", "case", "sync"); !strings.Contains(r.stderr, "cannot be reached") {
			t.Error(r.stderr)
		}
		up()
		ready()
		before := len(shown(1).Traces())
		if r := must(0, "postgres", "case", "list"); !strings.Contains(r.stderr, "one trace waits here") {
			t.Error(r.stderr)
		}
		if r := must(0, "postgres", "case", "sync"); r.stdout != "Handed in: 1 of 1.\n" {
			t.Error(r.stdout)
		}
		if r := must(0, "postgres", "case", "sync"); r.stdout != "Nothing waits here.\n" {
			t.Error(r.stdout)
		}
		if after := len(shown(1).Traces()); after != before+1 {
			t.Errorf("%d traces after %d", after, before)
		}
	})
	t.Run("other versions", func(t *testing.T) {
		version := strings.TrimSpace(ask("SELECT version FROM uakari.version"))
		ask("UPDATE uakari.version SET version = 99")
		if r := must(2, "postgres", "case", "list"); !strings.Contains(r.stderr,
			"made by a later uakari (version 99") {
			t.Error(r.stderr)
		}
		ask(`ALTER TABLE uakari.cases DROP COLUMN taken, DROP COLUMN taken_at;
			ALTER TABLE uakari.entries DROP COLUMN author, DROP COLUMN uid; UPDATE uakari.version SET version = 1`)
		if r := must(2, "rui", "case", "list"); !strings.Contains(r.stderr, "renewed first, by a role that may") {
			t.Error(r.stderr)
		}
		must(0, "postgres", "case", "list")
		if now := strings.TrimSpace(ask("SELECT version FROM uakari.version")); now != version {
			t.Errorf("version %s after %s", now, version)
		}
		must(0, "rui", "case", "list")
	})
	t.Run("ten thousand cases", func(t *testing.T) {
		ask("INSERT INTO uakari.cases (uid, title, endpoint, first, opened) SELECT g, 'gauge-07 cannot reach " +
			"ledger', 'ledger:5432', 'service/stopped', g FROM generate_series(1, 10000) g")
		b, err := casebook.Open(t.Context(), place("rui"))
		if err != nil {
			t.Fatal(err)
		}
		defer b.Done()
		best := time.Hour
		for range 5 {
			began := time.Now()
			if list, err := b.List(t.Context(), casebook.Wanted{}); err != nil || len(list) < 10000 {
				t.Fatalf("%d cases, %v", len(list), err)
			}
			best = min(best, time.Since(began))
		}
		t.Logf("10,000 cases listed in %s", best)
		if best > 100*time.Millisecond {
			t.Errorf("10,000 cases listed in %s; expected 100 ms", best)
		}
	})
}

// TestDoneAsData is what commands that do much at once tell other programs.
func TestDoneAsData(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", t.TempDir())
	for _, c := range []struct{ args, holds string }{
		{"case sync --json", `"did": "handed in"`}, {"case prune --older 90d --json", `"did": "removed"`},
		{"case rights desk --json", `GRANT`}, {"case rights desk --write --out json", `INSERT`},
	} {
		r := run(t, strings.Fields(c.args)...)
		validate(t, "done", []byte(r.stdout))
		if r.status != 0 || !strings.Contains(r.stdout, c.holds) {
			t.Errorf("%s: %+v", c.args, r)
		}
	}
}
