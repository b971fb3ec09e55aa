package host

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// diskPaths is where services write.
var diskPaths = []string{"/", "/var", "/var/log", "/var/lib", "/tmp", "/run", "/srv", "/home"}

// Resources leaves disk space, and what the kernel's log tells of processes
// killed for memory and of denials by mandatory access control.
func Resources(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	r := fact.Resources{Disks: []fact.Disk{}}
	seen := map[unix.Fsid]bool{}
	paths := diskPaths
	if env.Card != nil && filepath.IsAbs(env.Card.Program) {
		paths = append([]string{filepath.Dir(env.Card.Program)}, paths...)
	}
	for _, path := range paths {
		var s unix.Statfs_t
		if unix.Statfs(path, &s) != nil || s.Blocks == 0 || seen[s.Fsid] && s.Fsid != (unix.Fsid{}) {
			continue
		}
		seen[s.Fsid] = true
		r.Disks = append(r.Disks, fact.Disk{Path: path, Free: s.Bavail * uint64(s.Bsize), Size: s.Blocks * uint64(s.Bsize), FreeInodes: s.Ffree, Inodes: s.Files})
	}
	lines, err := journal(ctx, "-b", "-k", "-n", "2000")
	if err != nil {
		emit(env.Failed(order, "kernel log", "could not read the kernel's log", err, "root, or the group systemd-journal"))
	}
	for _, line := range lines {
		switch {
		case strings.Contains(line.Text, "Out of memory: Killed process"), strings.Contains(line.Text, "oom-kill:"), strings.Contains(line.Text, "Memory cgroup out of memory"):
			r.Kills = append(r.Kills, line)
		case strings.Contains(line.Text, `apparmor="DENIED"`), strings.Contains(line.Text, "avc:  denied"):
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
