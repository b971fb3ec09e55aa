//go:build linux

package linux

import (
	"bytes"
	"context"
	"debug/elf"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/dbus"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/program"
)

// onHost is how programs of this system, and their files, are found.
var onHost = &programfiles.Host{
	On: programsOn, Process: pidOf, Started: startedOf, Account: accountOf, User: userOf,
	Usual: func(p program.Program, _ int) []string { return programfiles.Matching(p.Settings.Files) },
	Apart: func(pid int) bool { return !sameRoot(pid) }, Stopped: mayRead, TooOpen: tooOpen, Changed: changedAt,
	Opened: opened, Own: ownOf,
}

// ownOf is the settings files of the unit that a process is of.
func ownOf(ctx context.Context, pid int) []string {
	unit := unitOf(pid)
	if unit == "" || !managed() {
		return nil
	}
	conn, err := dbus.NewWithContext(ctx)
	if err != nil {
		return nil // the look at the service says so
	}
	defer conn.Close()
	props, err := conn.GetAllPropertiesContext(ctx, unit)
	if err != nil {
		return nil
	}
	p := properties(props)
	command := p.command("ExecStart")
	if len(command) == 0 {
		return nil
	}
	return settingsOfUnit(unit, p, command, foldersOfEtc())
}

func init() { onHost.Asked = asked } // which asks it, too

// userOf is the user that a process runs as.
func userOf(pid int) string {
	uid, err := ownerOf(pid)
	if err != nil {
		return ""
	}
	return userName(uint32(uid))
}

// asked adds the programs that ask the wrapper, and the accounts of a database, which say
// where each may come from.
func asked(ctx context.Context, env look.Env, order fact.Order, held map[string]int, a *fact.Access, emit look.Emit) {
	for name, pid := range held {
		if wrapped(procFile(pid, "exe")) {
			a.Wrapped = append(a.Wrapped, name)
		}
	}
	if len(held) == 0 { // nobody is there to ask it now: whoever is meant to be would
		for _, p := range env.Registry().Using(order.Target.Port) {
			if path := installed(p.Paths); path != "" && wrapped(path) {
				a.Wrapped = append(a.Wrapped, p.Name)
			}
		}
	}
	for name, question := range questions {
		pid := held[name]
		if pid == 0 || !sameRoot(pid) {
			continue
		}
		f, socket, err := mysqlAccounts(ctx, name, question, pid)
		if err != nil {
			emit(env.Failed(order, "the accounts of "+name, "could not ask the database for its accounts", err,
				"root, and its administrator without a secret over its local socket"))
			continue
		}
		a.Files = append(a.Files, f)
		rights, err := mysqlRights(ctx, name, socket, pid)
		if err != nil {
			emit(env.Failed(order, "the rights of accounts of "+name,
				"could not ask the database what its accounts may", err,
				"its administrator without a secret over its local socket"))
			continue
		}
		a.Files = append(a.Files, rights)
	}
}

// accountOf is the account that a process runs as; one that cannot be told may
// read nothing.
func accountOf(pid int) file.Account {
	by, err := file.OfProcess(pid)
	if err != nil {
		return file.Account{UID: ^uint32(0)}
	}
	return by
}

// sameRoot reports whether a process saw the files that this host has when it was
// started, as far as that can be seen: one in a container has others under the same
// names. One that shut itself in since (chroot(2)) is among this host's mounts still, or
// was made by one of its kind that sees all.
func sameRoot(pid int) bool {
	own, err := os.Stat("/")
	if err != nil {
		return true
	}
	mounts, _ := os.Readlink("/proc/self/ns/mnt")
	for range mostAbove {
		root, err := os.Stat(procFile(pid, "root") + "/")
		if err != nil || os.SameFile(own, root) {
			return true
		}
		if its, err := os.Readlink(procFile(pid, "ns/mnt")); err == nil && its == mounts {
			return true
		}
		above := parentOf(pid)
		if above <= 1 || programName(above) != programName(pid) {
			return false
		}
		pid = above
	}
	return false
}

// mostAbove bounds how far up those that made a process are looked at.
const mostAbove = 8

