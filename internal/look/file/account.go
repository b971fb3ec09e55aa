package file

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
)

// Account is whoever named a path: another user's process, or settings that
// another user wrote. What it could not read itself is not read for it, and
// neither is what a third account owns: else any user of a host could have root
// copy any file of it. The zero value is root, for whom all is read.
type Account struct {
	UID  uint32
	GIDs []uint32
}

// ErrForeign says that a file was named by an account that it is not for.
var ErrForeign = errors.New("named by an account that may not read it, or not its own")

// Root reports whether everything is read for an account.
func (a Account) Root() bool { return a.UID == 0 }

// Settings reads the first bytes of a settings file for an account, at most so
// many, and says who stands behind what it names in turn: the owner of the file,
// where the account is root and that is another.
func (a Account) Settings(path string, most int64) (text []byte, by Account, err error) {
	f, err := a.Open(path)
	if err != nil {
		return nil, a, err
	}
	defer f.Close()
	if a.Root() {
		info, err := f.Stat()
		if err != nil {
			return nil, a, err
		}
		a = ownerOf(info)
	}
	text, err = io.ReadAll(io.LimitReader(f, most))
	return text, a, err
}

// Open opens a regular file for an account.
func (a Account) Open(path string) (*os.File, error) {
	f, err := Open(path)
	if err != nil || a.Root() {
		return f, err
	}
	if err := a.mayHave(f); err != nil {
		f.Close()
		return nil, &fs.PathError{Op: "read", Path: path, Err: err}
	}
	return f, nil
}

// Head reads the first bytes of a file for an account, at most so many.
func (a Account) Head(path string, most int64) ([]byte, error) {
	f, err := a.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, most))
}

// Tail reads the last bytes of a file for an account, at most so many.
func (a Account) Tail(path string, most int64) ([]byte, error) {
	f, err := a.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err == nil && info.Size() > most {
		_, err = f.Seek(-most, io.SeekEnd)
	}
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(f, most))
}

// entry is who owns a file or folder, and what its mode lets others do.
type entry struct {
	uid, gid uint32
	mode     fs.FileMode
}

// Bits of a mode.
const (
	toRead  = 4
	toEnter = 1
)

// may reports whether the mode lets an account do something.
func (a Account) may(e entry, want fs.FileMode) bool {
	switch {
	case e.uid == a.UID:
		return e.mode>>6&want != 0
	case slices.Contains(a.GIDs, e.gid):
		return e.mode>>3&want != 0
	}
	return e.mode&want != 0
}

// judge is an error unless an account may have a file that lies in these
// folders, and root or the account itself owns all of them.
func (a Account) judge(file entry, folders []entry) error {
	for _, folder := range folders {
		if folder.uid != 0 && folder.uid != a.UID || !a.may(folder, toEnter) {
			return ErrForeign
		}
	}
	if file.uid != 0 && file.uid != a.UID || !a.may(file, toRead) {
		return ErrForeign
	}
	return nil
}

// above is the folders above a path, up to the root.
func above(path string) []string {
	var list []string
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		list = append(list, dir)
		if dir == filepath.Dir(dir) {
			return list
		}
	}
}
