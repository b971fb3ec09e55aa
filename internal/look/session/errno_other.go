//go:build !linux && !windows

package session

import "syscall"

func errnoName(e syscall.Errno) string { return e.Error() }
