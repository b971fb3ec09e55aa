package host

import (
	"context"
	"encoding/binary"
	"fmt"
	"net/netip"
	"os"
	"os/user"
	"strconv"
	"syscall"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
)

// Listeners leaves every listening TCP socket of this network namespace, with
// the owner of those on the port that was asked for. If nobody holds the
// port, every owner is looked up: the service may be on another.
func Listeners(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	const source = "listening sockets"
	sockets, err := dumpListening()
	if err != nil {
		emit(env.Failed(order, source, "could not list the listening sockets", err, "root"))
		return
	}
	hidden, err := fillOwners(sockets, order.Target.Port)
	if err != nil {
		emit(env.Failed(order, "/proc", "could not look up the owners of sockets", err, "root"))
	}
	list := fact.Listeners{All: []fact.Listener{}}
	for _, s := range sockets {
		list.All = append(list.All, s.Listener)
	}
	if hidden {
		list.Hidden = "processes of other users are visible to root only"
	}
	f := env.Seen(order, source, sawListeners(list, order.Target.Port))
	f.Listeners = &list
	emit(f)
}

func sawListeners(list fact.Listeners, port uint16) string {
	on := list.On(port)
	if len(on) == 0 {
		return fmt.Sprintf("none of %d holds port %d", len(list.All), port)
	}
	l := on[0]
	text := fmt.Sprintf("%s, queue %d of %d", endpoint.HostPort(l.Addr.String(), port), l.Queue, max(l.Limit, 1))
	if l.Program != "" {
		text += fmt.Sprintf(", %s (pid %d)", l.Program, l.PID)
	}
	if len(on) > 1 {
		text += fmt.Sprintf(", and %d more", len(on)-1)
	}
	return text
}

// socket is a listener and its control group's id.
type socket struct {
	fact.Listener
	cgroup uint64
}

// The kernel's interface for listing sockets (include/uapi/linux/inet_diag.h).
const (
	sockDiagByFamily = 20
	stateListen      = 10
	diagRequestSize  = 56
	diagMessageSize  = 72
	attrV6Only       = 11
	attrCgroup       = 21
)

// dumpListening asks the kernel for every listening TCP socket.
func dumpListening() ([]socket, error) {
	conn, err := netlink.Dial(unix.NETLINK_SOCK_DIAG, nil)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	var all []socket
	for _, family := range []byte{unix.AF_INET, unix.AF_INET6} {
		request := make([]byte, diagRequestSize)
		request[0], request[1] = family, unix.IPPROTO_TCP
		binary.NativeEndian.PutUint32(request[4:], 1<<stateListen)
		messages, err := conn.Execute(netlink.Message{
			Header: netlink.Header{Type: sockDiagByFamily, Flags: netlink.Request | netlink.Dump},
			Data:   request,
		})
		if err != nil {
			return nil, err
		}
		for _, m := range messages {
			if s, ok := readSocket(m.Data); ok {
				all = append(all, s)
			}
		}
	}
	return all, nil
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
	attrs, err := netlink.NewAttributeDecoder(b[diagMessageSize:])
	if err != nil {
		return s, true
	}
	for attrs.Next() {
		switch attrs.Type() {
		case attrV6Only:
			only := attrs.Uint8() != 0
			s.V6Only = &only
		case attrCgroup:
			s.cgroup = attrs.Uint64()
		}
	}
	return s, true
}

// fillOwners names who holds the sockets on a port, or all if nobody does.
// Without privilege the user and the unit can still be told.
func fillOwners(sockets []socket, port uint16) (hidden bool, err error) {
	var want []*socket
	for i := range sockets {
		if sockets[i].Port == port {
			want = append(want, &sockets[i])
		}
	}
	if len(want) == 0 {
		for i := range sockets {
			want = append(want, &sockets[i])
		}
	}
	inodes := map[uint32]int{}
	for _, s := range want {
		inodes[s.Inode] = 0
	}
	hidden, err = owners(inodes)
	groups := map[uint64]string{}
	for _, s := range want {
		s.User = userName(s.UID)
		if s.PID = inodes[s.Inode]; s.PID == 0 {
			groups[s.cgroup] = ""
			continue
		}
		s.Program, s.Unit = programName(s.PID), unitOf(s.PID)
		if p, ok := process(s.PID); ok {
			s.Since = p.Since
		}
	}
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
