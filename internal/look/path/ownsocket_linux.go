package path

import (
	"encoding/binary"
	"net/netip"
	"os"
	"strconv"

	"golang.org/x/sys/unix"
)

// flow is a connection by its two ends, the lesser first, so that both directions are one.
type flow struct{ one, other netip.AddrPort }

// flowOf is the flow of a TCP or UDP packet.
func flowOf(h head, b []byte) (flow, bool) {
	if len(b) < h.long+4 || h.protocol != unix.IPPROTO_TCP && h.protocol != unix.IPPROTO_UDP {
		return flow{}, false
	}
	from := netip.AddrPortFrom(h.from, binary.BigEndian.Uint16(b[h.long:]))
	to := netip.AddrPortFrom(h.to, binary.BigEndian.Uint16(b[h.long+2:]))
	if from.Compare(to) > 0 {
		from, to = to, from
	}
	return flow{from, to}, true
}

// ownFlows is the flows that were seen to be of this process: of all others no byte of what
// is said is kept.
type ownFlows map[flow]bool

// mostFlows bounds how many are known.
const mostFlows = 4096

// has reports whether a flow is of a socket of this process. One that closed before its packet
// was read is not found, unless an earlier packet of it was.
func (o ownFlows) has(f flow) bool {
	if !o[f] && len(o) < mostFlows && ownSocket(f) {
		o[f] = true
	}
	return o[f]
}

// ownSocket looks through the sockets of this process for one of a flow. One that is still
// connecting has no other end yet (getpeername(2)), one that listens never has.
func ownSocket(f flow) bool {
	list, err := os.ReadDir("/proc/self/fd")
	if err != nil {
		return false
	}
	for _, each := range list {
		fd, err := strconv.Atoi(each.Name())
		if err != nil {
			continue
		}
		name, err := unix.Getsockname(fd)
		if err != nil {
			continue
		}
		local, ok := socketAddr(name)
		if !ok {
			continue
		}
		other := f.other
		switch {
		case sameEnd(local, f.one):
		case sameEnd(local, f.other):
			other = f.one
		default:
			continue
		}
		peer, err := unix.Getpeername(fd)
		if err != nil {
			listens, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_ACCEPTCONN)
			if err == nil && listens == 0 {
				return true
			}
			continue
		}
		if remote, ok := socketAddr(peer); ok && remote.Port() == other.Port() && remote.Addr() == other.Addr() {
			return true
		}
	}
	return false
}

// sameEnd reports whether a socket's own address is an end of a flow: its address may not be
// chosen yet.
func sameEnd(local, end netip.AddrPort) bool {
	return local.Port() == end.Port() && (local.Addr() == end.Addr() || local.Addr().IsUnspecified())
}

func socketAddr(sa unix.Sockaddr) (netip.AddrPort, bool) {
	switch a := sa.(type) {
	case *unix.SockaddrInet4:
		return netip.AddrPortFrom(netip.AddrFrom4(a.Addr), uint16(a.Port)), true
	case *unix.SockaddrInet6:
		return netip.AddrPortFrom(netip.AddrFrom16(a.Addr).Unmap(), uint16(a.Port)), true
	}
	return netip.AddrPort{}, false
}
