// Package host looks at the host the program runs on: its addresses, who
// listens, and what stands behind a service.
package host

import (
	"context"
	"net"
	"net/netip"
	"os"

	"fmt"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Addresses leaves every address of this host.
func Addresses(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	held, err := addresses()
	if err != nil {
		emit(env.Failed(order, "addresses of this host", "could not list this host's addresses", err, ""))
		return
	}
	name, err := os.Hostname()
	if err != nil {
		name = "this host"
	}
	f := env.Seen(order, "addresses of "+name, fmt.Sprintf("%d addresses", len(held)))
	f.Addresses = &fact.Addresses{Host: name, Held: held}
	emit(f)
}

func addresses() ([]fact.Address, error) {
	links, err := net.Interfaces()
	if err != nil {
		return nil, err
	}
	held := []fact.Address{}
	for _, link := range links {
		addrs, err := link.Addrs()
		if err != nil {
			return nil, fmt.Errorf("link %s: %w", link.Name, err)
		}
		for _, a := range addrs {
			prefix, err := netip.ParsePrefix(a.String())
			if err != nil {
				continue
			}
			held = append(held, fact.Address{
				Prefix: netip.PrefixFrom(prefix.Addr().Unmap(), prefix.Bits()), Link: link.Name,
				Up:    link.Flags&net.FlagUp != 0 && link.Flags&net.FlagRunning != 0,
				Local: link.Flags&net.FlagLoopback != 0,
			})
		}
	}
	return held, nil
}
