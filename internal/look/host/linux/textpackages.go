//go:build linux

package linux

import (
	"bufio"
	"bytes"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look/file"
)

// apkOwner finds the package of a file in apk's database: a stanza for each
// package, with its name (P), its version (V), and its folders (F) with the files
// of each (R). See apk-installed-db(5). When it was installed is not in it.
func apkOwner(root, path string) (fact.Package, error) {
	text, err := file.Read(filepath.Join(root, "lib/apk/db/installed"), mostPackageState)
	if err != nil {
		return fact.Package{}, err
	}
	dir, name := filepath.Split(strings.TrimPrefix(path, "/"))
	dir = strings.TrimSuffix(dir, "/")
	var p fact.Package
	folder := ""
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		kind, value, _ := strings.Cut(lines.Text(), ":")
		switch kind {
		case "":
			p, folder = fact.Package{}, ""
		case "P":
			p.Name = value
		case "V":
			p.Version = value
		case "F":
			folder = value
		case "R":
			if value == name && folder == dir {
				return p, nil
			}
		}
	}
	return fact.Package{}, lines.Err()
}

// pacmanOwner finds the package of a file in pacman's database: a folder for each
// package with the files "files" and "desc", lists below a heading in percent signs.
func pacmanOwner(root, path string) (fact.Package, error) {
	lists, err := filepath.Glob(filepath.Join(root, "var/lib/pacman/local/*/files"))
	if err != nil {
		return fact.Package{}, err
	}
	room := make([]byte, 0, mostPackageFiles)
	for _, list := range lists[:min(len(lists), mostPackages)] {
		if room, err = readInto(room, list); err != nil || !hasFile(room, strings.TrimPrefix(path, "/")) {
			continue // of one package; the others still tell
		}
		text, err := file.Read(filepath.Join(filepath.Dir(list), "desc"), file.MostSettings)
		if err != nil {
			return fact.Package{}, err
		}
		under := map[string]string{}
		heading := ""
		for line := range strings.Lines(string(text)) {
			line = strings.TrimSpace(line)
			switch {
			case strings.HasPrefix(line, "%"):
				heading = line
			case line != "" && under[heading] == "":
				under[heading] = line
			}
		}
		p := fact.Package{Name: under["%NAME%"], Version: under["%VERSION%"]}
		if at, err := strconv.ParseInt(under["%INSTALLDATE%"], 10, 64); err == nil {
			p.Since = time.Unix(at, 0).UTC()
		}
		return p, nil
	}
	return fact.Package{}, nil
}
