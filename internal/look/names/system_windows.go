package names

import (
	"context"
	"net"
	"slices"
	"time"

	"uakari/internal/fact"
	"uakari/internal/wire"
)

// system leaves what the system's own look-up gives (GetAddrInfo): it knows
// sources that nobody else here does. A look-up by other resolvers or another
// hosts file than the system's cannot be compared.
func (l looker) system(ctx context.Context) {
	if len(l.env.Resolvers) > 0 || l.env.HostsFile != "" {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, l.env.Patience())
	defer cancel()
	began := time.Now()
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", l.order.Target.Name)
	if err != nil && ctx.Err() != nil {
		return // it waits for a resolver, which shows by itself
	}
	s := fact.SystemLookup{TookMS: wire.MS(time.Since(began))}
	for _, addr := range addrs[:min(len(addrs), mostAnswers)] {
		if addr = addr.Unmap(); !slices.Contains(s.Addrs, addr) {
			s.Addrs = append(s.Addrs, addr)
		}
	}
	saw := "nothing"
	if len(s.Addrs) > 0 {
		saw = joinAddrs(s.Addrs)
	}
	f := l.env.Seen(l.order, "the system's own look-up", saw)
	f.System = &s
	l.emit(f)
}
