//go:build !linux && !windows

package session

import "syscall"

const errRefused = syscall.ECONNREFUSED
