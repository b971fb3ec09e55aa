//go:build !windows

package owned

import (
	"errors"
	"os"
	"syscall"
)

// ErrLocked is that another process holds a lock.
var ErrLocked = errors.New("another process holds it")

// Lock takes a lock for this process (flock(2)) until the file is closed or the process
// ends; ErrLocked, if another has it.
func Lock(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		f.Close()
		if errors.Is(err, syscall.EWOULDBLOCK) {
			err = ErrLocked
		}
		return nil, err
	}
	return f, nil
}
