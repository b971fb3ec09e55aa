//go:build linux

package linux

import (
	"bytes"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look/file"
)

// Where dpkg keeps what is installed: a list of files and a stanza for each
// package. See dpkg(1), FILES, and deb-control(5).
const (
	packageLists = "/var/lib/dpkg/info"
	packageState = "/var/lib/dpkg/status"
)

// mostLists bounds how many packages are looked through.
const mostLists = 20_000

// packaged notes at each program from which package it came. Where no package
// manager of this kind is, nothing is noted.
func packaged(programs []fact.Program, dir, state string) {
	wanted := map[string][]*fact.Program{}
	for i := range programs {
		if p := &programs[i]; p.Path != "" && p.Why != "scheme" {
			wanted[p.Path] = append(wanted[p.Path], p)
		}
	}
	if len(wanted) == 0 {
		return
	}
	lists, err := filepath.Glob(filepath.Join(dir, "*.list"))
	if err != nil {
		return // the pattern is this program's own
	}
	var stanzas [][]byte
	for _, list := range lists[:min(len(lists), mostLists)] {
		text, err := file.Read(list, 8<<20)
		if err != nil {
			continue // of one package; the others still tell
		}
		for path, of := range wanted {
			if !hasFile(text, path) {
				continue
			}
			if stanzas == nil {
				all, err := file.Read(state, 64<<20)
				if err != nil {
					return
				}
				stanzas = bytes.Split(all, []byte("\n\n"))
			}
			name, _, _ := strings.Cut(strings.TrimSuffix(filepath.Base(list), ".list"), ":")
			found := fact.Package{Name: name, Version: versionIn(stanzas, name)}
			if info, err := os.Stat(list); err == nil {
				found.Since = info.ModTime().UTC()
			}
			for _, p := range of {
				p.Package = found
			}
		}
	}
}

// hasFile reports whether a package's list has a file, under its name or under
// the one from before /usr was merged.
func hasFile(text []byte, path string) bool {
	for _, name := range []string{path, strings.TrimPrefix(path, "/usr")} {
		if bytes.Contains(text, []byte("\n"+name+"\n")) {
			return true
		}
	}
	return false
}

// versionIn is the version of a package in the stanzas of dpkg's state.
func versionIn(stanzas [][]byte, name string) string {
	at := slices.IndexFunc(stanzas, func(s []byte) bool {
		return bytes.HasPrefix(bytes.TrimLeft(s, "\n"), []byte("Package: "+name+"\n"))
	})
	if at < 0 {
		return ""
	}
	for line := range strings.Lines(string(stanzas[at])) {
		if v, ok := strings.CutPrefix(line, "Version: "); ok {
			return strings.TrimSpace(v)
		}
	}
	return ""
}
