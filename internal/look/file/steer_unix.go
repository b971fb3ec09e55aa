//go:build !windows

package file

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// Bits of a mode by which others may write.
const (
	groupWrites fs.FileMode = 0o020
	otherWrites fs.FileMode = 0o002
)

// Steers reports, as an error, that another account than root and the user who
// runs this program owns a file or may write to it. A file that is not there is
// left to whoever opens it.
func Steers(path string) error {
	link, err := os.Lstat(path)
	if err != nil {
		return nil // whoever opens it says so
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	for _, each := range []fs.FileInfo{link, info} {
		st, ok := each.Sys().(*syscall.Stat_t)
		if !ok {
			continue
		}
		if st.Uid != 0 && st.Uid != uint32(os.Geteuid()) {
			return notOwn(path, fmt.Sprintf("belongs to user %d", st.Uid))
		}
		if each.Mode()&fs.ModeSymlink != 0 || !each.Mode().IsRegular() && !each.IsDir() {
			continue // a link has no mode of its own; what is piped in is the user's
		}
		// A group of the owner's own number is the owner alone, as systems set up users.
		mode := each.Mode().Perm()
		if mode&otherWrites != 0 || mode&groupWrites != 0 && st.Gid != 0 && st.Gid != st.Uid {
			return notOwn(path, fmt.Sprintf("may be written by others (mode %04o)", each.Mode().Perm()))
		}
	}
	return nil
}
