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

// dpkgOwner finds the package whose list has a file. See dpkg(1), FILES, and
// deb-control(5). Packages that are called like the program are looked at first.
func dpkgOwner(root, path string) (fact.Package, error) {
	lists, err := filepath.Glob(filepath.Join(root, "var/lib/dpkg/info", "*.list"))
	if err != nil {
		return fact.Package{}, err
	}
	lists = lists[:min(len(lists), mostPackages)]
	like := filepath.Base(path)
	like = like[:min(len(like), 4)]
	other := func(list string) bool { return !strings.HasPrefix(filepath.Base(list), like) }
	alike := slices.DeleteFunc(slices.Clone(lists), other)
	room := make([]byte, 0, mostPackageFiles)
	for _, list := range append(alike, lists...) {
		if room, err = readInto(room, list); err != nil || !hasFile(room, path) {
			continue // of one package; the others still tell
		}
		name, _, _ := strings.Cut(strings.TrimSuffix(filepath.Base(list), ".list"), ":")
		state, err := file.Read(filepath.Join(root, "var/lib/dpkg/status"), mostPackageState)
		if err != nil {
			return fact.Package{}, err
		}
		found := fact.Package{Name: name, Version: versionIn(state, name)}
		if info, err := os.Stat(list); err == nil {
			found.Since = info.ModTime().UTC()
		}
		return found, nil
	}
	return fact.Package{}, nil
}

// readInto reads the beginning of a file into the room of another.
func readInto(room []byte, path string) ([]byte, error) {
	f, err := file.Open(path)
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

// versionIn is the version of a package in dpkg's state.
func versionIn(state []byte, name string) string {
	head := []byte("Package: " + name + "\n")
	at := bytes.Index(state, append([]byte("\n\n"), head...))
	switch {
	case bytes.HasPrefix(state, head):
		at = 0
	case at < 0:
		return ""
	}
	stanza, _, _ := bytes.Cut(bytes.TrimLeft(state[at:], "\n"), []byte("\n\n"))
	for line := range strings.Lines(string(stanza)) {
		if v, ok := strings.CutPrefix(line, "Version: "); ok {
			return strings.TrimSpace(v)
		}
	}
	return ""
}
