package session

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"syscall"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/errqueue"
	"uakari/internal/wire"
)

// smallSegment is small enough for every link: what a host takes where nobody told it
// more (RFC 9293 section 3.7.1), in bytes.
const smallSegment = 536

// connect connects once and tells every way to fail apart. Where the system
// can say so, it tells who sent an ICMP refusal.
func connect(ctx context.Context, t fact.Target, wait time.Duration) (net.Conn, fact.Connect) {
	w := errqueue.New()
	if t.Small {
		w.Segment = smallSegment
	}
	defer w.Close()
	d := net.Dialer{Timeout: look.Within(ctx, wait), Control: w.Control, KeepAlive: -1}
	began := time.Now()
	conn, err := d.DialContext(ctx, "tcp", netip.AddrPortFrom(t.Addr, t.Port).String())
	result := fact.Connect{TookMS: wire.MS(time.Since(began))}
	if err == nil {
		result.Outcome = fact.Connected
		if local, ok := conn.LocalAddr().(*net.TCPAddr); ok {
			result.Local = unmap(local.AddrPort())
		}
		return conn, result
	}
	if wire.Ending(err) == fact.ResetMid {
		// Only what was there can be cut: a first packet that is refused ends otherwise.
		result.Outcome, result.Local = fact.Connected, sourceFor(ctx, t)
		return cutConn{err}, result
	}
	failed := failure(err, w)
	failed.TookMS = result.TookMS
	return nil, failed
}

// sourceFor is the address that this host goes from; no packet is sent.
func sourceFor(ctx context.Context, t fact.Target) netip.AddrPort {
	var d net.Dialer
	conn, err := d.DialContext(ctx, "udp", netip.AddrPortFrom(t.Addr, t.Port).String())
	if err != nil {
		return netip.AddrPort{}
	}
	defer conn.Close()
	local, ok := conn.LocalAddr().(*net.UDPAddr)
	if !ok {
		return netip.AddrPort{}
	}
	return netip.AddrPortFrom(local.AddrPort().Addr().Unmap(), 0)
}

// cutConn is a connection that the other end cut before its first byte, and before
// the system handed it over.
type cutConn struct{ err error }

func (c cutConn) Read([]byte) (int, error)       { return 0, c.err }
func (c cutConn) Write([]byte) (int, error)      { return 0, c.err }
func (cutConn) Close() error                     { return nil }
func (cutConn) LocalAddr() net.Addr              { return &net.TCPAddr{} }
func (cutConn) RemoteAddr() net.Addr             { return &net.TCPAddr{} }
func (cutConn) SetDeadline(time.Time) error      { return nil }
func (cutConn) SetReadDeadline(time.Time) error  { return nil }
func (cutConn) SetWriteDeadline(time.Time) error { return nil }

// failure tells the ways apart in which a first packet fails.
func failure(err error, w *errqueue.Witness) fact.Connect {
	var errno syscall.Errno
	switch icmp := w.ICMP(); {
	case icmp != nil:
		return fact.Connect{Outcome: fact.ICMP, ICMP: icmp}
	case errors.Is(err, os.ErrDeadlineExceeded),
		errors.Is(err, context.DeadlineExceeded),
		errors.Is(err, context.Canceled),
		errors.Is(err, timedOut),
		isTimeout(err):
		return fact.Connect{Outcome: fact.Silent}
	case errors.Is(err, errRefused):
		return fact.Connect{Outcome: fact.Reset}
	case errors.As(err, &errno):
		return fact.Connect{Outcome: fact.LocalError, Errno: errnoName(errno)}
	}
	return fact.Connect{Outcome: fact.LocalError, Errno: err.Error()}
}

func isTimeout(err error) bool {
	var ne net.Error
	return errors.As(err, &ne) && ne.Timeout()
}

func unmap(ap netip.AddrPort) netip.AddrPort {
	return netip.AddrPortFrom(ap.Addr().Unmap(), ap.Port())
}
