package file

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestPipe waits for no pipe that was not typed, and for one that was as long
// as it may.
func TestPipe(t *testing.T) {
	pipe := filepath.Join(t.TempDir(), "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Read(pipe, 9); !errors.Is(err, ErrKind) {
		t.Errorf("%v", err)
	}
	ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
	defer cancel()
	began := time.Now()
	if _, err := Typed(ctx, pipe, 9); err == nil ||
		!strings.Contains(err.Error(), "nothing came before the deadline") || time.Since(began) > time.Second {
		t.Errorf("%v, after %s", err, time.Since(began))
	}
	pipe = filepath.Join(t.TempDir(), "pipe") // nobody waits for this one yet
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	go os.WriteFile(pipe, []byte("tide"), 0)
	ctx, cancel = context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if text, err := Typed(ctx, pipe, 9); err != nil || string(text) != "tide" {
		t.Errorf("%q, %v", text, err)
	}
}

// TestForeign reads for an account what it may have, on real files, and names
// who stands behind what a file names.
func TestForeign(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root: files of others")
	}
	dir, err := os.MkdirTemp("/var/tmp", "uakari") // root's, and open to all
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	own := put(t, filepath.Join(dir, "own"), "a", 0o600)
	public, secret := put(t, filepath.Join(dir, "public"), "b", 0o644),
		put(t, filepath.Join(dir, "secret"), "c", 0o600)
	other := put(t, filepath.Join(dir, "other"), "d", 0o644)
	link := filepath.Join(dir, "link")
	gauge := Account{UID: 4242}
	for _, err := range []error{os.Chown(own, 4242, 4242), os.Chown(other, 4243, 4243), os.Symlink(secret, link)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for path, fine := range map[string]bool{own: true, public: true, secret: false, other: false, link: false} {
		if _, err := gauge.Head(path, 9); (err == nil) != fine || err != nil && !errors.Is(err, ErrForeign) {
			t.Errorf("%s: %v", path, err)
		}
		if _, err := (Account{}).Head(path, 9); err != nil {
			t.Errorf("%s, for root: %v", path, err)
		}
	}
	if text, by, err := (Account{}).Settings(own, 9); err != nil || string(text) != "a" || by.UID != 4242 {
		t.Errorf("%q, %+v, %v", text, by, err)
	}
	if _, by, err := gauge.Settings(public, 9); err != nil || by.UID != 4242 {
		t.Errorf("%+v, %v", by, err)
	}
	if Writer(own).UID != 4242 || !Writer(secret).Root() {
		t.Error("who wrote a file is not told")
	}
	if a, err := OfProcess(os.Getpid()); err != nil || !a.Root() {
		t.Errorf("%+v, %v", a, err)
	}
}
