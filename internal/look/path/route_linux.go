package path

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"syscall"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Route asks the kernel which way it sends to an address, and finds the entry
// that decides.
func Route(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	addr := order.Target.Addr
	source := "route to " + addr.String()
	r := fact.Route{Outcome: "found"}
	routes, err := netlink.RouteGet(addr.AsSlice())
	var errno syscall.Errno
	switch {
	case err == nil && len(routes) > 0:
		first := routes[0]
		r.Type = RouteTypes[first.Type]
		r.Table = first.Table
		if via, ok := netip.AddrFromSlice(first.Gw); ok {
			r.Via = via.Unmap()
		}
		if src, ok := netip.AddrFromSlice(first.Src); ok {
			r.Source = src.Unmap()
		}
		if link, err := netlink.LinkByIndex(first.LinkIndex); err == nil {
			r.Dev = link.Attrs().Name
		}
	case errors.As(err, &errno):
		r.Outcome = unix.ErrnoName(errno)
		if r.Entry, err = blockingEntry(addr); err != nil {
			emit(env.Failed(order, source, "could not read the routing tables", err, ""))
		}
	default:
		emit(env.Failed(order, source, "could not ask for the route", err, ""))
		return
	}
	f := env.Seen(order, source, sawRoute(r))
	f.Route = &r
	emit(f)
}

func sawRoute(r fact.Route) string {
	switch {
	case r.Outcome != "found" && r.Entry != "" && r.Entry != "none":
		return fmt.Sprintf("the kernel says %s, for the route %q", r.Outcome, r.Entry)
	case r.Outcome != "found":
		return "the kernel says " + r.Outcome + ", no route matches"
	case r.Via.IsValid():
		return fmt.Sprintf("through %s on %s", r.Via, r.Dev)
	}
	return "directly on " + r.Dev
}

// RouteTypes names the kernel's types of route (include/uapi/linux/rtnetlink.h).
var RouteTypes = map[int]string{
	unix.RTN_BROADCAST:   "broadcast",
	unix.RTN_MULTICAST:   "multicast",
	unix.RTN_ANYCAST:     "anycast",
	unix.RTN_UNICAST:     "unicast",
	unix.RTN_LOCAL:       "local",
	unix.RTN_BLACKHOLE:   "blackhole",
	unix.RTN_UNREACHABLE: "unreachable",
	unix.RTN_PROHIBIT:    "prohibit",
	unix.RTN_THROW:       "throw",
}

// nowhere is the types of route that lead nowhere on purpose.
var nowhere = []string{"blackhole", "unreachable", "prohibit", "throw"}

// blockingEntry is the longest entry, of any table, that matches an address
// and leads nowhere; "none" if there is none.
func blockingEntry(addr netip.Addr) (string, error) {
	family := unix.AF_INET
	if addr.Is6() {
		family = unix.AF_INET6
	}
	routes, err := netlink.RouteListFiltered(
		family,
		&netlink.Route{Table: unix.RT_TABLE_UNSPEC},
		netlink.RT_FILTER_TABLE,
	)
	if err != nil {
		return "", err
	}
	best, entry := -1, "none"
	for _, r := range routes {
		kind := RouteTypes[r.Type]
		if !slices.Contains(nowhere, kind) {
			continue
		}
		prefix := netip.PrefixFrom(zero(addr), 0)
		if r.Dst != nil {
			ones, _ := r.Dst.Mask.Size()
			dst, ok := netip.AddrFromSlice(r.Dst.IP)
			if !ok {
				continue
			}
			prefix = netip.PrefixFrom(dst.Unmap(), ones)
		}
		if prefix.Contains(addr.WithZone("")) && prefix.Bits() > best {
			best, entry = prefix.Bits(), kind+" "+prefix.String()
			if r.Table != unix.RT_TABLE_MAIN {
				entry += fmt.Sprintf(" table %d", r.Table)
			}
		}
	}
	return entry, nil
}

func zero(addr netip.Addr) netip.Addr {
	if addr.Is4() {
		return netip.IPv4Unspecified()
	}
	return netip.IPv6Unspecified()
}
