//go:build windows

package windows

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"unsafe"

	"golang.org/x/sys/windows"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/protocol"
)

var (
	iphlpapi            = windows.NewLazySystemDLL("iphlpapi.dll")
	getExtendedTCPTable = iphlpapi.NewProc("GetExtendedTcpTable")
	getExtendedUDPTable = iphlpapi.NewProc("GetExtendedUdpTable")
)

// Kinds of the tables (TCP_TABLE_CLASS and UDP_TABLE_CLASS of iprtrmib.h), and
// the states of a connection (MIB_TCP_STATE of tcpmib.h).
const (
	tcpOwnersAll = 5
	udpOwners    = 1
	tcpListening = 2
)

var tcpStates = map[uint32]string{
	3: "syn-sent", 4: "syn-received", 5: "established", 6: "fin-wait-1", 7: "fin-wait-2", 8: "close-wait",
	9:  "closing",
	10: "last-ack", 11: "time-wait",
}

// socket is one row of a table.
type socket struct {
	state       uint32
	local, peer netip.AddrPort
	pid         uint32
	datagrams   bool
}

// layout is where the fields of a row stand (MIB_TCPROW_OWNER_PID,
// MIB_TCP6ROW_OWNER_PID, MIB_UDPROW_OWNER_PID, MIB_UDP6ROW_OWNER_PID); -1: it
// has none.
type layout struct {
	proc                                         *windows.LazyProc
	family                                       uint32
	class                                        uintptr
	size, state, addr, port, peer, peerPort, pid int
	datagrams                                    bool
}

var layouts = []layout{
	{getExtendedTCPTable, windows.AF_INET, tcpOwnersAll, 24, 0, 4, 8, 12, 16, 20, false},
	{getExtendedTCPTable, windows.AF_INET6, tcpOwnersAll, 56, 48, 0, 20, 24, 44, 52, false},
	{getExtendedUDPTable, windows.AF_INET, udpOwners, 12, -1, 0, 4, -1, -1, 8, true},
	{getExtendedUDPTable, windows.AF_INET6, udpOwners, 28, -1, 0, 20, -1, -1, 24, true},
}

// sockets is every row of all tables.
func sockets() ([]socket, error) {
	var list []socket
	for _, l := range layouts {
		table, err := l.table()
		if err != nil {
			return nil, err
		}
		count := int(binary.LittleEndian.Uint32(table))
		for rows := table[4:]; count > 0 && len(rows) >= l.size; count, rows = count-1, rows[l.size:] {
			list = append(list, l.read(rows))
		}
	}
	return list, nil
}

// table asks for a table, until it fits.
func (l layout) table() ([]byte, error) {
	if err := l.proc.Find(); err != nil {
		return nil, err
	}
	size := uint32(16 << 10)
	for range 6 {
		buffer := make([]byte, size)
		code, _, _ := l.proc.Call(
			uintptr(unsafe.Pointer(&buffer[0])),
			uintptr(unsafe.Pointer(&size)),
			0,
			uintptr(l.family),
			l.class,
			0,
		)
		switch windows.Errno(code) {
		case 0:
			return buffer, nil
		case windows.ERROR_INSUFFICIENT_BUFFER:
			size += 4 << 10 // it may grow meanwhile
		default:
			return nil, windows.Errno(code)
		}
	}
	return nil, errors.New("the table of sockets grows faster than it is read")
}

func (l layout) read(row []byte) socket {
	addr := func(at int) netip.Addr {
		if l.family == windows.AF_INET6 {
			return netip.AddrFrom16([16]byte(row[at : at+16])).Unmap()
		}
		return netip.AddrFrom4([4]byte(row[at : at+4]))
	}
	s := socket{
		local:     netip.AddrPortFrom(addr(l.addr), binary.BigEndian.Uint16(row[l.port:])),
		pid:       binary.LittleEndian.Uint32(row[l.pid:]),
		datagrams: l.datagrams,
	}
	if l.family == windows.AF_INET6 && s.local.Addr() == netip.IPv4Unspecified() {
		s.local = netip.AddrPortFrom(netip.IPv6Unspecified(), s.local.Port())
	}
	if !l.datagrams {
		s.state = binary.LittleEndian.Uint32(row[l.state:])
		s.peer = netip.AddrPortFrom(addr(l.peer), binary.BigEndian.Uint16(row[l.peerPort:]))
	}
	return s
}

