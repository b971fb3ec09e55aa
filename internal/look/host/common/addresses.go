// Package common is what is asked of a host in the same way on every system.

package common

import (
	"context"
	"fmt"
	"os"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Addresses leaves every address of this host, as the system lists them.
func Addresses(list func() (held []fact.Address, macs []string, err error)) look.Func {
	return func(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
		held, macs, err := list()
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
}
