// Dist builds what is handed out: static programs, packages of Debian and of
// RPM's systems with their manual pages and completions, checksums, and a list of
// what is in them (SPDX 2.3). The same input gives the same bytes.
package main

import (
	"crypto/sha256"
	"debug/buildinfo"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// epoch is the time that everything is stamped with, unless SOURCE_DATE_EPOCH
// says another.
const epoch = 1_764_201_600

var targets = []struct{ system, arch string }{
	{"linux", "amd64"},
	{"linux", "arm64"},
	{"windows", "amd64"},
	{"darwin", "arm64"},
}

// arches is how packages call architectures.
var arches = map[string]string{"amd64": "amd64", "arm64": "arm64"}

// day is the day of the source, of its last commit; "" where that is not known.
func day(root string) string {
	cmd := exec.Command("git", "show", "-s", "--format=%cs", "HEAD")
	cmd.Dir = root
	text, err := cmd.Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(text))
}

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "dist ROOT OUT: expected the folder of the sources and one to write to")
		os.Exit(2)
	}
	if err := build(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "dist:", err)
		os.Exit(1)
	}
}

func build(root, out string) error {
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	out, err := filepath.Abs(out)
	if err != nil {
		return err
	}
	var made []string
	for _, t := range targets {
		name := "uakari-" + t.system + "-" + t.arch
		if t.system == "windows" {
			name += ".exe"
		}
		cmd := exec.Command(
			"go",
			"build",
			"-trimpath",
			"-buildvcs=false",
			"-ldflags=-s -w -buildid= -X uakari/internal/cli.Day="+day(root),
			"-o",
			filepath.Join(out, name),
			"./cmd/uakari",
		)
		cmd.Dir, cmd.Stderr = root, os.Stderr
		cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+t.system, "GOARCH="+t.arch)
		if err := cmd.Run(); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		made = append(made, name)
	}
	work, err := os.MkdirTemp("", "uakari-dist")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	version, err := shells(out, work)
	if err != nil {
		return err
	}
	for _, t := range targets {
		if t.system != "linux" {
			continue
		}
		for _, kind := range []string{"deb", "rpm"} {
			name, err := pack(root, out, work, kind, t.arch, version)
			if err != nil {
				return fmt.Errorf("%s for %s: %w", kind, t.arch, err)
			}
			made = append(made, name)
		}
	}
	bill, err := contents(out, version, made)
	if err != nil {
		return err
	}
	return sums(out, append(made, bill))
}

// shells writes the completions, by the program itself, and says its version.
func shells(out, work string) (version string, err error) {
	program := filepath.Join(out, "uakari-linux-amd64")
	for _, shell := range []string{"bash", "zsh", "fish"} {
		text, err := exec.Command(program, "completion", shell).Output()
		if err != nil {
			return "", fmt.Errorf("completion for %s: %w", shell, err)
		}
		if err := os.WriteFile(filepath.Join(work, shell), text, 0o644); err != nil {
			return "", err
		}
	}
	text, err := exec.Command(program, "version").Output()
	if err != nil {
		return "", err
	}
	fields := strings.Fields(string(text))
	if len(fields) < 2 {
		return "", fmt.Errorf("the program says no version: %q", text)
	}
	return fields[1], nil
}

func stamp() time.Time {
	if text := os.Getenv("SOURCE_DATE_EPOCH"); text != "" {
		var n int64
		if _, err := fmt.Sscan(text, &n); err == nil {
			return time.Unix(n, 0).UTC()
		}
	}
	return time.Unix(epoch, 0).UTC()
}

