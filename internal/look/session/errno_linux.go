package session

import (
	"syscall"

	"golang.org/x/sys/unix"
)

const errRefused = syscall.ECONNREFUSED

func errnoName(e syscall.Errno) string {
	if name := unix.ErrnoName(e); name != "" {
		return name
	}
	return e.Error()
}
