//go:build !linux

package host

import (
	"context"
	"errors"
	"runtime"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// What cannot be looked at on this system says so, each look for itself.
var (
	Listeners  = notHere("listening sockets", "could not list the listening sockets")
	Service    = notHere("units and processes", "could not look at units and processes")
	Routes     = notHere("routes", "could not read the routing tables")
	Neighbours = notHere("neighbours", "could not read the neighbour table")
	Kernel     = notHere("kernel settings", "could not read the kernel's settings")
	Barriers   = notHere("barriers", "could not look for what stops packets")
	Peers      = notHere("connections", "could not list the connections")
	Resources  = notHere("resources", "could not look at disks and memory")
	Upstreams  = notHere("backends", "could not read the gateway's settings")
	Account    = notHere("accounts", "could not read the state of the account")
	Accounts   = notHere("accounts", "could not ask the service for its accounts")
	PathRights = notHere("path rights", "could not walk the path")
	KeyTable   = notHere("key table", "could not read the key table")
	CertFiles  = notHere("certificate files", "could not read the certificate files")
	Access     = notHere("access lists", "could not read the access lists")
	Tables     = notHere("packet filters", "could not read the packet filters")
)

var errNotHere = errors.New("not looked at on " + runtime.GOOS)

func notHere(source, what string) func(context.Context, look.Env, fact.Order, look.Emit) {
	return func(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
		emit(env.Failed(order, source, what, errNotHere, "a host that runs Linux"))
	}
}
