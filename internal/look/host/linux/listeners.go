//go:build linux

package linux

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"os/user"
	"slices"
	"strconv"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/protocol"
)

// longWait is longer than a program that serves takes from one datagram to the next.
const longWait = time.Second

// Listeners leaves every listening TCP socket of this network namespace, with
// the owner of those on the port that was asked for. If nobody holds the
// port, every owner is looked up: the service may be on another.
func Listeners(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	const source = "listening sockets"
	if order.Target.Again > 1 { // whether what waited then waits still
		select {
		case <-time.After(longWait):
		case <-ctx.Done():
		}
	}
	seen := make(chan holders, 1)
	if order.Target.Port == 0 {
		// All owners are wanted: they are looked up while the kernel lists.
		go func() { seen <- allOwners() }()
	}
	sockets, err := dumpListening(unix.IPPROTO_TCP)
	if err != nil {
		sockets, err = procListening("/proc/self/net", "tcp")
	}
	if err != nil {
		emit(env.Failed(order, source, "could not list the listening sockets", err, "root"))
		return
	}
	scheme, _ := protocol.Lookup(order.Target.Scheme)
	if order.Target.Port == 0 || scheme.UDP || order.Target.Scheme == "" {
		if udp, err := dumpListening(unix.IPPROTO_UDP); err == nil {
			sockets = append(sockets, udp...)
		} else if udp, err := procListening("/proc/self/net", "udp"); err == nil {
			sockets = append(sockets, udp...)
		}
	}
	hidden, err := fillOwners(sockets, order.Target.Port, seen)
	if err != nil {
		emit(env.Failed(order, "/proc", "could not look up the owners of sockets", err, "root"))
	}
	slices.SortFunc(sockets, func(a, b *socket) int { return a.Compare(&b.Listener) })
	list := fact.Listeners{All: make([]fact.Listener, 0, len(sockets))}
	for _, s := range sockets {
		list.All = append(list.All, s.Listener)
	}
	if port := order.Target.Port; port != 0 && len(list.On(scheme.Transport(), port)) == 0 {
		list.Elsewhere = elsewhere(scheme.Transport(), port)
	}
	if hidden {
		list.Hidden = "processes of other users are visible to root only"
	}
	f := env.Seen(order, source, sawListeners(list, scheme.Transport(), order.Target.Port))
	f.Listeners = &list
	emit(f)
}

func sawListeners(list fact.Listeners, transport string, port uint16) string {
	on := list.On(transport, port)
	if len(on) == 0 {
		return fmt.Sprintf("none of %d holds port %d", len(list.All), port)
	}
	l := on[0]
	text := endpoint.HostPort(l.Addr.String(), port)
	if transport == "tcp" {
		text += fmt.Sprintf(", queue %d of %d", l.Queue, max(l.Limit, 1))
	}
	if l.Program != "" {
		text += fmt.Sprintf(", %s (pid %d)", l.Program, l.PID)
	}
	if len(on) > 1 {
		text += fmt.Sprintf(", and %d more", len(on)-1)
	}
	return text
}

// socket is a listener and its control group's id. A host may have very many: they
// stay where they were read.
type socket struct {
	fact.Listener
	cgroup uint64
}

// The kernel's interface for listing sockets (include/uapi/linux/inet_diag.h).
const (
	sockDiagByFamily = 20
	stateListen      = 10
	stateClose       = 7 // of a UDP socket that is not connected
	diagRequestSize  = 56
	diagMessageSize  = 72
	attrV6Only       = 11
	attrCgroup       = 21
)

// procListening reads the same from /proc, where the kernel's interface is
// closed. Queues are there, limits and units are not.
func procListening(folder, transport string) ([]*socket, error) {
	state, mark := "0A", ""
	if transport == "udp" {
		state, mark = "07", "udp"
	}
	var all []*socket
	err := eachSocket(folder, transport, func(p procSocket) {
		if p.state == state {
			all = append(
				all,
				&socket{
					Listener: fact.Listener{
						Transport: mark,
						Addr:      p.local.Addr(),
						Port:      p.local.Port(),
						Inode:     p.inode,
						Limit:     unknownLimit,
					},
				},
			)
		}
	})
	return all, err
}

