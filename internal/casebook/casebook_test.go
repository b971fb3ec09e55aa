package casebook

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

var opened = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)

func book(t *testing.T, path string) *Book {
	t.Helper()
	b, err := Open(context.Background(), path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.Done() })
	return b
}

func traced(t *testing.T) *fact.Set {
	t.Helper()
	e, err := endpoint.Parse("https://tidebook.varzea.example/")
	if err != nil {
		t.Fatal(err)
	}
	set := fact.New(
		fact.Ask{Endpoint: e, Began: opened, WaitMS: 4000},
		[]fact.Vantage{{ID: "v1", Role: fact.Client, Host: "gauge-07", Means: fact.Here}},
	)
	return &set
}

func open(t *testing.T, b *Book) Case {
	t.Helper()
	c, err := b.Open(
		context.Background(),
		Case{
			Title:    "gauge-07 cannot reach tidebook",
			Endpoint: "https://tidebook.varzea.example/",
			First:    "service/stopped",
			Opened:   opened,
		},
		Entry{At: opened, Kind: Trace, Text: "service/stopped", Set: traced(t)},
	)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// TestBook opens a case, adds to it, and reads it from another opening.
func TestBook(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "state", "casebook.db")
	b := book(t, path)
	c := open(t, b)
	for _, e := range []Entry{{At: opened, Kind: Note, Text: "since this morning"},
		{At: opened, Kind: Change, Text: "filter off", Temporary: true, Undo: "filter on"}} {
		if err := b.Add(ctx, c.ID, e); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.Add(ctx, 99, Entry{Kind: Note}); !errors.Is(err, ErrNone) {
		t.Errorf("a case that is not there: %v", err)
	}
	got, err := book(t, path).Get(ctx, c.ID)
	if err != nil || len(got.Entries) != 3 || len(got.Traces()) != 1 ||
		got.Traces()[0].Set.Ask.Endpoint.Host != "tidebook.varzea.example" ||
		!got.Opened.Equal(opened) {
		t.Fatalf("%+v, %v", got, err)
	}
	standing := got.Standing()
	if len(standing) != 1 || standing[0].Undo != "filter on" {
		t.Fatalf("%+v", standing)
	}
	if err := b.Undone(ctx, c.ID, standing[0].Number, opened.Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	if err := b.Undone(ctx, c.ID, standing[0].Number, opened); !errors.Is(err, ErrNone) {
		t.Errorf("undone twice: %v", err)
	}
	if err := b.Close(ctx, c.ID, opened.Add(2*time.Hour)); err != nil {
		t.Fatal(err)
	}
	list, err := b.List(ctx, Wanted{})
	if err != nil || len(list) != 1 || list[0].Closed.Sub(list[0].Opened) != 2*time.Hour {
		t.Errorf("%+v, %v", list, err)
	}
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
}

// TestKeptStays lets nobody change or remove what was kept.
func TestKeptStays(t *testing.T) {
	path := filepath.Join(t.TempDir(), "casebook.db")
	open(t, book(t, path))
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, statement := range []string{"UPDATE entries SET text = 'x'", "UPDATE entries SET facts = NULL",
		"DELETE FROM entries"} {
		if _, err := db.Exec(statement); err == nil || !strings.Contains(err.Error(), "is never") {
			t.Errorf("%s: %v", statement, err)
		}
	}
}

// TestVersions opens files of other versions, and files that are none.
func TestVersions(t *testing.T) {
	dir := t.TempDir()
	later := filepath.Join(dir, "later.db")
	book(t, later).Done()
	db, err := sql.Open("sqlite", later)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec("PRAGMA user_version = 99"); err != nil {
		t.Fatal(err)
	}
	db.Close()
	if _, err := Open(context.Background(), later); err == nil ||
		!strings.Contains(err.Error(), "made by a later uakari") {
		t.Errorf("a later version: %v", err)
	}
	rubbish := filepath.Join(dir, "rubbish.db")
	if err := os.WriteFile(rubbish, bytes.Repeat([]byte("not a database "), 100), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(context.Background(), rubbish); err == nil || !strings.Contains(err.Error(), rubbish) {
		t.Errorf("rubbish: %v", err)
	}
	if text, err := os.ReadFile(rubbish); err != nil || !bytes.HasPrefix(text, []byte("not a database")) {
		t.Errorf("it was written to: %v", err)
	}
	if _, err := Open(context.Background(), dir); err == nil {
		t.Error("a folder is opened")
	}
}

// TestEarlier opens a file of an earlier version, with a case in it.
func TestEarlier(t *testing.T) {
	path := filepath.Join(t.TempDir(), "old.db")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{migrations[0], "PRAGMA user_version = 1",
		"INSERT INTO cases (uid, title, endpoint, first, opened) VALUES ('u', 't', 'e', 'f', 1)",
		"INSERT INTO entries (case_id, at, kind, text, temporary, undo) VALUES (1, 1, 'note', 'x', 0, '')"} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	b := book(t, path)
	if c, err := b.Get(context.Background(), 1); err != nil || c.Foreign || len(c.Entries) != 1 {
		t.Errorf("%+v, %v", c, err)
	}
	if err := b.Remove(context.Background(), 1); err != nil {
		t.Error(err)
	}
}

// TestSeveral lets several write at once.
func TestSeveral(t *testing.T) {
	path := filepath.Join(t.TempDir(), "casebook.db")
	c := open(t, book(t, path))
	var wg sync.WaitGroup
	for range 4 {
		b := book(t, path)
		wg.Go(func() {
			for i := range 25 {
				if err := b.Add(context.Background(), c.ID, Entry{At: opened, Kind: Note,
					Text: fmt.Sprint(i)}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	got, err := book(t, path).Get(context.Background(), c.ID)
	if err != nil || len(got.Entries) != 101 {
		t.Errorf("%d entries, %v", len(got.Entries), err)
	}
}

// TestMany lists ten thousand cases in a moment.
func TestMany(t *testing.T) {
	ctx := context.Background()
	b := book(t, filepath.Join(t.TempDir(), "casebook.db"))
	err := b.within(ctx, func(tx *sql.Tx) error {
		for i := range 10000 {
			if _, err := tx.Exec("INSERT INTO cases (uid, title, endpoint, first, opened) VALUES (?, 'a', 'b', 'c', "+
				"1)", fmt.Sprint(i)); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	began := time.Now()
	list, err := b.List(ctx, Wanted{})
	if took := time.Since(began); err != nil || len(list) != 10000 || took > 2*time.Second {
		t.Errorf("%d cases in %s, %v", len(list), took, err)
	}
	t.Logf("%d cases in %s", len(list), time.Since(began))
}

// TestCarry exports cases, imports them elsewhere, and refuses what is broken.
func TestCarry(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	from, to := book(t, filepath.Join(dir, "one.db")), book(t, filepath.Join(dir, "two.db"))
	c := open(t, from)
	if err := from.Add(ctx, c.ID, Entry{At: opened, Kind: Change, Text: "x", Temporary: true, Undo: "y",
		Undone: opened}); err != nil {
		t.Fatal(err)
	}
	if err := from.Close(ctx, c.ID, opened.Add(time.Hour)); err != nil {
		t.Fatal(err)
	}
	open(t, from)
	var text bytes.Buffer
	if left, err := Export(ctx, from, &text); err != nil || len(left) > 0 {
		t.Fatal(err)
	}
	added, err := Import(ctx, to, "cases.jsonl", bytes.NewReader(text.Bytes()))
	if err != nil || len(added) != 2 {
		t.Fatalf("%+v, %v", added, err)
	}
	if again, err := Import(ctx, to, "cases.jsonl", bytes.NewReader(text.Bytes())); err != nil || len(again) != 0 {
		t.Errorf("a second time: %+v, %v", again, err)
	}
	was, err := from.Get(ctx, c.ID)
	got, err2 := to.Get(ctx, added[0].ID)
	if err != nil || err2 != nil || got.UID != was.UID || !got.Closed.Equal(was.Closed) || len(got.Entries) != 2 ||
		len(got.Standing()) != 0 {
		t.Errorf("%+v, %+v, %v, %v", was, got, err, err2)
	}
	for bad, want := range map[string]string{
		"":                         "cases.jsonl:1:1: nothing in it",
		"nonsense\n":               "cases.jsonl:1:1: expected",
		"{\"format\":\"other\"}\n": "cases.jsonl:1:1: expected",
		"{\"format\":\"uakari.casebook/1\"}\n{\n":                   "cases.jsonl:2:1: not a case",
		"{\"format\":\"uakari.casebook/1\"}\n{}\n":                  "cases.jsonl:2:1: a case has",
		"{\"format\":\"uakari.casebook/1\"}\n{\"id\": \"seven\"}\n": "cases.jsonl:2:1: not a case",
	} {
		if _, err := Import(ctx, to, "cases.jsonl", strings.NewReader(bad)); err == nil ||
			!strings.HasPrefix(err.Error(), want) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if !got.Foreign || was.Foreign {
		t.Errorf("foreign: %v there, %v here", got.Foreign, was.Foreign)
	}
	// Whole or not at all, and again when it is mended.
	other := book(t, filepath.Join(dir, "three.db"))
	lines := strings.SplitAfter(text.String(), "\n")
	for name, last := range map[string]string{
		"broken": "{\n", "an empty set": strings.Replace(lines[2], `"format":"uakari.facts/1"`, `"format":""`, 1),
		"a trace without facts": `{"uid":"x","entries":[{"kind":"trace"}]}`,
		"of no kind":            `{"uid":"x","entries":[{"kind":"x"}]}`,
		"facts of nobody":       strings.Replace(lines[2], `"id":"v1"`, `"id":""`, 1),
	} {
		if added, err := Import(ctx, other, "cases.jsonl", strings.NewReader(lines[0]+lines[1]+last)); err == nil ||
			len(added) > 0 {
			t.Errorf("%s: %+v, %v", name, added, err)
		}
		if list, err := other.List(ctx, Wanted{}); err != nil || len(list) > 0 {
			t.Errorf("%s: %d cases are kept, %v", name, len(list), err)
		}
	}
	if added, err := Import(ctx, other, "cases.jsonl", bytes.NewReader(text.Bytes())); err != nil || len(added) != 2 {
		t.Errorf("mended: %+v, %v", added, err)
	}
	// One that cannot be read blocks no others.
	if _, err := other.db.ExecContext(ctx, "DROP TRIGGER entries_stay"); err != nil {
		t.Fatal(err)
	}
	if _, err := other.db.ExecContext(ctx,
		"UPDATE entries SET facts = 'x' WHERE case_id = 1 AND facts IS NOT NULL"); err != nil {
		t.Fatal(err)
	}
	var rest bytes.Buffer
	if left, err := Export(ctx, other, &rest); err != nil || len(left) != 1 ||
		strings.Count(rest.String(), "\n") != 2 {
		t.Errorf("%v, %v, %q", left, err, rest.String())
	}
	if err := other.Remove(ctx, 1); err != nil {
		t.Error(err)
	}
	if err := other.Remove(ctx, 1); !errors.Is(err, ErrNone) {
		t.Errorf("removed twice: %v", err)
	}
	if list, err := other.List(ctx, Wanted{}); err != nil || len(list) != 1 {
		t.Errorf("%d cases, %v", len(list), err)
	}
	if _, err := Export(ctx, from, &text, 77); !errors.Is(err, ErrNone) {
		t.Errorf("a case that is not there: %v", err)
	}
}

// TestPath is where the casebook is.
func TestPath(t *testing.T) {
	dir := t.TempDir()
	for _, c := range []struct{ book, state, home, want string }{
		{filepath.Join(dir, "own.db"), "", "", filepath.Join(dir, "own.db")},
		{dir, "", "", filepath.Join(dir, "casebook.db")},
		{"", filepath.Join(dir, "state"), "", filepath.Join(dir, "state", "uakari", "casebook.db")},
		{"", "", dir, filepath.Join(dir, ".local", "state", "uakari", "casebook.db")},
	} {
		t.Setenv("UAKARI_CASEBOOK", c.book)
		t.Setenv("XDG_STATE_HOME", c.state)
		t.Setenv("HOME", c.home)
		if got, err := Path(); err != nil || got != c.want {
			t.Errorf("%+v: %s, %v", c, got, err)
		}
	}
}
