//go:build !linux

package path

import (
	"context"
	"errors"
	"runtime"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Packets cannot be watched here.
func Packets(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "packets", "could not watch the links", errors.New("not looked at on "+runtime.GOOS), ""))
}

// Route cannot be asked for here.
func Route(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "route to "+order.Target.Addr.String(), "could not ask for the route",
		errors.New("not looked at on "+runtime.GOOS), ""))
}

// Claims cannot be asked for here.
func Claims(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "who answers for "+order.Target.Addr.String()+" on the link", "could not ask the link",
		errors.New("not looked at on "+runtime.GOOS), ""))
}

// Link cannot be looked at here.
func Link(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	emit(env.Failed(order, "neighbours on the link to "+order.Target.Addr.String(), "could not read the neighbours",
		errors.New("not looked at on "+runtime.GOOS), ""))
}
