//go:build !windows

package session

import "syscall"

// timedOut is how the system says that nobody answered.
const timedOut = syscall.ETIMEDOUT
