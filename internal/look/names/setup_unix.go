//go:build !windows

package names

import (
	"syscall"

	"uakari/internal/fact"
)

// ownSetup is how this host is set to look names up.
func ownSetup() (fact.ResolverSetup, error) { return ReadSetup(systemSetup) }

// unreachable is how the system says that a resolver's host cannot be asked.
var unreachable = []error{
	syscall.ECONNREFUSED, syscall.ENETUNREACH, syscall.EHOSTUNREACH, syscall.EACCES, syscall.EPERM, syscall.EINVAL,
}
