//go:build unix

package names

import (
	"bufio"
	"bytes"
	"context"
	"net/netip"
	"os/exec"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/wire"
)

// system leaves what the system's own look-up gives, where it can be asked
// (getent(1)): it knows sources that nobody else here does. A look-up by other
// resolvers or another hosts file than the system's cannot be compared.
func (l looker) system(ctx context.Context) {
	if len(l.env.Resolvers) > 0 || l.env.HostsFile != "" || l.env.Inside {
		return
	}
	path, err := exec.LookPath("getent")
	if err != nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, l.env.Patience())
	defer cancel()
	began := time.Now()
	cmd := exec.CommandContext(ctx, path, "ahosts", "--", l.order.Target.Name)
	cmd.WaitDelay = time.Second
	out, err := cmd.Output()
	if err != nil && ctx.Err() != nil {
		return // it waits for a resolver, which shows by itself
	}
	s := fact.SystemLookup{Addrs: []netip.Addr{}, TookMS: wire.MS(time.Since(began))}
	lines := bufio.NewScanner(bytes.NewReader(out))
	for lines.Scan() {
		word, _, _ := strings.Cut(lines.Text(), " ")
		if addr, err := netip.ParseAddr(strings.TrimSpace(word)); err == nil &&
			!slices.Contains(s.Addrs, addr.Unmap()) &&
			len(s.Addrs) < mostAnswers {
			s.Addrs = append(s.Addrs, addr.Unmap())
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
