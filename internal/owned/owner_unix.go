//go:build !windows

package owned

import (
	"io/fs"
	"os"
	"syscall"
)

// noFollow is that a link of the name is an error.
const noFollow = syscall.O_NOFOLLOW

// ours reports whether root or the user who runs this program owns something.
func ours(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && (st.Uid == 0 || st.Uid == uint32(os.Geteuid()))
}
