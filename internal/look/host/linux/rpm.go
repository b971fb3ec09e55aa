//go:build linux

package linux

import (
	"bytes"
	"database/sql"
	"encoding/binary"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // the driver

	"uakari/internal/fact"
)

// Tags of a package's header: rpmtag.h of RPM.
const (
	rpmName       = 1000
	rpmVersion    = 1001
	rpmRelease    = 1002
	rpmInstalled  = 1008
	rpmDirIndexes = 1116
	rpmBasenames  = 1117
	rpmDirnames   = 1118
)

// rpmOwner finds the package of a file in RPM's database: its index of file names
// leads to headers of packages, of which one has the file in its folder.
func rpmOwner(root, path string) (fact.Package, error) {
	place := filepath.Join(root, "var/lib/rpm/rpmdb.sqlite")
	if _, err := os.Stat(place); err != nil {
		place = filepath.Join(root, "usr/lib/sysimage/rpm/rpmdb.sqlite")
	}
	// It is only read, as it stands: nothing of it is made or locked.
	at := url.URL{Scheme: "file", Opaque: (&url.URL{Path: place}).EscapedPath(), RawQuery: "mode=ro&immutable=1"}
	db, err := sql.Open("sqlite", at.String())
	if err != nil {
		return fact.Package{}, err
	}
	defer db.Close()
	rows, err := db.Query(`SELECT p.blob FROM Basenames b JOIN Packages p ON p.hnum = b.hnum WHERE b.key = ? LIMIT `+
		`100`, filepath.Base(path))
	if err != nil {
		return fact.Package{}, err
	}
	defer rows.Close()
	for rows.Next() {
		var blob []byte
		if err := rows.Scan(&blob); err != nil {
			return fact.Package{}, err
		}
		h, err := readRPMHeader(blob)
		if err != nil {
			return fact.Package{}, err
		}
		if h.hasFile(path) {
			p := fact.Package{Name: h.text(rpmName), Version: h.text(rpmVersion) + "-" + h.text(rpmRelease)}
			if at := h.numbers(rpmInstalled); len(at) > 0 {
				p.Since = time.Unix(int64(at[0]), 0).UTC()
			}
			return p, nil
		}
	}
	return fact.Package{}, rows.Err()
}

// rpmHeader is a package's header: for each tag where its values begin, and how many
// there are. See "Package format" of RPM's documentation, header structure.
type rpmHeader struct {
	at    map[uint32]rpmEntry
	store []byte
}

type rpmEntry struct{ offset, count uint32 }

var errRPM = errors.New("no header of an RPM package")

func readRPMHeader(blob []byte) (rpmHeader, error) {
	const intro, entry = 8, 16
	if len(blob) < intro {
		return rpmHeader{}, errRPM
	}
	entries, size := uint64(binary.BigEndian.Uint32(blob)), uint64(binary.BigEndian.Uint32(blob[4:]))
	if intro+entries*entry+size > uint64(len(blob)) {
		return rpmHeader{}, errRPM
	}
	h := rpmHeader{map[uint32]rpmEntry{}, blob[intro+entries*entry:]}
	for i := range entries {
		e := blob[intro+i*entry:]
		h.at[binary.BigEndian.Uint32(e)] = rpmEntry{binary.BigEndian.Uint32(e[8:]), binary.BigEndian.Uint32(e[12:])}
	}
	return h, nil
}

// texts is the values of a tag that are text, each of which ends in a zero.
func (h rpmHeader) texts(tag uint32) (list []string) {
	e, ok := h.at[tag]
	if !ok || uint64(e.offset) > uint64(len(h.store)) {
		return nil
	}
	rest := h.store[e.offset:]
	for range e.count {
		text, more, ok := bytes.Cut(rest, []byte{0})
		if !ok {
			return list
		}
		list, rest = append(list, string(text)), more
	}
	return list
}

func (h rpmHeader) text(tag uint32) string {
	if list := h.texts(tag); len(list) > 0 {
		return list[0]
	}
	return ""
}

// numbers is the values of a tag that are numbers of 32 bits.
func (h rpmHeader) numbers(tag uint32) (list []uint32) {
	e, ok := h.at[tag]
	if !ok || uint64(e.offset)+4*uint64(e.count) > uint64(len(h.store)) {
		return nil
	}
	for i := range e.count {
		list = append(list, binary.BigEndian.Uint32(h.store[e.offset+4*i:]))
	}
	return list
}

// hasFile reports whether a package has a file.
func (h rpmHeader) hasFile(path string) bool {
	dirs, indexes := h.texts(rpmDirnames), h.numbers(rpmDirIndexes)
	for i, name := range h.texts(rpmBasenames) {
		if i < len(indexes) && int(indexes[i]) < len(dirs) && dirs[indexes[i]]+name == path {
			return true
		}
	}
	return false
}
