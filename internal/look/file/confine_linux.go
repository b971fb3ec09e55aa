package file

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// beneath is the root that every file is opened under, once [Confine] has been called.
var beneath *os.File

// Confine opens every file from now on beneath the root folder of this process, with
// openat2(2) and RESOLVE_IN_ROOT: no link leads out of it, also none of the kernel's own
// (/proc/PID/root). It is for a program that reads the files of a container. A kernel
// before Linux 5.6 fails.
func Confine() error { return confineTo("/") }

func confineTo(folder string) error {
	fd, err := unix.Open(folder, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return &fs.PathError{Op: "open", Path: folder, Err: err}
	}
	root := os.NewFile(uintptr(fd), folder)
	how := unix.OpenHow{Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_IN_ROOT}
	try, err := unix.Openat2(fd, "/", &how)
	if err != nil {
		root.Close()
		return &fs.PathError{Op: "openat2", Path: folder, Err: err}
	}
	beneath = root
	return unix.Close(try)
}

// opened opens a file as it is, or beneath the root.
func opened(path string) (*os.File, error) {
	if beneath == nil {
		return os.OpenFile(path, os.O_RDONLY|nonblock, 0)
	}
	if !filepath.IsAbs(path) {
		return nil, &fs.PathError{Op: "openat2", Path: path, Err: fs.ErrInvalid}
	}
	const again = 8 // tries, should a folder move meanwhile (openat2(2), EAGAIN)
	how := unix.OpenHow{Flags: unix.O_RDONLY | unix.O_CLOEXEC | nonblock, Resolve: unix.RESOLVE_IN_ROOT}
	for n := 0; ; n++ {
		fd, err := unix.Openat2(int(beneath.Fd()), path, &how)
		switch {
		case err == nil:
			return os.NewFile(uintptr(fd), path), nil
		case n < again && (errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR)):
			continue
		}
		return nil, &fs.PathError{Op: "openat2", Path: path, Err: err}
	}
}
