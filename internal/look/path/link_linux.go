package path

import (
	"context"
	"fmt"
	"net/netip"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// mostNeighbours bounds the neighbours that are kept.
const mostNeighbours = 20

// NeighbourStates names the kernel's states (include/uapi/linux/neighbour.h).
var NeighbourStates = map[int]string{
	unix.NUD_INCOMPLETE: "incomplete", unix.NUD_REACHABLE: "reachable", unix.NUD_STALE: "stale",
	unix.NUD_DELAY: "delay",
	unix.NUD_PROBE: "probe", unix.NUD_FAILED: "failed", unix.NUD_NOARP: "noarp", unix.NUD_PERMANENT: "permanent",
}

// Link leaves which neighbours answer on the link over which this host sends
// to an address.
func Link(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	addr := order.Target.Addr
	source := "neighbours on the link to " + addr.String()
	failed := func(err error) { emit(env.Failed(order, source, "could not read the neighbours", err, "")) }
	routes, err := netlink.RouteGet(addr.AsSlice())
	if err != nil || len(routes) == 0 {
		failed(fmt.Errorf("no route: %w", err))
		return
	}
	family := unix.AF_INET
	if addr.Is6() {
		family = unix.AF_INET6
	}
	list, err := netlink.NeighList(routes[0].LinkIndex, family)
	if err != nil {
		failed(err)
		return
	}
	l := fact.Link{}
	if link, err := netlink.LinkByIndex(routes[0].LinkIndex); err == nil {
		l.Dev = link.Attrs().Name
	}
	for _, n := range list {
		other, ok := netip.AddrFromSlice(n.IP)
		switch other = other.Unmap(); {
		case !ok:
		case other == addr.WithZone(""):
			l.State = NeighbourStates[n.State]
		case n.State == unix.NUD_REACHABLE && len(l.Answer) < mostNeighbours:
			l.Answer = append(l.Answer, other)
		}
	}
	f := env.Seen(
		order,
		source,
		fmt.Sprintf("%s is %s on %s; %d others answer", addr, orUnknown(l.State), l.Dev, len(l.Answer)),
	)
	f.Link = &l
	emit(f)
}

func orUnknown(state string) string {
	if state == "" {
		return "unknown"
	}
	return state
}
