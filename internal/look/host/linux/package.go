//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"sync"
	"time"

	"uakari/internal/fact"
)

// A package manager keeps which files are of which package. owner is the package
// of a file of the system under root; none, if the manager has none for it.
type packageManager struct {
	state string // what changes with every package, under root: a file or a folder
	owner func(root, path string) (fact.Package, error)
}

// packageManagers is those that are known. A host has one of them as a rule.
var packageManagers = []packageManager{
	{"var/lib/dpkg/status", dpkgOwner},
	{"lib/apk/db/installed", apkOwner},
	{"var/lib/pacman/local", pacmanOwner},
	{"var/lib/rpm/rpmdb.sqlite", rpmOwner},
	{"usr/lib/sysimage/rpm/rpmdb.sqlite", rpmOwner},
}

// ownedFile is a file in a certain state of the package manager.
type ownedFile struct {
	root, path string
	since      time.Time // of the manager's state
	changed    time.Time // of the file
}

// owned remembers packages for as long as the program runs: a sweep asks for the
// same programs again and again.
var owned sync.Map // ownedFile to fact.Package

// packaged notes at each program from which package it came. Where no package
// manager that is known is, nothing is noted.
func packaged(programs []fact.Program, root string) {
	for i := range programs {
		if p := &programs[i]; p.Path != "" && (p.Why != "scheme" || len(p.Processes) > 0) {
			p.Package = packageOf(root, p.Path)
		}
	}
}

func packageOf(root, path string) fact.Package {
	for _, m := range packageManagers {
		state := filepath.Join(root, m.state)
		info, err := os.Stat(state)
		if err != nil {
			continue
		}
		key := ownedFile{root: root, path: path, since: info.ModTime()}
		if info, err := os.Stat(filepath.Join(root, path)); err == nil {
			key.changed = info.ModTime()
		}
		if known, ok := owned.Load(key); ok {
			return known.(fact.Package)
		}
		found, err := m.owner(root, path)
		if err != nil {
			return fact.Package{} // it is said of none; nothing rests on it
		}
		owned.Store(key, found)
		return found
	}
	return fact.Package{}
}

// Bounds on what is read of a package manager, in bytes, and on how many packages
// are looked through.
const (
	mostPackages     = 20_000
	mostPackageFiles = 2 << 20 // the files of one
	mostPackageState = 64 << 20
)
