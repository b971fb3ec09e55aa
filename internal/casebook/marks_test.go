package casebook

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
)

// TestMarkKey keeps one key for a user's runs where something is kept, and none where
// nothing is.
func TestMarkKey(t *testing.T) {
	ours := func(path string) error {
		info, err := os.Stat(path)
		if err == nil && info.Mode().Perm()&0o022 != 0 {
			err = os.ErrPermission
		}
		return err
	}
	dir := filepath.Join(t.TempDir(), "state")
	t.Setenv("UAKARI_CASEBOOK", filepath.Join(dir, "casebook.db"))
	if one, other := MarkKey(ours), MarkKey(ours); len(one) != markKeyLong || bytes.Equal(one, other) {
		t.Error("two runs that keep nothing have one key")
	}
	if _, err := os.Stat(dir); err == nil {
		t.Error("a folder was made for what nobody asked to keep")
	}
	KeepMarkKey()
	one := MarkKey(ours)
	if !bytes.Equal(one, MarkKey(ours)) {
		t.Error("the key was not kept")
	}
	file := filepath.Join(dir, "marks.key")
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	if err := os.Chmod(file, 0o666); err != nil {
		t.Fatal(err)
	}
	if bytes.Equal(one, MarkKey(ours)) {
		t.Error("a key that others may write was used")
	}
}
