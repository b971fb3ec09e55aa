//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"testing"

	"uakari/internal/fact"
)

// TestPackaged finds from which package a program came, and in which version.
func TestPackaged(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"tides.list":            "/.\n/sbin/tided\n",
		"tide-tools:amd64.list": "/.\n/usr/bin/tided-tool\n/usr/bin/tided\n",
		"status":                "Package: tide-tools\nVersion: 1:2.0-3\n\nPackage: tides\nStatus: install ok installed\nVersion: 0.9\n",
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	programs := []fact.Program{
		{Path: "/usr/sbin/tided", Why: "holder"}, {Path: "/usr/bin/tided", Why: "unit"}, {Path: "/opt/tided", Why: "unit"},
		{Path: "/usr/bin/tided", Why: "scheme"},
	}
	packaged(programs, dir, filepath.Join(dir, "status"))
	for i, want := range []fact.Package{{Name: "tides", Version: "0.9"}, {Name: "tide-tools", Version: "1:2.0-3"}, {}, {}} {
		got := programs[i].Package
		if got.Name != want.Name || got.Version != want.Version || got.Since.IsZero() != (want.Name == "") {
			t.Errorf("%s: %+v, want %+v", programs[i].Path, got, want)
		}
	}
}
