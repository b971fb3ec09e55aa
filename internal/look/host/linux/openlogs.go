//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/redact"
)

// openLogs is the log files that processes hold open to write to, and which
// nobody else said to be theirs.
func openLogs(processes []fact.Process) []common.LogName {
	var list []common.LogName
	for _, proc := range processes {
		entries, err := os.ReadDir(procFile(proc.PID, "fd"))
		if err != nil {
			continue // not to be seen by this user
		}
		const mostOpen = 256
		for _, e := range entries[:min(len(entries), mostOpen)] {
			path, err := os.Readlink(procFile(proc.PID, "fd/"+e.Name()))
			if err != nil || !filepath.IsAbs(path) || !redact.LogFile(path) || !writes(proc.PID, e.Name()) {
				continue
			}
			if !slices.ContainsFunc(list, func(n common.LogName) bool { return n.Pattern == path }) &&
				!strings.ContainsAny(path, "*?[\\") {
				list = append(list, common.LogName{Pattern: path, By: accountOf(proc.PID)})
			}
		}
	}
	return list
}

// writes reports whether a descriptor is open for writing (proc(5), fdinfo).
func writes(pid int, fd string) bool {
	text, err := file.Head(procFile(pid, "fdinfo/"+fd), 4<<10)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		if value, ok := strings.CutPrefix(line, "flags:"); ok {
			flags, err := strconv.ParseUint(strings.TrimSpace(value), 8, 64)
			return err == nil && flags&unix.O_ACCMODE != unix.O_RDONLY
		}
	}
	return false
}

// usualLogs is where programs of a name write their logs.
func usualLogs(p fact.Program) []common.LogName {
	names := []string{p.Name}
	for _, u := range p.Units {
		base, _, _ := strings.Cut(strings.TrimSuffix(u.Name, ".service"), "@")
		if !slices.Contains(names, base) {
			names = append(names, base)
		}
	}
	var list []common.LogName
	for _, name := range names {
		if name != "" && !strings.ContainsAny(name, "*?[\\/") {
			list = append(
				list,
				common.LogName{Pattern: "/var/log/" + name + ".log"},
				common.LogName{Pattern: "/var/log/" + name + "/*.log"},
				common.LogName{Pattern: "/var/log/" + name + "/*.out"},
				common.LogName{Pattern: "/var/log/*/" + name + ".log"},
			)
		}
	}
	return list
}
