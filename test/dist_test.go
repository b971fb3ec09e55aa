package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestDist builds what is handed out twice, with the same bytes, and installs,
// runs, upgrades and removes the package on a clean host.
func TestDist(t *testing.T) {
	if os.Getenv("UAKARI_LIVE") == "" {
		t.Skip("set UAKARI_LIVE=all to build the packages")
	}
	dir := t.TempDir()
	var sums []string
	for _, name := range []string{"one", "two"} {
		cmd := exec.Command("go", "run", ".", "..", filepath.Join(dir, name))
		cmd.Dir = "../dist"
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		sums = append(sums, readFile(t, filepath.Join(dir, name, "SHA256SUMS")))
	}
	if sums[0] != sums[1] || strings.Count(sums[0], "\n") != 9 {
		t.Errorf("not the same bytes twice:\n%s\n%s", sums[0], sums[1])
	}
	packages, err := filepath.Glob(filepath.Join(dir, "one", "*_amd64.deb"))
	if err != nil || len(packages) != 1 {
		t.Fatalf("%v %v", packages, err)
	}
	h := boot(t)
	h.put("/root/uakari.deb", readFile(t, packages[0]))
	h.do(
		"dpkg -i /root/uakari.deb && uakari version && test -f /usr/share/man/man1/uakari-trace.1 && test -f " +
			"/usr/share/bash-completion/completions/uakari",
	)
	h.do(
		"uakari card check /usr/share/doc/uakari/docs/examples/tidebook.card.yaml && uakari demo healthy | grep -q " +
			"'^Yes: '",
	)
	h.do("dpkg -i /root/uakari.deb && dpkg -r uakari && ! command -v uakari")
}
