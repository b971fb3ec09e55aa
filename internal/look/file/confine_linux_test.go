package file

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
)

// Once confined, no link leads out: neither an absolute one, nor one upwards, nor one of the kernel.
func TestConfined(t *testing.T) {
	outside, root := t.TempDir(), t.TempDir()
	for path, text := range map[string]string{
		filepath.Join(outside, "key"): "outside", filepath.Join(root, "settings"): "inside",
	} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	links := map[string]string{
		"absolute": filepath.Join(outside, "key"), "upwards": "../../../../../.." + filepath.Join(outside, "key"),
		"kernel": fmt.Sprintf("/proc/%d/root%s", os.Getpid(), filepath.Join(outside, "key")), "well": "/settings",
	}
	for name, to := range links {
		if err := os.Symlink(to, filepath.Join(root, name)); err != nil {
			t.Fatal(err)
		}
	}
	for name := range links {
		if name == "well" {
			continue
		}
		if text, err := Read(filepath.Join(root, name), MostSettings); err != nil || string(text) != "outside" {
			t.Fatalf("%s: %q, %v: the link does not lead out before", name, text, err)
		}
	}
	if err := confineTo(root); err != nil {
		t.Fatal(err)
	}
	defer func() { beneath.Close(); beneath = nil }()
	for name := range links {
		f, err := opened("/" + name)
		if name != "well" {
			if err == nil {
				f.Close()
				t.Errorf("%s: the link leads out", name)
			}
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		text := make([]byte, 6)
		if _, err := f.Read(text); err != nil || string(text) != "inside" {
			t.Errorf("%s: %q, %v", name, text, err)
		}
		f.Close()
	}
}
