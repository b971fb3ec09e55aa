//go:build !linux

package errqueue

import (
	"syscall"

	"uakari/internal/fact"
)

// Witness sees nothing here: only Linux keeps a queue of errors per socket.
type Witness struct{ Hops, Least, Segment int }

// New is a witness of one connection.
func New() *Witness { return &Witness{} }

// Control is for a net.Dialer.
func (*Witness) Control(_, _ string, _ syscall.RawConn) error { return nil }

// Close lets go of nothing.
func (*Witness) Close() {}

// ICMP is never known here.
func (*Witness) ICMP() *fact.ICMPError { return nil }
