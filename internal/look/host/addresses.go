// Package host looks at the host the program runs on: its addresses, who
// listens, and what stands behind a service.
package host

import (
	"context"
	"fmt"
	"os"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Addresses leaves every address of this host.
func Addresses(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	held, macs, err := addresses()
	if err != nil {
		emit(env.Failed(order, "addresses of this host", "could not list this host's addresses", err, ""))
		return
	}
	name, err := os.Hostname()
	if err != nil {
		name = "this host"
	}
	f := env.Seen(order, "addresses of "+name, fmt.Sprintf("%d addresses", len(held)))
	f.Addresses = &fact.Addresses{Host: name, Held: held, MACs: macs}
	emit(f)
}
