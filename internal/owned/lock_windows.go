package owned

import (
	"errors"
	"os"

	"golang.org/x/sys/windows"
)

// ErrLocked is that another process holds a lock.
var ErrLocked = errors.New("another process holds it")

// Lock takes a lock for this process (LockFileEx) until the file is closed or the process
// ends; ErrLocked, if another has it.
func Lock(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	const how = windows.LOCKFILE_EXCLUSIVE_LOCK | windows.LOCKFILE_FAIL_IMMEDIATELY
	if err := windows.LockFileEx(windows.Handle(f.Fd()), how, 0, 1, 0, new(windows.Overlapped)); err != nil {
		f.Close()
		if errors.Is(err, windows.ERROR_LOCK_VIOLATION) {
			err = ErrLocked
		}
		return nil, err
	}
	return f, nil
}
