package common

import (
	"context"
	"fmt"
	"os"
	"runtime"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Identity leaves which host this is, and what its clock says; identify fills
// in what the system tells of itself.
func Identity(identify func(*fact.Identity)) look.Func {
	return func(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
		name, err := os.Hostname()
		if err != nil {
			emit(env.Failed(order, "hostname", "could not read this host's name", err, ""))
		}
		id := fact.Identity{Host: name, System: runtime.GOOS, Arch: runtime.GOARCH, Clock: env.Clock().UTC()}
		if identify != nil {
			identify(&id)
		}
		saw := fmt.Sprintf("%s, %s", name, id.System)
		for _, p := range id.Policies {
			saw += "; " + p.Says
		}
		f := env.Seen(order, "identity", saw)
		f.Identity = &id
		emit(f)
	}
}