// pack makes one package.
func pack(root, out, work, kind, arch, version string) (string, error) {
	var list files.Contents
	add := func(from, to string, mode os.FileMode) {
		list = append(
			list,
			&files.Content{
				Source:      from,
				Destination: to,
				FileInfo:    &files.ContentFileInfo{Mode: mode, MTime: stamp(), Owner: "root", Group: "root"},
			},
		)
	}
	add(filepath.Join(out, "uakari-linux-"+arch), "/usr/bin/uakari", 0o755)
	add(filepath.Join(work, "bash"), "/usr/share/bash-completion/completions/uakari", 0o644)
	add(filepath.Join(work, "zsh"), "/usr/share/zsh/vendor-completions/_uakari", 0o644)
	add(filepath.Join(work, "fish"), "/usr/share/fish/vendor_completions.d/uakari.fish", 0o644)
	for pattern, folder := range map[string]string{
		"docs/man/*.1": "/usr/share/man/man1", "docs/schema/*.json": "/usr/share/doc/uakari/docs/schema",
		"docs/examples/*": "/usr/share/doc/uakari/docs/examples",
		"README.md":       "/usr/share/doc/uakari", "CHANGELOG.md": "/usr/share/doc/uakari",
		"LICENSE": "/usr/share/doc/uakari", "docs/*.md": "/usr/share/doc/uakari/docs",
		"docs/*.service": "/usr/lib/systemd/system",
	} {
		found, err := filepath.Glob(filepath.Join(root, pattern))
		if err != nil {
			return "", err
		}
		if len(found) == 0 {
			return "", fmt.Errorf("%s: there is no such file", pattern)
		}
		for _, file := range found {
			add(file, folder+"/"+filepath.Base(file), 0o644)
		}
	}
	slices.SortFunc(list, func(a, b *files.Content) int { return strings.Compare(a.Destination, b.Destination) })
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "uakari", Arch: arches[arch], Platform: "linux", Version: version, Section: "net", Priority: "optional",
		MTime:      stamp(),
		Maintainer: "Várzea Hydrology Office <desk@varzea.example>", License: "Apache-2.0",
		Description: "says why a client cannot reach a server application\nIt looks from both ends, names every " +
			"cause that it can prove, and says the\nsmallest safe change. It changes nothing by itself.",
		Overridables: nfpm.Overridables{Contents: list},
	})
	packager, err := nfpm.Get(kind)
	if err != nil {
		return "", err
	}
	name := packager.ConventionalFileName(info)
	f, err := os.Create(filepath.Join(out, name))
	if err != nil {
		return "", err
	}
	return name, errors.Join(packager.Package(info, f), f.Close())
}

// contents writes what modules are in the program, as SPDX 2.3.
func contents(out, version string, made []string) (string, error) {
	built, err := buildinfo.ReadFile(filepath.Join(out, made[0]))
	if err != nil {
		return "", err
	}
	type item map[string]any
	packages := []item{
		{
			"name":             "uakari",
			"SPDXID":           "SPDXRef-uakari",
			"versionInfo":      version,
			"downloadLocation": "NOASSERTION",
			"licenseConcluded": "Apache-2.0",
			"filesAnalyzed":    false,
		},
	}
	relations := []item{
		{"spdxElementId": "SPDXRef-DOCUMENT", "relationshipType": "DESCRIBES", "relatedSpdxElement": "SPDXRef-uakari"},
	}
	for i, m := range built.Deps {
		id := fmt.Sprintf("SPDXRef-module-%d", i+1)
		packages = append(packages, item{
			"name": m.Path, "SPDXID": id, "versionInfo": m.Version, "downloadLocation": "NOASSERTION",
			"licenseConcluded": "NOASSERTION", "filesAnalyzed": false,
			"externalRefs": []item{
				{
					"referenceCategory": "PACKAGE-MANAGER",
					"referenceType":     "purl",
					"referenceLocator":  "pkg:golang/" + m.Path + "@" + m.Version,
				},
			},
		})
		relations = append(
			relations,
			item{"spdxElementId": "SPDXRef-uakari", "relationshipType": "DEPENDS_ON", "relatedSpdxElement": id},
		)
	}
	text, err := json.MarshalIndent(item{
		"spdxVersion": "SPDX-2.3", "dataLicense": "CC0-1.0", "SPDXID": "SPDXRef-DOCUMENT", "name": "uakari-" + version,
		"documentNamespace": "https://varzea.example/uakari/" + version,
		"creationInfo":      item{"created": stamp().Format(time.RFC3339), "creators": []string{"Tool: uakari-dist"}},
		"packages":          packages, "relationships": relations,
	}, "", "  ")
	if err != nil {
		return "", err
	}
	return "uakari.spdx.json", os.WriteFile(filepath.Join(out, "uakari.spdx.json"), append(text, '\n'), 0o644)
}

// sums writes the checksum of everything.
func sums(out string, made []string) error {
	slices.Sort(made)
	var b strings.Builder
	for _, name := range made {
		text, err := os.ReadFile(filepath.Join(out, name))
		if err != nil {
			return err
		}
		sum := sha256.Sum256(text)
		fmt.Fprintf(&b, "%s  %s\n", hex.EncodeToString(sum[:]), name)
	}
	return os.WriteFile(filepath.Join(out, "SHA256SUMS"), []byte(b.String()), 0o644)
}
