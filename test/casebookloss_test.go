package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"uakari/internal/casebook"
)

// How many traces TestNoTraceIsLost keeps while its server is disturbed: by the package, and
// by the program, of which some are killed.
const (
	lossTraces  = 1000
	lossRuns    = 40
	lossWriters = 6
)

// TestNoTraceIsLost keeps a thousand traces in a real PostgreSQL that is killed, restarted,
// full, of a later version, and without rights in turn, and more by programs that are killed
// themselves: each trace is in the casebook afterwards, once.
func TestNoTraceIsLost(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root, for a disk of its own")
	}
	// The database lies on a small disk, so that it can be filled.
	disk, err := os.MkdirTemp("", "uakari-disk")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		syscall.Unmount(disk, syscall.MNT_DETACH)
		os.Remove(disk)
	})
	if err := syscall.Mount("ebb", disk, "tmpfs", 0, "size=200m"); err != nil {
		missing(t, fmt.Sprintf("no disk of its own can be mounted: %v", err))
	}
	state, err := os.MkdirTemp("", "uakari-state")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(state) })
	t.Setenv("TMPDIR", disk)
	db := newDatabase(t)
	db.down()
	db.words = append(db.words, "-c", "max_wal_size=48MB", "-c", "min_wal_size=32MB", "-c", "fsync=on")
	db.up()
	db.ready()
	db.ask("CREATE ROLE ana LOGIN PASSWORD 'gannet-21'")
	env := append(os.Environ(), "XDG_STATE_HOME="+state, "UAKARI_CASEBOOK="+db.place("postgres"))
	rights := exec.Command(program, "case", "rights", "ana", "--write")
	rights.Env = env
	grants, err := rights.Output()
	if err != nil {
		t.Fatal(err)
	}
	book, err := casebook.Open(t.Context(), db.place("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	book.Done()
	db.ask(string(grants))
	version := strings.TrimSpace(db.ask("SELECT version FROM uakari.version"))

	ctx, calm := context.WithCancel(t.Context())
	var rough, writers sync.WaitGroup
	rough.Go(func() { disturb(ctx, db, disk, version, string(grants)) })
	rough.Go(func() { // what waits is handed in all the while
		for ctx.Err() == nil {
			cmd := exec.Command(program, "case", "sync")
			cmd.Env = append(env, "UAKARI_CASEBOOK="+db.place("ana"))
			cmd.Run() // it fails whenever the server does
		}
	})
	folder := filepath.Join(state, "uakari")
	var waited atomic.Int32
	for w := range lossWriters {
		writers.Go(func() {
			for i := w; i < lossTraces; i += lossWriters {
				k := casebook.Kept{
					As: casebook.Case{Title: "ebb", Endpoint: fmt.Sprintf("tidebook:%d", w), Opened: time.Now()},
					Entry: casebook.Entry{UID: fmt.Sprintf("loss-%d", i), At: time.Now(), Kind: casebook.Trace,
						Text: "service/stopped"},
				}
				if err := keepIn(t.Context(), db.place("ana"), k); err != nil {
					waited.Add(1)
					time.Sleep(60 * time.Millisecond) // so that more than one disturbance is met
					if err := casebook.Wait(folder, k); err != nil {
						t.Errorf("trace %d: %v", i, err)
					}
				}
			}
		})
	}
	// The same by the program; every third is killed at some moment of its run.
	closed := fmt.Sprintf("tcp://127.0.0.1:%d", freePort(t))
	told := 0
	for i := range lossRuns {
		cmd := exec.Command(program, "trace", closed)
		cmd.Env = append(env, "UAKARI_CASEBOOK="+db.place("ana"))
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		if i%3 == 0 {
			time.AfterFunc(time.Duration(20*i)*time.Millisecond, func() { cmd.Process.Kill() })
		}
		if cmd.Wait(); cmd.ProcessState.ExitCode() == 1 {
			told++
		}
	}
	writers.Wait()
	calm()
	rough.Wait()
	db.ready()

	handIn := exec.Command(program, "case", "sync")
	handIn.Env = append(env, "UAKARI_CASEBOOK="+db.place("ana"))
	if out, err := handIn.CombinedOutput(); err != nil {
		t.Errorf("%v: %s", err, out)
	}
	counts := map[string]int{}
	for line := range strings.Lines(db.ask("SELECT uid, count(*) FROM uakari.entries GROUP BY uid")) {
		uid, count, _ := strings.Cut(strings.TrimSpace(line), "|")
		counts[uid], _ = strconv.Atoi(count)
	}
	lost := 0
	for i := range lossTraces {
		switch counts[fmt.Sprintf("loss-%d", i)] {
		case 0:
			lost++
		case 1:
		default:
			t.Errorf("trace %d is kept more than once", i)
		}
	}
	kept, err := strconv.Atoi(strings.TrimSpace(db.ask("SELECT count(*) FROM uakari.entries e JOIN uakari.cases c " +
		"ON c.id = e.case_id WHERE c.endpoint NOT LIKE 'tidebook:%'")))
	if lost > 0 || err != nil || kept < told {
		t.Errorf("%d of %d traces are lost; %d of %d runs that were told are kept, %v", lost, lossTraces, kept, told, err)
	}
	t.Logf("%d of %d traces waited; %d of %d runs were not killed", waited.Load(), lossTraces, told, lossRuns)
	if waited.Load() == 0 {
		t.Error("no trace waited: the server was not disturbed")
	}
}

// keepIn keeps a trace as the program does: in a casebook that is opened for it.
func keepIn(ctx context.Context, place string, k casebook.Kept) error {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	b, err := casebook.Open(ctx, place)
	if err != nil {
		return err
	}
	defer b.Done()
	_, err = casebook.Keep(ctx, b, k)
	return err
}

// disturb does one thing after the other to a database, until its context ends; then all is
// as it was.
func disturb(ctx context.Context, db *database, disk, version, grants string) {
	try := func(statements string) { // as often as the server is not there yet
		for range 100 {
			if exec.Command(db.psql, "-X", "-q", "-c", statements, db.place("postgres")).Run() == nil {
				return
			}
			time.Sleep(50 * time.Millisecond)
		}
	}
	full := filepath.Join(disk, "full")
	steps := []struct{ begin, end func() }{
		{func() { db.server.Process.Kill(); db.server.Wait() }, func() { db.up(); try("SELECT 1") }},
		{func() { try("UPDATE uakari.version SET version = 99") },
			func() { try("UPDATE uakari.version SET version = " + version) }},
		{db.down, func() { db.up(); try("SELECT 1") }},
		{func() { try("REVOKE ALL ON ALL TABLES IN SCHEMA uakari FROM ana") }, func() { try(grants) }},
		{func() { exec.Command("dd", "if=/dev/zero", "of="+full, "bs=64k").Run() }, func() {
			os.Remove(full)
			if db.server.Process.Signal(syscall.Signal(0)) != nil {
				db.server.Wait()
				db.up()
			}
			try("SELECT 1")
		}},
		{func() { try("ALTER ROLE ana NOLOGIN") }, func() { try("ALTER ROLE ana LOGIN") }},
		{func() { try("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = 'ana'") }, func() {}},
	}
	for i := 0; ctx.Err() == nil; i++ {
		step := steps[i%len(steps)]
		step.begin()
		time.Sleep(150 * time.Millisecond)
		step.end()
		time.Sleep(150 * time.Millisecond)
	}
}
