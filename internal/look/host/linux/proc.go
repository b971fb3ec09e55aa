//go:build linux

package linux

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/redact"
)

// pids is every process of this host, the newest first: services that were
// restarted are found early.
func pids() ([]int, error) {
	dir, err := os.Open("/proc")
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	var list []int
	for _, name := range names {
		if pid, err := strconv.Atoi(name); err == nil {
			list = append(list, pid)
		}
	}
	slices.SortFunc(list, func(a, b int) int { return b - a })
	return list, nil
}

func procFile(pid int, name string) string {
	return "/proc/" + strconv.Itoa(pid) + "/" + name
}

// programName is a process's program: the name the kernel keeps or, where
// that is cut off at 15 characters, the file it runs.
func programName(pid int) string {
	comm, err := os.ReadFile(procFile(pid, "comm"))
	if err != nil {
		return ""
	}
	name := strings.TrimSpace(string(comm))
	const cut = 15
	if len(name) < cut {
		return name
	}
	if exe, err := os.Readlink(procFile(pid, "exe")); err == nil {
		if base := filepath.Base(strings.TrimSuffix(exe, " (deleted)")); strings.HasPrefix(base, name) {
			return base
		}
	}
	return name
}

// clockTicks is the kernel's unit of start times as user space sees it
// (USER_HZ), which is 100 on every system that Go runs on.
const clockTicks = 100

// bootTime is when this host started.
var bootTime = sync.OnceValue(func() time.Time {
	text, err := os.ReadFile("/proc/stat")
	if err != nil {
		return time.Time{}
	}
	for line := range bytes.Lines(text) {
		if rest, ok := bytes.CutPrefix(line, []byte("btime ")); ok {
			if n, err := strconv.ParseInt(string(bytes.TrimSpace(rest)), 10, 64); err == nil {
				return time.Unix(n, 0).UTC()
			}
		}
	}
	return time.Time{}
})

// process reads a process's state and start (proc_pid_stat(5)).
func process(pid int) (fact.Process, bool) {
	text, err := os.ReadFile(procFile(pid, "stat"))
	if err != nil {
		return fact.Process{}, false
	}
	// The program's name, in parentheses, may itself hold blanks and
	// parentheses: what follows the last one is regular.
	fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
	const state, start = 0, 19
	if len(fields) <= start {
		return fact.Process{}, false
	}
	p := fact.Process{PID: pid, State: fields[state]}
	if info, err := os.Stat(procFile(pid, "")); err == nil {
		if st, ok := info.Sys().(*syscall.Stat_t); ok {
			p.User = userName(st.Uid)
		}
	}
	if ticks, err := strconv.ParseInt(fields[start], 10, 64); err == nil && !bootTime().IsZero() {
		p.Since = bootTime().Add(time.Duration(ticks) * (time.Second / clockTicks))
	}
	return p, true
}

// owners finds which process holds each socket, by inode. It reports whether
// processes had to be passed over for want of privilege. It stops as soon as
// every owner is known.
func owners(inodes map[uint32]int) (hidden bool, err error) {
	list, err := pids()
	if err != nil {
		return false, err
	}
	hidden, _ = ownersAmong(list, inodes)
	return hidden, nil
}

// ownersAmong does so for the sockets that nobody is known to hold yet, among some
// processes, and says how many are left.
func ownersAmong(list []int, inodes map[uint32]int) (hidden bool, left int) {
	for _, pid := range inodes {
		if pid == 0 {
			left++
		}
	}
	hidden = eachHolder(list, func(pid int, found []uint32) bool {
		for _, inode := range found {
			if owner, wanted := inodes[inode]; wanted && owner == 0 {
				inodes[inode] = pid
				left--
			}
		}
		return left > 0
	})
	above := map[int][]uint32{} // what those hold who may have given away very many
	for inode, pid := range inodes {
		inodes[inode] = master(pid, inode, above)
	}
	return hidden && left > 0, left
}

// mostParents bounds how far up a master is looked for.
const mostParents = 8

// master is the process that gave a socket to a worker: of a holder and those
// above it that hold it too, the topmost. The first process of all holds
// sockets for others, and is not theirs.
func master(pid int, inode uint32, known map[int][]uint32) int {
	for range mostParents {
		above := parentOf(pid)
		if above <= 1 {
			break
		}
		if _, read := known[above]; !read {
			known[above], _ = socketsOf(above)
		}
		if !slices.Contains(known[above], inode) {
			break
		}
		pid = above
	}
	return pid
}

// holders is who holds which socket, as one pass over all processes found it.
type holders struct {
	pid    map[uint32]int // by inode
	hidden bool
	err    error
}

