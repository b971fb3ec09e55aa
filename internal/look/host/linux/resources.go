//go:build linux

package linux

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// auditStamp is the time in a line of the audit: "audit(1795402800.000:62)".
var auditStamp = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\baudit\((\d{9,11})\.\d+:`) })

// audited is when a line's event was, by itself: what the kernel said before
// the journal began is stamped there when it was read.
func audited(line fact.LogLine) time.Time {
	if m := auditStamp().FindStringSubmatch(line.Text); m != nil {
		if seconds, err := strconv.ParseInt(m[1], 10, 64); err == nil {
			return time.Unix(seconds, 0).UTC()
		}
	}
	return line.At
}

// ownKinds is the kinds of file system on which services of this host write.
// Those of other hosts may hang, and others are always full.
var ownKinds = []string{
	"ext2",
	"ext3",
	"ext4",
	"xfs",
	"btrfs",
	"f2fs",
	"jfs",
	"reiserfs",
	"zfs",
	"bcachefs",
	"tmpfs",
	"overlay",
	"vfat",
}

// mostDisks bounds the file systems that are looked at.
const mostDisks = 64

// disks is where the file systems of this host are that can be written to
// (proc_pid_mounts(5)).
func disks() []string {
	paths := []string{"/"}
	mounts, err := os.ReadFile("/proc/self/mounts")
	if err != nil {
		return paths
	}
	for line := range strings.Lines(string(mounts)) {
		f := strings.Fields(line)
		if len(f) < 4 || !slices.Contains(ownKinds, f[2]) || !slices.Contains(strings.Split(f[3], ","), "rw") ||
			len(paths) == mostDisks {
			continue
		}
		path := strings.NewReplacer(`\040`, " ", `\011`, "\t", `\134`, `\`).Replace(f[1])
		if !strings.HasPrefix(path, "/dev") && !strings.HasPrefix(path, "/sys") && !strings.HasPrefix(path, "/proc") {
			paths = append(paths, path)
		}
	}
	return paths
}

// Resources leaves disk space, and what the kernel's log tells of processes
// killed for memory and of denials by mandatory access control.
func Resources(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	r := fact.Resources{Disks: []fact.Disk{}}
	seen := map[unix.Fsid]bool{}
	paths := disks()
	if env.Card != nil && filepath.IsAbs(env.Card.Program) {
		paths = append([]string{filepath.Dir(env.Card.Program)}, paths...)
	}
	for _, path := range paths {
		var s unix.Statfs_t
		if unix.Statfs(path, &s) != nil || s.Blocks == 0 || seen[s.Fsid] && s.Fsid != (unix.Fsid{}) {
			continue
		}
		seen[s.Fsid] = true
		r.Disks = append(
			r.Disks,
			fact.Disk{
				Path:       path,
				Free:       s.Bavail * uint64(s.Bsize),
				Size:       s.Blocks * uint64(s.Bsize),
				FreeInodes: s.Ffree,
				Inodes:     s.Files,
			},
		)
	}
	lines, err := journal(ctx, "-b", "-k", "-n", "2000")
	if err != nil {
		emit(
			env.Failed(
				order,
				"kernel log",
				"could not read the kernel's log",
				err,
				"root, or the group systemd-journal",
			),
		)
	}
	for _, line := range lines {
		switch {
		case strings.Contains(line.Text, "Out of memory: Killed process"),
			strings.Contains(line.Text, "oom-kill:"),
			strings.Contains(line.Text, "Memory cgroup out of memory"):
			r.Kills = append(r.Kills, line)
		case strings.Contains(line.Text, `apparmor="DENIED"`), strings.Contains(line.Text, "avc:  denied"):
			line.At = audited(line)
			r.Denials = append(r.Denials, line)
		}
	}
	saw := fmt.Sprintf("%d file systems", len(r.Disks))
	for _, d := range r.Disks {
		if d.Full() {
			saw += ", " + d.Path + " is full"
		}
	}
	f := env.Seen(order, "resources", saw)
	f.Resources = &r
	emit(f)
}
