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
	"uakari/internal/look/witness"
	"uakari/internal/wire"
)

// smallSegment is small enough for every link that is in use: with the heads
// of TCP and IPv6 it is less than the least that IPv6 allows (RFC 8200 section
// 5), in bytes.
const smallSegment = 1100

// connect connects once and tells every way to fail apart. Where the system
// can say so, it tells who sent an ICMP refusal.
func connect(ctx context.Context, t fact.Target, wait time.Duration) (net.Conn, fact.Connect) {
	w := witness.New()
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
	failed := failure(err, w)
	failed.TookMS = result.TookMS
	return nil, failed
}

// failure tells the ways apart in which a first packet fails.
func failure(err error, w *witness.Witness) fact.Connect {
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
