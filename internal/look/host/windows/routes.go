//go:build windows

package windows

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"unsafe"

	"golang.org/x/sys/windows"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// theTable is the number under which all routes of this system are told: it has
// one table.
const theTable = 254

// Routes leaves the routes of this host.
func Routes(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	r := fact.Routes{Rules: []string{}, List: []string{}}
	var failed error
	for _, six := range []bool{false, true} {
		family := uint16(windows.AF_INET)
		if six {
			family = windows.AF_INET6
		}
		var table *windows.MibIpForwardTable2
		if err := windows.GetIpForwardTable2(family, &table); err != nil {
			failed = err
			continue
		}
		for _, row := range table.Rows() {
			if e, ok := entry(row); ok {
				r.Entries, r.List = append(r.Entries, e), append(r.List, e.Text)
			}
		}
		windows.FreeMibTable(unsafe.Pointer(table))
		r.Policies = append(r.Policies, fact.RoutePolicy{Priority: 1, Six: six, Table: theTable, Suppress: -1})
	}
	if len(r.Entries) == 0 && failed != nil {
		emit(env.Failed(order, "routes", "could not read the routing tables", failed, ""))
		return
	}
	f := env.Seen(order, "routes", fmt.Sprintf("%d routes", len(r.List)))
	f.Routes = &r
	emit(f)
}

func entry(row windows.MibIpForwardRow2) (fact.RouteEntry, bool) {
	dst, ok := addrOf(row.DestinationPrefix.Prefix)
	if !ok {
		return fact.RouteEntry{}, false
	}
	e := fact.RouteEntry{
		Table: theTable, Dst: netip.PrefixFrom(dst, int(row.DestinationPrefix.PrefixLength)), Type: "unicast",
		Dev: linkName(row.InterfaceIndex), Metric: int(row.Metric),
	}
	if via, ok := addrOf(row.NextHop); ok && !via.IsUnspecified() {
		e.Via = via
	}
	e.Text = e.Dst.String()
	if e.Via.IsValid() {
		e.Text += " via " + e.Via.String()
	}
	e.Text += " dev " + e.Dev
	return e, true
}

// addrOf is the address of a socket address of either family.
func addrOf(raw windows.RawSockaddrInet) (netip.Addr, bool) {
	b := make([]byte, 24)
	for i, word := range raw.Data {
		binary.LittleEndian.PutUint32(b[4*i:], word)
	}
	switch raw.Family {
	case windows.AF_INET:
		return netip.AddrFrom4([4]byte(b[:4])), true
	case windows.AF_INET6: // the flow's label comes before the address
		return netip.AddrFrom16([16]byte(b[4:20])), true
	}
	return netip.Addr{}, false
}

func linkName(index uint32) string {
	if link, err := net.InterfaceByIndex(int(index)); err == nil {
		return link.Name
	}
	return fmt.Sprintf("link %d", index)
}

var (
	getIPNetTable2 = iphlpapi.NewProc("GetIpNetTable2")
	freeMibTable   = iphlpapi.NewProc("FreeMibTable")

	getIPInterfaceEntry = iphlpapi.NewProc("GetIpInterfaceEntry")
)

// neighbourRow is MIB_IPNET_ROW2 (netioapi.h).
type neighbourRow struct {
	addr   windows.RawSockaddrInet
	index  uint32
	luid   uint64
	mac    [32]byte
	length uint32
	state  uint32
	flags  uint32
	since  uint32
}

var neighbourStates = []string{"unreachable", "incomplete", "probe", "delay", "stale", "reachable", "permanent"}

// neighbours is whom this host has met on its links.
func neighbours() ([]fact.Neighbour, error) {
	if err := getIPNetTable2.Find(); err != nil {
		return nil, err
	}
	var table *struct {
		count uint32
		_     uint32
		rows  [1]neighbourRow
	}
	if code, _, _ := getIPNetTable2.Call(windows.AF_UNSPEC, uintptr(unsafe.Pointer(&table))); code != 0 {
		return nil, windows.Errno(code)
	}
	defer freeMibTable.Call(uintptr(unsafe.Pointer(table)))
	list := []fact.Neighbour{}
	for _, row := range unsafe.Slice(&table.rows[0], table.count) {
		addr, ok := addrOf(row.addr)
		if !ok || addr.IsMulticast() {
			continue
		}
		each := fact.Neighbour{
			Addr: addr,
			Link: linkName(row.index),
			MAC:  net.HardwareAddr(row.mac[:min(row.length, 32)]).String(),
		}
		if int(row.state) < len(neighbourStates) {
			each.State = neighbourStates[row.state]
		}
		list = append(list, each)
	}
	return list, nil
}

