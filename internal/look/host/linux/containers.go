//go:build linux

package linux

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// mostContainers bounds how many are looked into.
const mostContainers = 200

// engineSockets is where engines are asked and how, by the name of the engine.
var engineSockets = []struct {
	name, pattern string
	ask           func(ctx context.Context, socket, engine string, port uint16) ([]fact.Container, error)
}{
	{"podman", "/run/podman/podman.sock", askEngine},
	{"podman", "/run/user/*/podman/podman.sock", askEngine},
	{"docker", "/run/docker.sock", askEngine},
	{"docker", "/run/user/*/docker.sock", askEngine},
	{"containerd", "/run/containerd/containerd.sock", askRPC},
	{"containerd", "/run/k3s/containerd/containerd.sock", askRPC},
	{"CRI-O", "/run/crio/crio.sock", askRPC},
}

// Containers leaves the containers of this host: by their engines, as far as
// they may be asked, and by what the kernel shows of other network namespaces.
func Containers(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	all := fact.Containers{List: []fact.Container{}}
	asked := map[string]bool{}
	for _, at := range engineSockets {
		paths, err := filepath.Glob(at.pattern)
		if err != nil {
			continue
		}
		for _, path := range paths {
			real, err := filepath.EvalSymlinks(path)
			if err != nil || asked[real] {
				continue
			}
			asked[real] = true
			e := fact.Engine{Name: at.name, Socket: path}
			if why := foreignSocket(path); why != "" {
				e.Unread = why
				all.Engines = append(all.Engines, e)
				continue
			}
			if list, err := at.ask(ctx, path, at.name, order.Target.Port); err != nil {
				e.Unread = err.Error()
				if errors.Is(err, fs.ErrPermission) {
					e.Unread = "only root may ask it"
				}
			} else {
				all.List = append(all.List, list...)
			}
			all.Engines = append(all.Engines, e)
		}
	}
	readFromDisk(ctx, &all)
	spaces, err := networkSpaces()
	if err != nil {
		emit(env.Failed(order, "/proc", "could not list the network namespaces", err, "root"))
	}
	for _, s := range spaces {
		all.List = joinSpace(all.List, s)
	}
	saw := fmt.Sprintf("%d containers", len(all.List))
	if len(all.List) == 0 {
		saw = "none"
	}
	f := env.Seen(order, "containers", saw)
	f.Containers = &all
	emit(f)
}

// foreignSocket says why an engine is not asked: what is behind a socket of another
// account's is that account's word, and would lead root wherever it likes. "": it may be.
func foreignSocket(path string) string {
	for at := path; ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil {
			return err.Error()
		}
		if st, ok := info.Sys().(*syscall.Stat_t); ok && st.Uid != 0 && st.Uid != uint32(os.Geteuid()) {
			return fmt.Sprintf("%s belongs to user %d; only engines of root and of the user who runs this are asked",
				at, st.Uid)
		}
		if at == filepath.Dir(at) {
			return ""
		}
	}
}

// space is one network namespace beside this one.
type space struct {
	pids []int // of its processes, the first the oldest
	fact.Container
}

// networkSpaces is every network namespace beside this one that processes are
// in, with its addresses and listeners.
func networkSpaces() ([]space, error) {
	list, err := pids()
	if err != nil {
		return nil, err
	}
	own, err := os.Readlink("/proc/self/ns/net")
	if err != nil {
		return nil, err
	}
	slices.Sort(list)
	var spaces []space
	byLink := map[string]int{}
	for _, pid := range list {
		link, err := os.Readlink(procFile(pid, "ns/net"))
		if err != nil || link == own {
			continue
		}
		at, known := byLink[link]
		if !known {
			if at = len(spaces); at == mostContainers {
				break
			}
			byLink[link] = at
			spaces = append(spaces, space{})
		}
		spaces[at].pids = append(spaces[at].pids, pid)
	}
	for i := range spaces {
		spaces[i].read()
	}
	return spaces, nil
}

// read fills in what the kernel shows of a namespace.
func (s *space) read() {
	pid := s.pids[0]
	s.PID, s.State = pid, "running"
	s.ID, s.Name, s.Keeper = namedBy(pid)
	held, err := addressesOf(pid)
	if err != nil {
		return
	}
	s.Held = held
	for _, transport := range []string{"tcp", "udp"} {
		sockets, err := procListening(procFile(pid, "net"), transport)
		if err != nil {
			return
		}
		inodes := map[uint32]int{}
		for _, each := range sockets {
			inodes[each.Inode] = 0
		}
		// Whose they are is told as far as it is seen: they are the processes' there, or
		// of one that left its sockets behind.
		if _, left := ownersAmong(s.pids, inodes); left > 0 {
			all := allOwners()
			for inode, pid := range inodes {
				inodes[inode] = cmp.Or(pid, all.pid[inode])
			}
		}
		for _, each := range sockets {
			l := each.Listener
			if l.PID = inodes[each.Inode]; l.PID > 1 {
				l.Program, l.Since = programName(l.PID), processStart(l.PID)
			}
			s.Listeners = append(s.Listeners, l)
		}
	}
	s.Seen = true
}

