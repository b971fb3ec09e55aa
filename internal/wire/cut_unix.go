//go:build !windows

package wire

import "syscall"

// cut is how the system says that a connection was reset.
var cut = []error{syscall.ECONNRESET, syscall.EPIPE, syscall.ECONNABORTED}

// late is how it says that nothing came in time.
var late = []error{syscall.ETIMEDOUT}
