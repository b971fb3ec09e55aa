package file

import (
	"fmt"
	"os"
	"os/user"
	"strconv"
	"strings"
	"syscall"
)

// mayHave judges the file that was opened, by the path that the kernel says it
// is at: whoever swaps links while we look gains nothing.
func (a Account) mayHave(f *os.File) error {
	if uint32(os.Geteuid()) == a.UID {
		return nil // it reads with its own eyes
	}
	info, err := f.Stat()
	if err != nil {
		return err
	}
	own, ok := entryOf(info)
	if !ok {
		return ErrForeign
	}
	path, err := os.Readlink(fmt.Sprintf("/proc/self/fd/%d", f.Fd()))
	if err != nil || !strings.HasPrefix(path, "/") {
		return ErrForeign
	}
	var folders []entry
	for _, dir := range above(path) {
		info, err := os.Lstat(dir)
		if err != nil {
			return err
		}
		folder, ok := entryOf(info)
		if !ok || !info.IsDir() {
			return ErrForeign
		}
		folders = append(folders, folder)
	}
	return a.judge(own, folders)
}

func entryOf(info os.FileInfo) (entry, bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return entry{}, false
	}
	return entry{st.Uid, st.Gid, info.Mode().Perm()}, true
}

func ownerOf(info os.FileInfo) Account {
	e, ok := entryOf(info)
	if !ok {
		return Account{}
	}
	return Named(e.uid)
}

// Named is an account by its number, with the groups that it is in.
func Named(uid uint32) Account {
	a := Account{UID: uid}
	u, err := user.LookupId(strconv.FormatUint(uint64(uid), 10))
	if err != nil {
		return a
	}
	groups, err := u.GroupIds()
	if err != nil {
		groups = []string{u.Gid}
	}
	for _, text := range groups {
		if gid, err := strconv.ParseUint(text, 10, 32); err == nil {
			a.GIDs = append(a.GIDs, uint32(gid))
		}
	}
	return a
}

// OfProcess is the account that a process runs as, with its groups
// (proc_pid_status(5)).
func OfProcess(pid int) (Account, error) {
	text, err := Head(fmt.Sprintf("/proc/%d/status", pid), MostSettings)
	if err != nil {
		return Account{}, err
	}
	a := Account{UID: ^uint32(0)} // nobody, should the kernel not say
	for line := range strings.Lines(string(text)) {
		name, rest, _ := strings.Cut(line, ":")
		fields := strings.Fields(rest)
		switch {
		case name == "Uid" && len(fields) > 1:
			if n, err := strconv.ParseUint(fields[1], 10, 32); err == nil { // the effective one
				a.UID = uint32(n)
			}
		case name == "Gid" && len(fields) > 1:
			fields = fields[1:2]
			fallthrough
		case name == "Groups":
			for _, f := range fields {
				if n, err := strconv.ParseUint(f, 10, 32); err == nil {
					a.GIDs = append(a.GIDs, uint32(n))
				}
			}
		}
	}
	return a, nil
}

// Writer is the account that a file of the user's own command counts as: root,
// for whom all is read, if the user who gave the command owns it.
func Writer(path string) Account {
	info, err := os.Stat(path)
	if err != nil {
		return Account{}
	}
	e, ok := entryOf(info)
	if !ok || e.uid == uint32(os.Geteuid()) || strconv.FormatUint(uint64(e.uid), 10) == os.Getenv("SUDO_UID") {
		return Account{}
	}
	return Named(e.uid)
}