// processStart is when a process began; zero if it is gone.
func processStart(pid int) time.Time {
	p, _ := process(pid)
	return p.Since
}

// groupID is the number of a container in the name of a control group, as
// engines write it: "libpod-HEX.scope", "docker-HEX.scope", "/docker/HEX".
var groupID = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?:libpod-|docker-|cri-containerd-|crio-|/docker/|/)([0-9a-f]{64})(?:\.scope)?(?:/|$)`)
})

// namedBy is the number and name of the container that a process is in, and the
// process that keeps it: by its control group, or by the words with which its
// keeper was started.
func namedBy(pid int) (id, name string, keeper int) {
	if text, err := os.ReadFile(procFile(pid, "cgroup")); err == nil {
		if m := groupID().FindSubmatch(bytes.TrimSpace(text)); m != nil {
			id = string(m[1])
		}
	}
	for range 4 { // up to whoever keeps it
		above := parentOf(pid)
		if above <= 1 {
			break
		}
		pid = above
		text, err := os.ReadFile(procFile(pid, "cmdline"))
		if err != nil {
			break
		}
		words := strings.Split(strings.TrimRight(string(text), "\x00"), "\x00")
		switch filepath.Base(words[0]) {
		case "conmon":
			return after(words, "-c"), after(words, "-n"), pid
		case "containerd-shim-runc-v2", "containerd-shim":
			return after(words, "-id"), "", pid
		}
	}
	return id, "", 0
}

// after is the word behind another.
func after(words []string, word string) string {
	if at := slices.Index(words, word); at >= 0 && at+1 < len(words) {
		return words[at+1]
	}
	return ""
}

// addressesOf is the addresses of a process's network namespace, by the
// kernel's own tables: the local entries of the routes of IPv4, and the list of
// IPv6 (/proc/net/fib_trie, /proc/net/if_inet6).
func addressesOf(pid int) ([]fact.Address, error) {
	text, err := os.ReadFile(procFile(pid, "net/fib_trie"))
	if err != nil {
		return nil, err
	}
	var held []fact.Address
	var last netip.Addr
	for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
		line := strings.TrimSpace(lines.Text())
		if rest, ok := strings.CutPrefix(line, "|-- "); ok {
			last, _ = netip.ParseAddr(rest)
			continue
		}
		if line == "/32 host LOCAL" && last.IsValid() &&
			!slices.ContainsFunc(held, func(a fact.Address) bool { return a.Prefix.Addr() == last }) {
			held = append(held, fact.Address{Prefix: netip.PrefixFrom(last, 32), Up: true, Local: last.IsLoopback()})
		}
	}
	six, err := os.ReadFile(procFile(pid, "net/if_inet6"))
	if err != nil {
		return held, nil // a host without IPv6
	}
	for lines := bufio.NewScanner(bytes.NewReader(six)); lines.Scan(); {
		fields := strings.Fields(lines.Text())
		if len(fields) < 6 || len(fields[0]) != 32 {
			continue
		}
		var b [16]byte
		for i := range b {
			n, err := strconv.ParseUint(fields[0][2*i:2*i+2], 16, 8)
			if err != nil {
				return held, err
			}
			b[i] = byte(n)
		}
		bits, err := strconv.ParseUint(fields[2], 16, 8)
		if err != nil {
			return held, err
		}
		addr := netip.AddrFrom16(b)
		held = append(
			held,
			fact.Address{Prefix: netip.PrefixFrom(addr, int(bits)), Link: fields[5], Up: true,
				Local: addr.IsLoopback()},
		)
	}
	return held, nil
}

// joinSpace adds what the kernel shows of a namespace to what an engine told of
// its containers, or as one of its own.
func joinSpace(list []fact.Container, s space) []fact.Container {
	found := false
	for i := range list {
		c := &list[i]
		if c.PID == 0 || !slices.Contains(s.pids, c.PID) {
			continue
		}
		c.Held, c.Listeners, c.Seen, c.Keeper, found = s.Held, s.Listeners, s.Seen, s.Keeper, true
	}
	if !found && len(list) < mostContainers {
		list = append(list, s.Container)
	}
	return list
}