// Listeners leaves every listening socket with its owner: its program, the
// service that it belongs to, and since when it runs.
func Listeners(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	const source = "listening sockets"
	all, err := sockets()
	if err != nil {
		emit(env.Failed(order, source, "could not list the listening sockets", err, ""))
		return
	}
	running, err := processes()
	if err != nil {
		emit(env.Failed(order, "processes", "could not list the processes", err, "an administrator's prompt"))
	}
	services, err := servicesByPID()
	if err != nil {
		emit(env.Failed(order, "services", "could not list the services", err, ""))
	}
	scheme, _ := protocol.Lookup(order.Target.Scheme)
	list := fact.Listeners{All: []fact.Listener{}}
	ownerless := false
	for _, s := range all {
		if !s.datagrams && s.state != tcpListening || s.datagrams && order.Target.Port != 0 && !scheme.UDP {
			continue
		}
		l := fact.Listener{Addr: s.local.Addr(), Port: s.local.Port(), Unqueued: true, PID: int(s.pid)}
		if s.datagrams {
			l.Transport = "udp"
		}
		if p, ok := running[s.pid]; ok {
			l.Program, l.Path, l.User, l.Since = p.name, p.path, p.user(), p.since
			l.Unit = services[s.pid]
		}
		ownerless = ownerless || s.pid == 0
		list.All = append(list.All, l)
	}
	if site := sitesOf(order.Target.Port, list.All); site != "" {
		for i := range list.All {
			if l := &list.All[i]; l.Port == order.Target.Port && l.PID == kernelPID {
				l.Args = site
			}
		}
	}
	if ownerless {
		list.Hidden = "the system does not say who holds some of them"
	}
	saw := fmt.Sprintf("none of %d holds port %d", len(list.All), order.Target.Port)
	if on := list.On(scheme.Transport(), order.Target.Port); len(on) > 0 {
		saw = endpoint.HostPort(on[0].Addr.String(), on[0].Port) + ", " + on[0].Program
	}
	f := env.Seen(order, source, saw)
	f.Listeners = &list
	emit(f)
}

// holders is who holds the ports, as rules on programs and services ask.
func holders() ([]fact.PortHolder, error) {
	all, err := sockets()
	if err != nil {
		return nil, err
	}
	running, err := processes()
	if err != nil {
		return nil, err
	}
	services, err := servicesByPID()
	if err != nil {
		return nil, err
	}
	list := []fact.PortHolder{}
	for _, s := range all {
		if !s.datagrams && s.state != tcpListening {
			continue
		}
		h := fact.PortHolder{Transport: "tcp", Port: s.local.Port(), Path: running[s.pid].path,
			Service: services[s.pid]}
		if s.datagrams {
			h.Transport = "udp"
		}
		if s.pid == kernelPID {
			h.Path = "System"
		}
		if !slices.Contains(list, h) {
			list = append(list, h)
		}
	}
	return list, nil
}

// Peers leaves who is connected to a port.
func Peers(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	all, err := sockets()
	if err != nil {
		emit(env.Failed(order, "connections", "could not list the connections", err, ""))
		return
	}
	p := fact.Peers{Port: order.Target.Port, List: []fact.Peer{}}
	for _, s := range all {
		state := tcpStates[s.state]
		if s.datagrams || state == "" || p.Port != 0 && s.local.Port() != p.Port {
			continue
		}
		at := slices.IndexFunc(p.List, func(have fact.Peer) bool {
			return have.Addr == s.peer.Addr() &&
				have.State == state
		})
		if at < 0 {
			p.List, at = append(p.List, fact.Peer{Addr: s.peer.Addr(), State: state}), len(p.List)
		}
		p.List[at].Count++
	}
	f := env.Seen(order, "connections", fmt.Sprintf("%d peers", len(p.List)))
	f.Peers = &p
	emit(f)
}
