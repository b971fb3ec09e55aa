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