// unknownLimit stands for a queue whose limit cannot be read: never full.
const unknownLimit = 1<<32 - 1

// elsewhere is the listeners on a port in other network namespaces of this
// host, as far as their processes can be seen.
func elsewhere(transport string, port uint16) []fact.Listener {
	list, err := pids()
	if err != nil {
		return nil
	}
	own, err := os.Readlink("/proc/self/ns/net")
	if err != nil {
		return nil
	}
	seen := map[string]bool{own: true}
	var found []fact.Listener
	for _, pid := range list {
		space, err := os.Readlink(procFile(pid, "ns/net"))
		if err != nil || seen[space] {
			continue
		}
		seen[space] = true
		sockets, err := procListening(procFile(pid, "net"), transport)
		if err != nil {
			continue
		}
		for _, s := range sockets {
			if s.Port != port {
				continue
			}
			inodes := map[uint32]int{s.Inode: 0}
			if _, err := owners(inodes); err == nil && inodes[s.Inode] != 0 {
				s.PID = inodes[s.Inode]
				s.Program, s.Unit = programName(s.PID), unitOf(s.PID)
			}
			s.Space = fmt.Sprintf("that of pid %d", pid)
			found = append(found, s.Listener)
		}
	}
	return found
}

// page is how many sockets get their room at once.
const page = 512

