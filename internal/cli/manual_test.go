package cli

import (
	"flag"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/cobra/doc"
)

var update = flag.Bool("update", false, "write the manual pages again")

// TestManual keeps the manual pages true: they are made from the commands.
func TestManual(t *testing.T) {
	kept := filepath.Join("..", "..", "docs", "man")
	dir := t.TempDir()
	if *update {
		if err := os.RemoveAll(kept); err != nil {
			t.Fatal(err)
		}
		dir = kept
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	root := newRoot()
	root.DisableAutoGenTag = true
	made := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	if err := doc.GenManTree(root, &doc.GenManHeader{Title: "UAKARI", Section: "1", Source: "uakari", Manual: "Uakari",
		Date: &made}, dir); err != nil {
		t.Fatal(err)
	}
	names, err := filepath.Glob(filepath.Join(dir, "*.1"))
	if err != nil || len(names) < 20 {
		t.Fatalf("%d pages, %v", len(names), err)
	}
	old, err := filepath.Glob(filepath.Join(kept, "*.1"))
	if err != nil || len(old) != len(names) {
		t.Errorf("%d pages are kept, and there are %d commands; make man writes them again", len(old), len(names))
	}
	for _, path := range names {
		made, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		page, err := os.ReadFile(filepath.Join(kept, filepath.Base(path)))
		if err != nil || string(page) != string(made) {
			t.Errorf("%s is not as its command is (%v); make man writes it again", filepath.Base(path), err)
		}
	}
}
