package casebook

import (
	"context"
	"path/filepath"
	"slices"
	"testing"
	"time"
)

// TestWaits is how long it took before, the newest first, of one endpoint alone.
func TestWaits(t *testing.T) {
	ctx := context.Background()
	b := book(t, filepath.Join(t.TempDir(), "casebook.db"))
	c := open(t, b)
	for i, took := range []time.Duration{42 * time.Second, 1500 * time.Millisecond, 3 * time.Minute} {
		if err := b.Add(ctx, c.ID, Waited(took, opened.Add(time.Duration(i)*time.Hour))); err != nil {
			t.Fatal(err)
		}
	}
	if err := b.Add(ctx, c.ID, Entry{At: opened, Kind: Note, Text: "it worked after a while of waiting"}); err != nil {
		t.Fatal(err)
	}
	waits, err := b.Waits(ctx, c.Endpoint)
	if want := []time.Duration{3 * time.Minute, 2 * time.Second, 42 * time.Second}; err != nil ||
		!slices.Equal(waits, want) {
		t.Errorf("%v, %v; want %v", waits, err, want)
	}
	if waits, err := b.Waits(ctx, "ledger:5432"); err != nil || len(waits) != 0 {
		t.Errorf("another endpoint: %v, %v", waits, err)
	}
}
