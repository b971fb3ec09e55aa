// Package errqueue finds out who refused a connection: it keeps a socket's
// error queue readable after the dialer has closed the socket.
package errqueue

import (
	"encoding/binary"
	"net/netip"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
)

// Witness keeps a second descriptor of a socket, so that its error queue can
// be read after the dialer has closed the first (ip(7), IP_RECVERR): a reset
// leaves nothing there, an ICMP message leaves its sender, type and code.
type Witness struct {
	fd int
	// Hops, if above zero, limits how many routers a packet may pass
	// (IP_TTL, IPV6_UNICAST_HOPS).
	Hops int
	// Least, if above zero, is how many hops an answer must have left to be
	// taken (IP_MINTTL, IPV6_MINHOPCOUNT).
	Least int
	// Segment, if above zero, is the most that either end may send in one
	// segment (TCP_MAXSEG), in bytes.
	Segment int
}

// New is a witness of one connection.
func New() *Witness { return &Witness{fd: -1} }

// Control is for a net.Dialer.
func (w *Witness) Control(network, _ string, c syscall.RawConn) error {
	return c.Control(func(fd uintptr) {
		// Without the queue the connect still works and tells less.
		if strings.HasSuffix(network, "6") {
			unix.SetsockoptInt(int(fd), unix.SOL_IPV6, unix.IPV6_RECVERR, 1)
			if w.Hops > 0 {
				unix.SetsockoptInt(int(fd), unix.SOL_IPV6, unix.IPV6_UNICAST_HOPS, w.Hops)
			}
		} else {
			unix.SetsockoptInt(int(fd), unix.SOL_IP, unix.IP_RECVERR, 1)
			if w.Hops > 0 {
				unix.SetsockoptInt(int(fd), unix.SOL_IP, unix.IP_TTL, w.Hops)
			}
		}
		if w.Least > 0 {
			if strings.HasSuffix(network, "6") {
				unix.SetsockoptInt(int(fd), unix.SOL_IPV6, unix.IPV6_MINHOPCOUNT, w.Least)
			} else {
				unix.SetsockoptInt(int(fd), unix.SOL_IP, unix.IP_MINTTL, w.Least)
			}
		}
		if w.Segment > 0 {
			unix.SetsockoptInt(int(fd), unix.SOL_TCP, unix.TCP_MAXSEG, w.Segment)
		}
		if dup, err := unix.FcntlInt(fd, unix.F_DUPFD_CLOEXEC, 0); err == nil {
			w.fd = dup
		}
	})
}

// Close lets go of the descriptor.
func (w *Witness) Close() {
	if w.fd >= 0 {
		unix.Close(w.fd)
		w.fd = -1
	}
}

// Origins of an error in the queue (include/uapi/linux/errqueue.h).
const (
	originICMP  = 2
	originICMP6 = 3
)

// ICMP is the ICMP message in the error queue, if there is one.
func (w *Witness) ICMP() *fact.ICMPError {
	if w.fd < 0 {
		return nil
	}
	control := make([]byte, 512)
	for range 8 {
		_, n, _, _, err := unix.Recvmsg(w.fd, make([]byte, 128), control, unix.MSG_ERRQUEUE|unix.MSG_DONTWAIT)
		if err != nil {
			return nil
		}
		messages, err := unix.ParseSocketControlMessage(control[:n])
		if err != nil {
			return nil
		}
		for _, m := range messages {
			if refusal := extendedError(m.Data); refusal != nil {
				return refusal
			}
		}
	}
	return nil
}

// extendedError reads a struct sock_extended_err and the sender's address
// behind it.
func extendedError(b []byte) *fact.ICMPError {
	const head = 16
	if len(b) < head+8 {
		return nil
	}
	origin := b[4]
	e := &fact.ICMPError{Type: b[5], Code: b[6], Version: 4}
	switch origin {
	case originICMP:
		if binary.NativeEndian.Uint16(b[head:]) != unix.AF_INET {
			return nil
		}
		e.From = netip.AddrFrom4([4]byte(b[head+4 : head+8]))
	case originICMP6:
		if len(b) < head+24 || binary.NativeEndian.Uint16(b[head:]) != unix.AF_INET6 {
			return nil
		}
		e.Version, e.From = 6, netip.AddrFrom16([16]byte(b[head+8:head+24]))
	default:
		return nil
	}
	return e
}
