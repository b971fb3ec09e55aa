package owned

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// private is the mode of every file that is written: what was seen of hosts is
// for whoever looked.
const private fs.FileMode = 0o600

// ErrForeignLink says that a name which is to be written leads elsewhere by
// another account's will.
var ErrForeignLink = errors.New("it belongs to another account; expected a name of your own")

// Write writes a file that the user named: where a link of that name leads, if root or
// the user who runs this program owns the link; that of another account is an error.
// Else it is as [Replace].
func Write(path string, text []byte) (was fs.FileMode, err error) {
	path, err = target(path)
	if err != nil {
		return 0, err
	}
	return Replace(path, text)
}

// Replace puts a file in its place in one step: it is written beside it, made durable,
// and renamed when all of it is on the disk. A link of that name is replaced and not
// followed. What is no regular file, such as a pipe of the user's own, is written to as
// it is. was is the mode that a file had there which others could read; 0: none.
func Replace(path string, text []byte) (was fs.FileMode, err error) {
	info, err := os.Lstat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return 0, err
	case info.IsDir():
		return 0, fmt.Errorf("%s: a folder; expected a file", path)
	case info.Mode().IsRegular():
		if mode := info.Mode().Perm(); mode&0o077 != 0 && filepath.Separator == '/' {
			was = mode
		}
	case info.Mode()&fs.ModeSymlink == 0 && !ours(info):
		return 0, fmt.Errorf("%s: %w", path, ErrForeignLink)
	case info.Mode()&fs.ModeSymlink == 0:
		return 0, writeTo(path, text)
	}
	// Made with O_EXCL: no link that somebody puts there is followed.
	beside, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+".*")
	if err != nil {
		return 0, err
	}
	_, err = beside.Write(text)
	err = errors.Join(err, beside.Chmod(private), beside.Sync(), beside.Close())
	if err == nil {
		err = Only(beside.Name())
	}
	if err == nil {
		err = os.Rename(beside.Name(), path)
	}
	if err != nil {
		return 0, errors.Join(fmt.Errorf("%s is left as it was: %w", path, err), os.Remove(beside.Name()))
	}
	return was, nil
}

// Append opens a file to which lines are added, and makes it if it is not there: a
// regular file that root or the user owns, and no link.
func Append(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_RDWR|noFollow, private)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	switch {
	case err != nil:
	case !info.Mode().IsRegular():
		err = fmt.Errorf("%s: not a regular file", path)
	case !ours(info):
		err = fmt.Errorf("%s: %w", path, ErrForeignLink)
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// target is where a name leads. Each link on the way must be root's or the user's.
func target(path string) (string, error) {
	const most = 40 // as many as the kernel follows (path_resolution(7))
	for range most {
		info, err := os.Lstat(path)
		if errors.Is(err, fs.ErrNotExist) {
			return path, nil
		}
		if err != nil {
			return "", err
		}
		if !ours(info) && !info.Mode().IsRegular() && info.Mode()&fs.ModeDevice == 0 {
			return "", fmt.Errorf("%s: %w", path, ErrForeignLink) // its link, or its pipe
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			return path, nil
		}
		to, err := os.Readlink(path)
		if err != nil {
			return "", err
		}
		if !filepath.IsAbs(to) {
			to = filepath.Join(filepath.Dir(path), to)
		}
		path = to
	}
	return "", fmt.Errorf("%s: too many links", path)
}

// writeTo writes to something that is there and cannot be replaced.
func writeTo(path string, text []byte) error {
	f, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Close())
}
