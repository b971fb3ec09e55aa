//go:build !linux

package host

import (
	"context"
	"errors"
	"runtime"

	"uakari/internal/fact"
	"uakari/internal/look"
)

var errNotHere = errors.New("not looked at on " + runtime.GOOS)

// Listeners cannot be listed here.
func Listeners(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "listening sockets", "could not list the listening sockets", errNotHere, "a server that runs Linux"))
}

// Service cannot be looked at here.
func Service(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "units and processes", "could not look at units and processes", errNotHere, "a server that runs Linux"))
}

// Routes cannot be looked at here.
func Routes(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "routes", "could not read the routing tables", errNotHere, "a host that runs Linux"))
}

// Neighbours cannot be looked at here.
func Neighbours(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "neighbours", "could not read the neighbour table", errNotHere, "a host that runs Linux"))
}

// Kernel cannot be looked at here.
func Kernel(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "kernel settings", "could not read the kernel's settings", errNotHere, "a host that runs Linux"))
}

// Barriers cannot be looked at here.
func Barriers(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "barriers", "could not look for what stops packets", errNotHere, "a host that runs Linux"))
}

// Peers cannot be looked at here.
func Peers(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "connections", "could not list the connections", errNotHere, "a host that runs Linux"))
}

// Resources cannot be looked at here.
func Resources(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "resources", "could not look at disks and memory", errNotHere, "a host that runs Linux"))
}
