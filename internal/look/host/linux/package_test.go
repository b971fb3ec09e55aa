//go:build linux

package linux

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
)

// TestPackaged finds from which package a program came, in which version and since
// when, with each package manager's own files.
func TestPackaged(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		want  map[string]fact.Package
	}{
		"dpkg": {
			map[string]string{
				"var/lib/dpkg/info/tides.list":            "/.\n/sbin/tided\n",
				"var/lib/dpkg/info/tide-tools:amd64.list": "/.\n/usr/bin/tided-tool\n/usr/bin/tided\n",
				"var/lib/dpkg/status": "Package: tide-tools\nVersion: 1:2.0-3\n\nPackage: " +
					"tides\nStatus: install ok installed\nVersion: 0.9\n",
			},
			map[string]fact.Package{
				"/usr/sbin/tided": {Name: "tides", Version: "0.9"},
				"/usr/bin/tided":  {Name: "tide-tools", Version: "1:2.0-3"}, "/opt/tided": {},
			},
		},
		"apk": {
			map[string]string{
				"lib/apk/db/installed": "P:other\nV:1\nF:usr/sbin\nR:tided-tool\n\nC:Q1x=\nP:tides\nV:0.9-r2\nF:usr\nF:usr/sbin\nR:tided\na:0:0:755\nF:etc\nR:tides.conf\n",
			},
			map[string]fact.Package{"/usr/sbin/tided": {Name: "tides", Version: "0.9-r2"}, "/etc/tided": {},
				"/usr/sbin/tides.conf": {}},
		},
		"pacman": {
			map[string]string{
				"var/lib/pacman/local/tides-0.9-1/files": "%FILES%\nusr/\nusr/bin/\nusr/bin/tided\n",
				"var/lib/pacman/local/tides-0.9-1/desc":  "%NAME%\ntides\n\n%VERSION%\n0.9-1\n\n%INSTALLDATE%\n1764201600\n",
			},
			map[string]fact.Package{"/usr/bin/tided": {Name: "tides", Version: "0.9-1",
				Since: time.Unix(1764201600, 0).UTC()}, "/usr/bin/tide": {}},
		},
		"none": {nil, map[string]fact.Package{"/usr/bin/tided": {}}},
	} {
		root := t.TempDir()
		for file, text := range c.files {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(root, file)), 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(root, file), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		for path, want := range c.want {
			programs := []fact.Program{{Path: path, Why: "holder"}, {Path: path, Why: "scheme"}}
			packaged(programs, root)
			got := programs[0].Package
			if got.Name != want.Name || got.Version != want.Version ||
				name != "dpkg" && !got.Since.Equal(want.Since) || name == "dpkg" &&
				got.Since.IsZero() != (want.Name == "") {
				t.Errorf("%s, %s: %+v, want %+v", name, path, got, want)
			}
			if programs[1].Package.Name != "" {
				t.Errorf("%s, %s: what is only known by the scheme is looked for", name, path)
			}
		}
	}
}

// TestRPM reads a database that RPM itself made.
func TestRPM(t *testing.T) {
	if _, err := exec.LookPath("rpmbuild"); err != nil {
		if os.Getenv("UAKARI_LIVE") == "all" {
			t.Fatal("needs rpmbuild: apt-get install rpm")
		}
		t.Skip("needs rpmbuild: apt-get install rpm")
	}
	dir := t.TempDir()
	root := filepath.Join(dir, "root")
	spec := "Name: tides\nVersion: 0.9\nRelease: 4\nSummary: tides\nLicense: none\nBuildArch: " +
		"noarch\n%description\nx\n" +
		"%install\nmkdir -p %{buildroot}/usr/sbin %{buildroot}/usr/bin\necho > %{buildroot}/usr/sbin/tided\necho > " +
		"%{buildroot}/usr/bin/tided-tool\n" +
		"%files\n/usr/sbin/tided\n/usr/bin/tided-tool\n"
	if err := os.WriteFile(filepath.Join(dir, "tides.spec"), []byte(spec), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, words := range [][]string{
		{"rpmbuild", "--quiet", "-bb", "--define", "_topdir " + dir, filepath.Join(dir, "tides.spec")},
		{"sh", "-c", "rpm --root " + root + " --dbpath /var/lib/rpm --nodeps -i " + dir + "/RPMS/noarch/*.rpm"},
	} {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", words, err, out)
		}
	}
	for path, want := range map[string]string{"/usr/sbin/tided": "tides 0.9-4", "/usr/bin/tided-tool": "tides 0.9-4",
		"/usr/bin/tided": ""} {
		programs := []fact.Program{{Path: path, Why: "holder"}}
		packaged(programs, root)
		got := programs[0].Package
		if strings.TrimSpace(got.Name+" "+got.Version) != want || want != "" &&
			time.Since(got.Since).Abs() > time.Hour {
			t.Errorf("%s: %+v, want %q", path, got, want)
		}
	}
}

// FuzzRPMHeader reads headers that RPM did not make.
func FuzzRPMHeader(f *testing.F) {
	f.Add([]byte{0, 0, 0, 1, 0, 0, 0, 4, 0, 0, 3, 232, 0, 0, 0, 6, 0, 0, 0, 0, 0, 0, 0, 1, 'a', 0, 0, 0})
	f.Fuzz(func(t *testing.T, blob []byte) {
		if h, err := readRPMHeader(blob); err == nil {
			h.hasFile("/usr/sbin/" + h.text(rpmName))
			h.numbers(rpmInstalled)
		}
	})
}
