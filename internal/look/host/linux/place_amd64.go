//go:build linux

package linux

import "golang.org/x/sys/unix"

// deniedHere is calls that only this processor's kernel has.
var deniedHere = []uint32{unix.SYS_MKNOD}