var held struct {
	sync.Mutex
	at time.Time
	holders
}

// allOwners is the holder of every socket of this host that can be seen, as of a
// moment ago: several looks of one moment ask for it.
func allOwners() holders {
	held.Lock()
	defer held.Unlock()
	if time.Since(held.at) >= glance {
		held.holders = everyHolder()
		held.at = time.Now()
	}
	return held.holders
}

func everyHolder() holders {
	list, err := pids()
	if err != nil {
		return holders{err: err}
	}
	h := holders{pid: map[uint32]int{}}
	h.hidden = eachHolder(list, func(pid int, found []uint32) bool {
		for _, inode := range found {
			// Of several that share it, the master came first.
			if known, shared := h.pid[inode]; !shared || parentOf(known) == pid {
				h.pid[inode] = pid
			}
		}
		return true
	})
	return h
}

// eachHolder calls do, one call at a time, with each of these processes and its
// sockets, for as long as it returns true, and says whether the sockets of any
// may not be seen.
func eachHolder(list []int, do func(pid int, inodes []uint32) bool) (hidden bool) {
	var (
		wg    sync.WaitGroup
		mu    sync.Mutex // guards more and hidden, and calls of do
		more  = true
		queue = make(chan int)
	)
	for range min(4, runtime.GOMAXPROCS(0)) {
		wg.Go(func() {
			for pid := range queue {
				found, denied := socketsOf(pid)
				mu.Lock()
				hidden = hidden || denied
				more = more && do(pid, found)
				mu.Unlock()
			}
		})
	}
	for _, pid := range list {
		mu.Lock()
		done := !more
		mu.Unlock()
		if done {
			break
		}
		queue <- pid
	}
	close(queue)
	wg.Wait()
	return hidden
}

// socketsOf is the inodes of a process's sockets, and whether its open files
// may not be seen.
func socketsOf(pid int) (inodes []uint32, denied bool) {
	dir, err := os.Open(procFile(pid, "fd"))
	if err != nil {
		return nil, errors.Is(err, fs.ErrPermission)
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return nil, errors.Is(err, fs.ErrPermission)
	}
	// Links are read from the folder that is open: a host may have very many.
	folder, to := int(dir.Fd()), make([]byte, len("socket:[4294967295]")+1)
	const head = "socket:["
	for _, name := range names {
		n, err := unix.Readlinkat(folder, name, to)
		if err != nil || n <= len(head) || n == len(to) || string(to[:len(head)]) != head {
			continue
		}
		if n, err := strconv.ParseUint(string(to[len(head):n-1]), 10, 32); err == nil {
			inodes = append(inodes, uint32(n))
		}
	}
	return inodes, false
}

// unitOf is the service manager's unit that a process belongs to, by its
// control group; "" for none.
func unitOf(pid int) string {
	text, err := os.ReadFile(procFile(pid, "cgroup"))
	if err != nil {
		return ""
	}
	for line := range strings.Lines(string(text)) {
		if path, ok := strings.CutPrefix(strings.TrimSpace(line), "0::"); ok {
			return unitOfPath(path)
		}
	}
	return ""
}

// unitOfPath is the innermost service of a control group's path. Sessions of
// people are units too, and say nothing about a service.
func unitOfPath(path string) string {
	for _, part := range slices.Backward(strings.Split(path, "/")) {
		if strings.HasSuffix(part, ".service") && !strings.HasPrefix(part, "user@") {
			return part
		}
	}
	return ""
}

// unitsByCgroup finds units by control group ids, which are the inode numbers
// of their folders: a socket's is readable without privilege.
func unitsByCgroup(ids map[uint64]string) {
	const root, most = "/sys/fs/cgroup", 20000
	seen := 0
	filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if seen++; err != nil || seen > most {
			return fs.SkipDir
		}
		if !d.IsDir() {
			return nil
		}
		if id, ok := inode(path); ok {
			if _, wanted := ids[id]; wanted {
				ids[id] = unitOfPath(strings.TrimPrefix(path, root))
			}
		}
		return nil
	})
}

// arguments is what is kept of a process's command line.
func arguments(pid int) string {
	raw, err := file.Head(procFile(pid, "cmdline"), mostCommand)
	if err != nil || len(raw) == 0 {
		return ""
	}
	return redact.Words(strings.Split(strings.TrimRight(string(raw), "\x00"), "\x00"), func(path string) bool {
		_, err := os.Lstat(path)
		return err == nil
	})
}

// mostCommand bounds what is read of a command line, in bytes.
const mostCommand = 64 << 10