// Neighbours leaves whom this host has met on its links.
func Neighbours(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	list, err := neighbours()
	if err != nil {
		emit(env.Failed(order, "neighbours", "could not read the neighbour table", err, ""))
		return
	}
	f := env.Seen(order, "neighbours", fmt.Sprintf("%d neighbours", len(list)))
	f.Neighbours = &fact.Neighbours{List: list}
	emit(f)
}

// mostAnswering bounds how many other neighbours are told.
const mostAnswering = 5

// Link leaves whether a neighbour answers on its link, and which others do.
func Link(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	addr := order.Target.Addr.Unmap().WithZone("")
	source := "neighbours on the link to " + addr.String()
	way, found, err := bestRoute(addr)
	if err == nil && !found {
		err = errors.New("no route")
	}
	list, err2 := neighbours()
	if err = errors.Join(err, err2); err != nil {
		emit(env.Failed(order, source, "could not read the neighbours", err, ""))
		return
	}
	l := fact.Link{Dev: way.Dev}
	for _, n := range list {
		switch {
		case n.Link != way.Dev:
		case n.Addr == addr:
			l.State = n.State
		case n.State == "reachable" && len(l.Answer) < mostAnswering:
			l.Answer = append(l.Answer, n.Addr)
		}
	}
	f := env.Seen(order, source, fmt.Sprintf("%s is %s on %s; %d others answer", addr, cmp.Or(l.State, "unknown"),
		l.Dev,
		len(l.Answer)))
	f.Link = &l
	emit(f)
}

// bestRoute is the entry of the table that fits an address best: the longest first, then
// the least metric with that of its link.
func bestRoute(addr netip.Addr) (best fact.RouteEntry, found bool, err error) {
	family := uint16(windows.AF_INET)
	if addr.Is6() {
		family = windows.AF_INET6
	}
	var table *windows.MibIpForwardTable2
	if err := windows.GetIpForwardTable2(family, &table); err != nil {
		return best, false, err
	}
	defer windows.FreeMibTable(unsafe.Pointer(table))
	for _, row := range table.Rows() {
		e, ok := entry(row)
		if !ok || !e.Dst.Contains(addr) {
			continue
		}
		e.Metric += linkMetric(row.InterfaceLuid, family)
		if !found || e.Dst.Bits() > best.Dst.Bits() || e.Dst.Bits() == best.Dst.Bits() && e.Metric < best.Metric {
			best, found = e, true
		}
	}
	return best, found, nil
}

// Route leaves the way by which this host sends to an address.
func Route(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	addr := order.Target.Addr.Unmap().WithZone("")
	source := "route to " + addr.String()
	best, found, err := bestRoute(addr)
	if err != nil {
		emit(env.Failed(order, source, "could not read the routing tables", err, ""))
		return
	}
	r := fact.Route{Outcome: "WSAENETUNREACH", Entry: "none"}
	saw := "no route matches"
	if found {
		r = fact.Route{Outcome: "found", Type: best.Type, Dev: best.Dev, Via: best.Via, Table: best.Table}
		saw = "directly on " + best.Dev
		if best.Via.IsValid() {
			saw = "through " + best.Via.String() + " on " + best.Dev
		}
	}
	f := env.Seen(order, source, saw)
	f.Route = &r
	emit(f)
}

// linkMetric is what a link adds to the metric of its routes; 0 where that is not said.
func linkMetric(luid uint64, family uint16) int {
	row := windows.MibIpInterfaceRow{Family: family, InterfaceLuid: luid}
	if getIPInterfaceEntry.Find() != nil || windows.GetIpInterfaceEntry(&row) != nil {
		return 0
	}
	return int(row.Metric)
}