// dumpListening asks the kernel for every listening TCP socket, or every bound
// UDP socket that is not connected.
func dumpListening(protocol byte) ([]*socket, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	var all []*socket
	var room []socket
	state := stateListen
	if protocol == unix.IPPROTO_UDP {
		state = stateClose
	}
	for _, family := range []byte{unix.AF_INET, unix.AF_INET6} {
		request := make([]byte, unix.NLMSG_HDRLEN+diagRequestSize)
		binary.NativeEndian.PutUint32(request, uint32(len(request)))
		binary.NativeEndian.PutUint16(request[4:], sockDiagByFamily)
		binary.NativeEndian.PutUint16(request[6:], unix.NLM_F_REQUEST|unix.NLM_F_DUMP)
		body := request[unix.NLMSG_HDRLEN:]
		body[0], body[1] = family, protocol
		binary.NativeEndian.PutUint32(body[4:], 1<<state)
		if err := unix.Sendto(fd, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
			return nil, err
		}
		err := eachMessage(fd, func(b []byte) {
			if s, ok := readSocket(b); ok {
				if protocol == unix.IPPROTO_UDP {
					s.Transport = "udp"
				}
				if len(room) == cap(room) {
					room = make([]socket, 0, page)
				}
				room = append(room, s)
				all = append(all, &room[len(room)-1])
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// eachMessage reads a dump to its end. A host may have very many sockets: the
// messages are read in place, in pieces as large as the kernel makes them.
func eachMessage(fd int, do func(body []byte)) error {
	for buffer := make([]byte, 64<<10); ; {
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if err != nil {
			return err
		}
		for rest := buffer[:n]; len(rest) >= unix.NLMSG_HDRLEN; {
			size := int(binary.NativeEndian.Uint32(rest))
			if size < unix.NLMSG_HDRLEN || size > len(rest) {
				return fmt.Errorf("a message of %d bytes in %d", size, len(rest))
			}
			switch body := rest[unix.NLMSG_HDRLEN:size]; binary.NativeEndian.Uint16(rest[4:]) {
			case unix.NLMSG_DONE:
				return nil
			case unix.NLMSG_ERROR:
				if len(body) >= 4 {
					return syscall.Errno(-int32(binary.NativeEndian.Uint32(body)))
				}
				return unix.EIO
			default:
				do(body)
			}
			rest = rest[min(len(rest), (size+3)&^3):]
		}
	}
}

// readSocket reads a struct inet_diag_msg and its attributes.
func readSocket(b []byte) (socket, bool) {
	if len(b) < diagMessageSize {
		return socket{}, false
	}
	var s socket
	switch b[0] {
	case unix.AF_INET:
		s.Addr = netip.AddrFrom4([4]byte(b[8:12]))
	case unix.AF_INET6:
		s.Addr = netip.AddrFrom16([16]byte(b[8:24]))
	default:
		return socket{}, false
	}
	s.Port = binary.BigEndian.Uint16(b[4:])
	s.Queue = binary.NativeEndian.Uint32(b[56:])
	s.Limit = binary.NativeEndian.Uint32(b[60:])
	s.UID = binary.NativeEndian.Uint32(b[64:])
	s.Inode = binary.NativeEndian.Uint32(b[68:])
	// Attributes are length, kind, value, each at a multiple of four bytes.
	for rest := b[diagMessageSize:]; len(rest) >= 4; {
		size := int(binary.NativeEndian.Uint16(rest))
		if size < 4 || size > len(rest) {
			break
		}
		value := rest[4:size]
		switch kind := binary.NativeEndian.Uint16(rest[2:]); {
		case kind == attrV6Only && len(value) == 1:
			only := value[0] != 0
			s.V6Only = &only
		case kind == attrCgroup && len(value) == 8:
			s.cgroup = binary.NativeEndian.Uint64(value)
		}
		rest = rest[min(len(rest), (size+3)&^3):]
	}
	return s, true
}

// fillOwners names who holds the sockets on a port, or all if nobody does.
// Without privilege the user and the unit can still be told.
func fillOwners(sockets []*socket, port uint16, seen <-chan holders) (hidden bool, err error) {
	var want []*socket
	for _, s := range sockets {
		if s.Port == port {
			want = append(want, s)
		}
	}
	if len(want) == 0 {
		want = sockets
	}
	inodes := map[uint32]int{}
	if port == 0 {
		h := <-seen
		inodes, hidden, err = h.pid, h.hidden, h.err
	} else {
		for _, s := range want {
			inodes[s.Inode] = 0
		}
		hidden, err = owners(inodes)
	}
	groups := map[uint64]string{}
	users, programs := map[uint32]string{}, map[int]fact.Listener{}
	for _, s := range want {
		if _, known := users[s.UID]; !known {
			users[s.UID] = userName(s.UID)
		}
		s.User = users[s.UID]
		if s.PID = inodes[s.Inode]; s.PID == 0 {
			groups[s.cgroup] = ""
			continue
		}
		p, known := programs[s.PID]
		if !known {
			p = holderOf(s.PID)
			programs[s.PID] = p
		}
		s.Program, s.Unit, s.Args, s.Since = p.Program, p.Unit, p.Args, p.Since
	}
	hidden = hidden && len(groups) > 0
	if len(groups) > 0 {
		unitsByCgroup(groups)
		for _, s := range want {
			if s.PID == 0 {
				s.Unit = groups[s.cgroup]
			}
		}
	}
	return hidden, err
}

// holderOf is what there is to say of a process that holds a socket.
func holderOf(pid int) fact.Listener {
	l := fact.Listener{Program: programName(pid), Unit: unitOf(pid), Args: arguments(pid)}
	if p, ok := process(pid); ok {
		l.Since = p.Since
	}
	return l
}

func userName(uid uint32) string {
	u, err := user.LookupId(strconv.FormatUint(uint64(uid), 10))
	if err != nil {
		return strconv.FormatUint(uint64(uid), 10)
	}
	return u.Username
}

func inode(path string) (uint64, bool) {
	info, err := os.Stat(path)
	if err != nil {
		return 0, false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, false
	}
	return st.Ino, true
}
