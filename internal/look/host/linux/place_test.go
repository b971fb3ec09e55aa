//go:build linux

package linux

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/sys/unix"
)

// TestForeignSocket has an engine's socket, or a folder above it, belong to another
// account: nobody asks it.
func TestForeignSocket(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can give files away")
	}
	dir := filepath.Join("/run", "uakari-test-"+filepath.Base(t.TempDir()))
	if err := os.MkdirAll(filepath.Join(dir, "podman"), 0o755); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "podman", "podman.sock")
	if err := os.WriteFile(socket, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if why := foreignSocket(socket); why != "" {
		t.Errorf("root's own: %s", why)
	}
	for _, of := range []string{socket, dir} {
		if err := os.Chown(of, 12345, 12345); err != nil {
			t.Fatal(err)
		}
		if why := foreignSocket(socket); !strings.Contains(why, of+" belongs to user 12345") {
			t.Errorf("%s of another account: %q", of, why)
		}
		if err := os.Chown(of, 0, 0); err != nil {
			t.Fatal(err)
		}
	}
}

// TestPlaceRights is what a process in a place may do: what it may itself and this one, too.
func TestPlaceRights(t *testing.T) {
	r, err := rightsOf(os.Getpid())
	if err != nil {
		t.Fatal(err)
	}
	if r.uid != os.Geteuid() || r.gid != os.Getegid() {
		t.Errorf("%+v", r)
	}
	if _, err := rightsOf(1 << 30); err == nil {
		t.Error("a process that is not there has rights")
	}
}

// settles, in the environment, makes the test's own process the one that settles.
const settles = "UAKARI_TEST_SETTLES"

// TestSettle has a process that settled execute nothing any more.
func TestSettle(t *testing.T) {
	if os.Getenv(settles) == "" {
		cmd := exec.Command("/proc/self/exe", "-test.run", "^TestSettle$", "-test.v")
		cmd.Env = append(os.Environ(), settles+"=1")
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%v: %s", err, out)
		}
		return
	}
	if err := exec.Command("/bin/true").Run(); err != nil {
		t.Fatal(err)
	}
	if err := Settle(); err != nil {
		t.Fatal(err)
	}
	if err := exec.Command("/bin/true").Run(); !errors.Is(err, unix.EPERM) {
		t.Errorf("executed: %v", err)
	}
}
