//go:build !linux

package session

import (
	"syscall"

	"uakari/internal/fact"
)

func errnoName(e syscall.Errno) string { return e.Error() }

// witness sees nothing here: only Linux keeps a queue of errors per socket.
type witness struct{}

func newWitness() *witness { return &witness{} }

func (*witness) control(_, _ string, _ syscall.RawConn) error { return nil }
func (*witness) close()                                       {}
func (*witness) icmp() *fact.ICMPError                        { return nil }
