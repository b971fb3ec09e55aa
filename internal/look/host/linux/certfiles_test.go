//go:build linux

package linux

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/look/host/programfiles"
)

func put(t *testing.T, path, text string, mode os.FileMode) string {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestRights is users on a path, each stopped at one level or at none.
func TestRights(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("needs root: files of other users")
	}
	dir, err := os.MkdirTemp("/var/tmp", "uakari-rights")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	file := put(t, filepath.Join(dir, "a", "b", "tide.txt"), "3.1", 0o644)
	for _, c := range []struct {
		path             string
		mode             os.FileMode
		user, why, grant string
	}{
		{file, 0o644, "nobody", "", ""},
		{file, 0o600, "nobody", "nobody may not read " + file, "o+r"},
		{filepath.Join(dir, "a"), 0o700, "nobody", "nobody may not enter " + filepath.Join(dir, "a"), "o+x"},
		{filepath.Join(dir, "a"), 0o000, "root", "", ""},
	} {
		was, err := os.Stat(c.path)
		if err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(c.path, c.mode); err != nil {
			t.Fatal(err)
		}
		_, why, _, grant := stoppedOn(c.user, file)
		if !strings.HasPrefix(why, c.why) || c.why == "" && why != "" || grant != c.grant {
			t.Errorf("%s at %04o: %q, %q", c.path, c.mode, why, grant)
		}
		if err := os.Chmod(c.path, was.Mode().Perm()); err != nil {
			t.Fatal(err)
		}
	}
}

// TestSSHKeys is which file sshd takes an account's keys from, and whether it
// does.
func TestSSHKeys(t *testing.T) {
	dir := t.TempDir()
	a := fact.Account{Name: "gauge", Home: dir, UID: fmt.Sprint(os.Getuid())}
	a.KeysFile = filepath.Join(dir, "none")
	for text, want := range map[string]string{
		"":                                  dir + "/.ssh/authorized_keys true ",
		"AuthorizedKeysFile keys/%u\n":      dir + "/keys/gauge true ",
		"StrictModes no\nStrictModes yes\n": dir + "/.ssh/authorized_keys false ",
		"AuthorizedKeysCommand /bin/keys\n": dir + "/.ssh/authorized_keys true /bin/keys",
		"Match User x\nAuthorizedKeysFile y": dir +
			"/.ssh/authorized_keys true settings of sshd that hold for some only",
	} {
		conf := put(t, filepath.Join(dir, "sshd_config"), text, 0o600)
		path, strict, other := keysIn(&a, programfiles.WithIncluded([]string{conf}, file.Account{}))
		if got := fmt.Sprintf("%s %t %s", path, strict, other); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// TestSameRoot tells a process with a root of its own.
func TestSameRoot(t *testing.T) {
	if !sameRoot(os.Getpid()) {
		t.Error("this process has another root than itself")
	}
	if os.Getuid() != 0 {
		t.Skip("needs root: another root")
	}
	cmd := exec.Command(
		"unshare",
		"-m",
		"sh",
		"-c",
		`mount -t tmpfs tmpfs "$0" && cd "$0" && mkdir usr && mount --rbind /usr usr && ln -s usr/bin usr/lib `+
			`usr/lib64 . && exec chroot . /usr/bin/sleep 10`,
		t.TempDir(),
	)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer cmd.Wait()
	defer cmd.Process.Kill()
	for range 50 {
		if name := programName(cmd.Process.Pid); name == "sleep" {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if sameRoot(cmd.Process.Pid) {
		t.Error("a process with a root of its own is taken for one of this host's")
	}
	if files := onHost.SettingsOf(programfiles.Shipped("nginx"), cmd.Process.Pid); files != nil {
		t.Errorf("its settings: %+v", files)
	}
}

// TestTooOpen is keys as PostgreSQL takes them and does not.
func TestTooOpen(t *testing.T) {
	for mode, want := range map[os.FileMode]bool{0o600: false, 0o640: os.Getuid() != 0, 0o644: true, 0o604: true} {
		path := put(t, filepath.Join(t.TempDir(), "a.key"), "x", mode)
		info, err := os.Stat(path)
		if err != nil {
			t.Fatal(err)
		}
		if text := tooOpen(path, info); (text != "") != want {
			t.Errorf("%04o: %q", mode, text)
		}
	}
}
