package casebook

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// made opens cases of an endpoint and a first cause.
func made(t *testing.T, b *Book, endpoint, first string, closed bool) Case {
	t.Helper()
	c, err := b.Open(context.Background(), Case{Title: "t", Endpoint: endpoint, First: first, Opened: opened},
		Entry{At: opened, Kind: Trace, Set: traced(t)})
	if err != nil {
		t.Fatal(err)
	}
	if closed {
		if err := b.Close(context.Background(), c.ID, opened.Add(time.Duration(c.ID)*time.Hour)); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

// TestWanted lists few of many cases, the newest first.
func TestWanted(t *testing.T) {
	ctx := context.Background()
	b := book(t, filepath.Join(t.TempDir(), "casebook.db"))
	made(t, b, "tcp://tidebook:80", "ports/nothing-listens", true)   // 1
	made(t, b, "tcp://tidebook:80", "rules/server-drop", false)      // 2
	made(t, b, "tcp://tidebook:8080", "rules/server-drop", false)    // 3
	made(t, b, "tcp://heron_1:80", "ports/nothing-listens", false)   // 4
	made(t, b, "tcp://heron-1:80", "ports/loopback-listener", false) // 5
	if err := b.Take(ctx, 3, "ana", opened); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		wanted Wanted
		want   []int64
	}{
		{Wanted{}, []int64{5, 4, 3, 2, 1}},
		{Wanted{Most: 2}, []int64{5, 4}},
		{Wanted{Most: 2, Before: 4}, []int64{3, 2}},
		{Wanted{Before: 1}, nil},
		{Wanted{Open: true}, []int64{5, 4, 3, 2}},
		{Wanted{Taken: "ana"}, []int64{3}},
		{Wanted{Endpoint: "tcp://tidebook:80"}, []int64{2, 1}},
		{Wanted{Part: "tidebook:80"}, []int64{3, 2, 1}},
		{Wanted{Part: "heron_"}, []int64{4}},
		{Wanted{First: "ports/nothing-listens"}, []int64{4, 1}},
		{Wanted{First: "ports/nothing"}, nil},
		{Wanted{Cause: "ports/"}, []int64{5, 4, 1}},
		{Wanted{Cause: "ports/", Open: true, Words: "HERON"}, []int64{5, 4}},
	} {
		list, err := b.List(ctx, c.wanted)
		var ids []int64
		for _, found := range list {
			ids = append(ids, found.ID)
		}
		if err != nil || !slices.Equal(ids, c.want) {
			t.Errorf("%+v: %v, %v; expected %v", c.wanted, ids, err, c.want)
		}
	}
}

// TestPrune removes closed cases alone, and keeps the newest of them where that is wanted.
func TestPrune(t *testing.T) {
	ctx := context.Background()
	for _, c := range []struct {
		before time.Duration // after the first was opened
		newest int
		left   []int64
	}{
		{1000 * time.Hour, 0, []int64{4, 2}},
		{1000 * time.Hour, 1, []int64{5, 4, 2}},
		{1000 * time.Hour, 9, []int64{5, 4, 3, 2, 1}},
		{3 * time.Hour, 0, []int64{5, 4, 3, 2}},
		{3*time.Hour + 1, 2, []int64{5, 4, 3, 2}},
		{0, 0, []int64{5, 4, 3, 2, 1}},
	} {
		b := book(t, filepath.Join(t.TempDir(), "casebook.db"))
		for n := range 5 {
			made(t, b, "tcp://tidebook:80", "rules/server-drop", n%2 == 0) // 1, 3 and 5 are closed
		}
		n, err := b.Prune(ctx, opened.Add(c.before), c.newest)
		list, err2 := b.List(ctx, Wanted{})
		var ids []int64
		for _, found := range list {
			ids = append(ids, found.ID)
		}
		if err != nil || err2 != nil || n != 5-len(c.left) || !slices.Equal(ids, c.left) {
			t.Errorf("%v, %d: %d removed, %v left, %v, %v; expected %v", c.before, c.newest, n, ids, err, err2, c.left)
		}
	}
}

// TestKeep puts a trace where it belongs: into the newest open case of its endpoint, never
// into one that is closed; a new case is open, unless nothing failed.
func TestKeep(t *testing.T) {
	ctx := context.Background()
	kept := func(endpoint string) Kept {
		return Kept{As: Case{Title: "t", Endpoint: endpoint, First: "rules/server-drop", Opened: opened},
			Entry: Entry{At: opened, Kind: Trace, Set: traced(t)}}
	}
	const here = "tcp://tidebook:80"
	fresh, well := kept(here), kept("tcp://heron:80")
	fresh.New, well.Well = true, true
	wellHere, numbered := kept(here), kept(here)
	wellHere.Well, numbered.Case = true, 1
	for name, c := range map[string]struct {
		kept Kept
		want int64 // the case
		open bool
	}{
		"the newest open one":   {kept(here), 3, true},
		"none of this endpoint": {kept("tcp://tidebook:8"), 6, true},
		"a new one":             {fresh, 6, true},
		"nothing failed":        {well, 0, false},
		"nothing fails now":     {wellHere, 3, true},
		"by its number":         {numbered, 1, false},
	} {
		b := book(t, filepath.Join(t.TempDir(), "casebook.db"))
		made(t, b, here, "rules/server-drop", true)
		made(t, b, here, "rules/server-drop", false)
		made(t, b, here, "rules/server-drop", false)
		made(t, b, here, "rules/server-drop", true)
		made(t, b, "tcp://tidebook:8080", "rules/server-drop", false)
		id, err := Keep(ctx, b, c.kept)
		if err != nil || id != c.want {
			t.Errorf("%s: in case %d, %v; expected %d", name, id, err, c.want)
			continue
		}
		list, err := b.List(ctx, Wanted{Most: 1})
		if err != nil || len(list) != 1 {
			t.Fatal(err)
		}
		if id == 0 && list[0].Closed.IsZero() || id == 6 && !list[0].Closed.IsZero() {
			t.Errorf("%s: %+v", name, list[0])
		}
		if id > 0 {
			got, err := b.Get(ctx, id)
			want := 2
			if id == 6 {
				want = 1
			}
			if err != nil || len(got.Entries) != want || got.Closed.IsZero() != c.open {
				t.Errorf("%s: %+v, %v", name, got, err)
			}
		}
	}
}

// TestReached keeps the newest run in which an endpoint was reached, in whatever order they
// are handed in.
func TestReached(t *testing.T) {
	ctx := context.Background()
	b := book(t, filepath.Join(t.TempDir(), "casebook.db"))
	for n, c := range []struct{ ended, want int }{{2, 2}, {1, 2}, {2, 2}, {3, 3}} {
		set := *traced(t)
		set.Ended = opened.Add(time.Duration(c.ended) * time.Hour)
		if err := b.Reached(ctx, "tidebook:443", "gauge-07", set); err != nil {
			t.Fatal(err)
		}
		got, err := b.Baseline(ctx, "tidebook:443", "gauge-07")
		if err != nil || got == nil || !got.Ended.Equal(opened.Add(time.Duration(c.want)*time.Hour)) {
			t.Errorf("run %d: %v, %v", n, got, err)
		}
	}
	for _, other := range [][2]string{{"tidebook:443", "gauge-08"}, {"tidebook:80", "gauge-07"}} {
		if got, err := b.Baseline(ctx, other[0], other[1]); err != nil || got != nil {
			t.Errorf("%v: %v, %v", other, got, err)
		}
	}
}

// BenchmarkManyCases is what keeping one trace costs in a casebook of many cases.
func BenchmarkManyCases(b *testing.B) {
	ctx := context.Background()
	for _, count := range []int{0, 1_000_000} {
		store, err := Open(ctx, filepath.Join(b.TempDir(), "casebook.db"))
		if err != nil {
			b.Fatal(err)
		}
		_, err = store.db.ExecContext(ctx, `WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i < $1)
			INSERT INTO cases (uid, title, endpoint, first, opened, closed)
			SELECT 'u'||i, 'gauge cannot reach', 'tcp://tide-'||(i%5000)||':80', 'rules/server-drop', i, i%50 FROM n
			WHERE $1 > 0`, count)
		if err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprintf("%d cases", count), func(b *testing.B) {
			b.ReportAllocs()
			for range b.N {
				k := Kept{As: Case{Title: "t", Endpoint: "tcp://tide-7:80", First: "rules/server-drop",
					Opened: opened}, Entry: Entry{At: opened, Kind: Note}}
				if _, err := Keep(ctx, store, k); err != nil {
					b.Fatal(err)
				}
				if _, err := store.List(ctx, Wanted{Most: 50}); err != nil {
					b.Fatal(err)
				}
				alike := Wanted{First: "rules/server-drop", Endpoint: "tcp://tide-7:80", Most: 11}
				if _, err := store.List(ctx, alike); err != nil {
					b.Fatal(err)
				}
			}
		})
		store.Done()
	}
}
