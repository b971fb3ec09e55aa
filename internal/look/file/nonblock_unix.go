//go:build unix

package file

import "syscall"

// nonblock keeps an open from waiting, should a file have become a pipe.
const nonblock = syscall.O_NONBLOCK | syscall.O_NOCTTY
