//go:build windows

package windows

import (
	"context"
	"encoding/binary"
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

// Neighbours leaves whom this host has met on its links.
func Neighbours(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	var table *struct {
		count uint32
		_     uint32
		rows  [1]neighbourRow
	}
	err := getIPNetTable2.Find()
	if err == nil {
		code, _, _ := getIPNetTable2.Call(windows.AF_UNSPEC, uintptr(unsafe.Pointer(&table)))
		if code != 0 {
			err = windows.Errno(code)
		}
	}
	if err != nil {
		emit(env.Failed(order, "neighbours", "could not read the neighbour table", err, ""))
		return
	}
	defer freeMibTable.Call(uintptr(unsafe.Pointer(table)))
	n := fact.Neighbours{List: []fact.Neighbour{}}
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
		n.List = append(n.List, each)
	}
	f := env.Seen(order, "neighbours", fmt.Sprintf("%d neighbours", len(n.List)))
	f.Neighbours = &n
	emit(f)
}

// Route leaves the way by which this host sends to an address: the entry of its table
// that fits best, the longest first, then the least metric with that of its link.
func Route(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	addr := order.Target.Addr.Unmap().WithZone("")
	source := "route to " + addr.String()
	family := uint16(windows.AF_INET)
	if addr.Is6() {
		family = windows.AF_INET6
	}
	var table *windows.MibIpForwardTable2
	if err := windows.GetIpForwardTable2(family, &table); err != nil {
		emit(env.Failed(order, source, "could not read the routing tables", err, ""))
		return
	}
	defer windows.FreeMibTable(unsafe.Pointer(table))
	var best fact.RouteEntry
	found := false
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
	if windows.GetIpInterfaceEntry(&row) != nil {
		return 0
	}
	return int(row.Metric)
}