// startedOf is how a process was started, and then those of the same program that made
// it, one after the other.
func startedOf(p program.Program, pid int) (list []programfiles.Started) {
	for i := 0; i < mostAbove && pid != 0; i++ {
		text, err := file.Head(procFile(pid, "cmdline"), mostCommand)
		if err != nil {
			break
		}
		args := strings.Split(strings.TrimRight(string(text), "\x00"), "\x00")
		if len(args) == 1 {
			args = strings.Fields(args[0]) // a program that wrote its title over them
		}
		folder, err := os.Readlink(procFile(pid, "cwd"))
		if err != nil {
			folder = "/"
		}
		list = append(list, programfiles.Started{Args: args, Folder: folder})
		if pid = parentOf(pid); pid <= 1 || !p.Runs(programName(pid)) {
			break
		}
	}
	return list
}

// parentOf is the process that made another; 0 if it cannot be seen.
func parentOf(pid int) int {
	text, err := os.ReadFile(procFile(pid, "stat"))
	if err != nil {
		return 0
	}
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	if len(fields) < 2 {
		return 0
	}
	parent, err := strconv.Atoi(fields[1])
	if err != nil {
		return 0
	}
	return parent
}

// programsOn is the programs that hold a port, with their processes.
func programsOn(ctx context.Context, env look.Env, port uint16) map[string]int {
	held := map[string]int{}
	Listeners(ctx, env, fact.Order{Look: fact.LookListeners, Target: fact.Target{Port: port}}, func(f fact.Fact) {
		if f.Listeners == nil {
			return
		}
		for _, transport := range []string{"tcp", "udp"} {
			for _, l := range f.Listeners.On(transport, port) {
				if l.PID != 0 && l.Program != "" && len(held) == 0 {
					held[l.Program] = l.PID
				}
			}
		}
	})
	return held
}

// wrapped reports whether a program is linked to the wrapper's library.
func wrapped(path string) bool {
	f, err := elf.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	libraries, err := f.ImportedLibraries()
	return err == nil &&
		slices.ContainsFunc(libraries, func(name string) bool { return strings.HasPrefix(name, "libwrap.so") })
}

// opened says of a local socket whether somebody listens on it (the flag
// __SO_ACCEPTCON of include/linux/socket.h in /proc/net/unix).
func opened(up fact.Upstream) fact.Upstream {
	if up.Socket == "" {
		return up
	}
	text, err := file.Head("/proc/net/unix", common.MostSettingFile)
	if err != nil {
		return up
	}
	const listens = "00010000"
	open := false
	for line := range strings.Lines(string(text)) {
		fields := strings.Fields(line)
		if len(fields) == 8 && fields[3] == listens &&
			(fields[7] == up.Socket || fields[7] == strings.Replace(up.Socket, "/var/run/", "/run/", 1)) {
			open = true
		}
	}
	up.Open = &open
	return up
}

// changedAt is when a file's content or place last changed: a file that was
// moved here keeps the time of its content.
func changedAt(info os.FileInfo) time.Time {
	at := info.ModTime()
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		if c := time.Unix(st.Ctim.Unix()); c.After(at) {
			at = c
		}
	}
	return at.UTC()
}

// tooOpen says why PostgreSQL refuses a key file: its own must be for its
// owner alone, and one of root's may be read by a group.
func tooOpen(path string, info os.FileInfo) string {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	mode, most := info.Mode().Perm(), os.FileMode(0o600)
	if st.Uid == 0 {
		most = 0o640
	}
	if mode&^most != 0 {
		return fmt.Sprintf("%s has mode %04o, and PostgreSQL refuses a key with more than %04o", path, mode, most)
	}
	return ""
}

// argumentsWith is the values of the arguments of a process that begin so.
func argumentsWith(pid int, prefix string) []string {
	text, err := file.Head(procFile(pid, "cmdline"), mostCommand)
	if err != nil {
		return nil
	}
	var list []string
	for arg := range strings.SplitSeq(string(text), "\x00") {
		if value, ok := strings.CutPrefix(arg, prefix); ok {
			list = append(list, value)
		}
	}
	return list
}
