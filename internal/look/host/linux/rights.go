//go:build linux

package linux

import (
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
)

// Rights asked of a file or folder, as in its mode.
const (
	toRead  = 4
	toEnter = 1
)

// mayRead says at which level of a path a user is stopped; "" where nothing
// stops them. Access control lists beyond the mode are not known here.
func mayRead(name, path string) string {
	_, why, _, _ := stoppedOn(name, path)
	return why
}

// stoppedOn is the level of a path at which a user is stopped, why, its mode,
// and the least that would let the user through. The way to a file is entered
// folder by folder.
func stoppedOn(name, path string) (level, why, mode, grant string) {
	u, err := user.Lookup(name)
	if err != nil || u.Uid == "0" {
		return "", "", "", ""
	}
	groups, err := u.GroupIds()
	if err != nil {
		groups = []string{u.Gid}
	}
	level = "/"
	for _, part := range strings.Split(strings.Trim(filepath.Clean(path), "/"), "/") {
		if why, mode, grant = stoppedAt(u, groups, level, toEnter); why != "" {
			return level, why, mode, grant
		}
		level = filepath.Join(level, part)
	}
	if why, mode, grant = stoppedAt(u, groups, level, toRead); why != "" {
		return level, why, mode, grant
	}
	return "", "", "", ""
}

func stoppedAt(u *user.User, groups []string, level string, want os.FileMode) (why, mode, grant string) {
	info, err := os.Stat(level)
	if err != nil {
		return "", "", ""
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", "", ""
	}
	shift, class := 0, "o"
	switch {
	case strconv.FormatUint(uint64(st.Uid), 10) == u.Uid:
		shift, class = 6, "u"
	case slices.Contains(groups, strconv.FormatUint(uint64(st.Gid), 10)):
		shift, class = 3, "g"
	}
	if info.Mode().Perm()>>shift&want == want {
		return "", "", ""
	}
	verb, right := "read", "r"
	if want == toEnter {
		verb, right = "enter", "x"
	}
	mode = fmt.Sprintf("%04o", info.Mode().Perm())
	return fmt.Sprintf(
		"%s may not %s %s (mode %s, owner %s, group %s)",
		u.Username,
		verb,
		level,
		mode,
		userName(st.Uid),
		groupName(st.Gid),
	), mode, class + "+" + right
}

func groupName(gid uint32) string {
	text := strconv.FormatUint(uint64(gid), 10)
	if g, err := user.LookupGroupId(text); err == nil {
		return g.Name
	}
	return text
}
