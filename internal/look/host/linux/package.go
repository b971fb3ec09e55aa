//go:build linux

package linux

import (
	"bytes"
	"errors"
	"io"
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

// Bounds on how many packages are looked through, and on what is read.
const (
	mostLists = 20_000
	mostList  = 2 << 20 // of the files of one
	mostState = 64 << 20
)

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
	text := make([]byte, 0, mostList)
	for _, list := range lists[:min(len(lists), mostLists)] {
		if text, err = readInto(text, list); err != nil {
			continue // of one package; the others still tell
		}
		for path, of := range wanted {
			if !hasFile(text, path) {
				continue
			}
			if stanzas == nil {
				all, err := file.Read(state, mostState)
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
			delete(wanted, path) // a file is of one package
		}
		if len(wanted) == 0 {
			return
		}
	}
}

// readInto reads the beginning of a file into the room of another.
func readInto(room []byte, path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return room[:0], err
	}
	defer f.Close()
	room = room[:cap(room)]
	n, err := io.ReadFull(f, room)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	return room[:n], err
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
