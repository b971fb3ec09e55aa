package file

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func put(t *testing.T, path, text string, mode fs.FileMode) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestRead is files, what is no file, and how much is read of them.
func TestRead(t *testing.T) {
	dir := t.TempDir()
	path := put(t, filepath.Join(dir, "a"), "0123456789", 0o600)
	if text, err := Read(path, 10); err != nil || string(text) != "0123456789" {
		t.Errorf("%q, %v", text, err)
	}
	var large *TooLarge
	if _, err := Read(path, 9); !errors.As(err, &large) || !strings.Contains(err.Error(), "more than 9 bytes") {
		t.Errorf("%v", err)
	}
	if text, err := Head(path, 3); err != nil || string(text) != "012" {
		t.Errorf("%q, %v", text, err)
	}
	if text, err := Tail(path, 3); err != nil || string(text) != "789" {
		t.Errorf("%q, %v", text, err)
	}
	if _, err := Read(filepath.Join(dir, "none"), 9); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("%v", err)
	}
	for _, path := range []string{dir, "/dev/zero", "/dev/null"} {
		if _, err := Read(path, 9); !errors.Is(err, ErrKind) {
			t.Errorf("%s: %v", path, err)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	if _, err := Typed(ctx, "/dev/zero", 1000); !errors.Is(err, ErrKind) {
		t.Errorf("an endless device: %v", err)
	}
	if text, err := Typed(ctx, path, 10); err != nil || len(text) != 10 {
		t.Errorf("%q, %v", text, err)
	}
	if _, err := Typed(ctx, dir, 10); !errors.Is(err, ErrKind) {
		t.Errorf("a folder: %v", err)
	}
}

// TestJudge is whose files are read for whom.
func TestJudge(t *testing.T) {
	root := entry{0, 0, 0o755}
	gauge := Account{UID: 1000, GIDs: []uint32{1000, 50}}
	for name, c := range map[string]struct {
		file    entry
		folders []entry
		fine    bool
	}{
		"its own":                              {entry{1000, 1000, 0o600}, []entry{{1000, 1000, 0o700}, root}, true},
		"root's, for all":                      {entry{0, 0, 0o644}, []entry{root}, true},
		"root's, for a group that it is in":    {entry{0, 50, 0o640}, []entry{root}, true},
		"root's, for a group that it is not":   {entry{0, 42, 0o640}, []entry{root}, false},
		"root's alone":                         {entry{0, 0, 0o600}, []entry{root}, false},
		"another's, for all":                   {entry{1001, 1001, 0o644}, []entry{root}, false},
		"behind a folder that it cannot enter": {entry{0, 0, 0o644}, []entry{{0, 0, 0o700}, root}, false},
		"in another's folder":                  {entry{1000, 1000, 0o600}, []entry{{1001, 1001, 0o777}, root}, false},
		"its own, that it may not read":        {entry{1000, 1000, 0o066}, []entry{root}, false},
	} {
		if err := gauge.judge(c.file, c.folders); (err == nil) != c.fine {
			t.Errorf("%s: %v", name, err)
		}
	}
	if got := strings.Join(above("/a/b/c"), " "); got != "/a/b /a /" {
		t.Errorf("%s", got)
	}
}
