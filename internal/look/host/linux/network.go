//go:build linux

package linux

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/look/path"
)

// mostEntries bounds a table that is kept whole.
const mostEntries = 5000

// Routes leaves every route of every table, and the policy rules that choose
// among them.
func Routes(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	r := fact.Routes{Rules: []string{}, List: []string{}}
	links, err := netlink.LinkList()
	if err != nil {
		emit(env.Failed(order, "routes", "could not list the links", err, ""))
		return
	}
	names := map[int]string{}
	for _, link := range links {
		names[link.Attrs().Index] = link.Attrs().Name
	}
	whole := true
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		rules, err := netlink.RuleList(family)
		if err == nil {
			for _, rule := range rules {
				r.Rules = append(r.Rules, fmt.Sprintf("%s table %d", strings.TrimSpace(rule.String()), rule.Table))
				r.Policies = append(r.Policies, policy(rule, family == unix.AF_INET6))
			}
		}
		routes, listErr := netlink.RouteListFiltered(
			family,
			&netlink.Route{Table: unix.RT_TABLE_UNSPEC},
			netlink.RT_FILTER_TABLE,
		)
		if err == nil {
			err = listErr
		}
		if err != nil {
			emit(env.Failed(order, "routes", "could not read the routing tables", err, ""))
			return
		}
		for _, route := range routes[:min(len(routes), mostEntries)] {
			r.List = append(r.List, routeText(route, names))
			r.Entries = append(r.Entries, entry(route, names, family == unix.AF_INET6))
		}
		whole = whole && len(routes) <= mostEntries
	}
	if !whole {
		r.Entries = nil // a part of them would give wrong answers
	}
	f := env.Seen(order, "routes", fmt.Sprintf("%d routes, %d rules", len(r.List), len(r.Rules)))
	f.Routes = &r
	emit(f)
}

func routeText(route netlink.Route, names map[int]string) string {
	text := ""
	if kind := path.RouteTypes[route.Type]; kind != "unicast" {
		text = kind + " "
	}
	if route.Dst == nil {
		text += "default"
	} else {
		text += route.Dst.String()
	}
	if route.Gw != nil {
		text += " via " + route.Gw.String()
	}
	if name := names[route.LinkIndex]; name != "" {
		text += " dev " + name
	}
	return fmt.Sprintf("%s table %d metric %d", text, route.Table, route.Priority)
}

// entry is a route for evaluation.
func entry(route netlink.Route, names map[int]string, six bool) fact.RouteEntry {
	e := fact.RouteEntry{
		Table:  route.Table,
		Dst:    prefixOf(route.Dst, six),
		Type:   path.RouteTypes[route.Type],
		Dev:    names[route.LinkIndex],
		Metric: route.Priority,
		Down:   route.Flags&(unix.RTNH_F_LINKDOWN|unix.RTNH_F_DEAD) != 0,
		Text:   routeText(route, names),
	}
	if via, ok := netip.AddrFromSlice(route.Gw); ok {
		e.Via = via.Unmap()
	}
	if src, ok := netip.AddrFromSlice(route.Src); ok {
		e.Source = src.Unmap()
	}
	for _, way := range route.MultiPath {
		e.Many = append(e.Many, names[way.LinkIndex])
	}
	if len(e.Many) > 0 {
		e.Dev = e.Many[0]
	}
	return e
}

// prefixOf is a net; nil stands for all addresses of a family.
func prefixOf(n *net.IPNet, six bool) netip.Prefix {
	if n == nil {
		if six {
			return netip.PrefixFrom(netip.IPv6Unspecified(), 0)
		}
		return netip.PrefixFrom(netip.IPv4Unspecified(), 0)
	}
	addr, _ := netip.AddrFromSlice(n.IP)
	ones, _ := n.Mask.Size()
	return netip.PrefixFrom(addr.Unmap(), ones)
}

// policyTypes are the actions of policy rules (include/uapi/linux/fib_rules.h).
var policyTypes = map[uint8]string{6: "blackhole", 7: "unreachable", 8: "prohibit"}

// policy is a policy rule for evaluation.
func policy(rule netlink.Rule, six bool) fact.RoutePolicy {
	p := fact.RoutePolicy{
		Priority: max(0, rule.Priority),
		Six:      six,
		Mark:     rule.Mark,
		In:       rule.IifName,
		Out:      rule.OifName,
		Table:    rule.Table,
		Type:     policyTypes[rule.Type],
		Suppress: rule.SuppressPrefixlen,
		Invert:   rule.Invert,
	}
	if rule.Mask != nil {
		p.Mask = *rule.Mask
	} else if rule.Mark != 0 {
		p.Mask = ^uint32(0)
	}
	if rule.Src != nil {
		p.From = prefixOf(rule.Src, six)
	}
	if rule.Dst != nil {
		p.To = prefixOf(rule.Dst, six)
	}
	switch {
	case rule.Tos != 0, rule.TunID != 0, rule.Dport != nil, rule.Sport != nil, rule.IPProto != 0, rule.UIDRange != nil:
		p.Opaque = "it asks for more than addresses, links and marks"
	case rule.Type > 1 && p.Type == "", rule.SuppressIfgroup >= 0:
		p.Opaque = "what it does is not understood"
	}
	return p
}

// Neighbours leaves the whole neighbour table.
func Neighbours(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	n := fact.Neighbours{List: []fact.Neighbour{}}
	list, err := netlink.NeighList(0, 0)
	if err != nil {
		emit(env.Failed(order, "neighbours", "could not read the neighbour table", err, ""))
		return
	}
	for _, each := range list[:min(len(list), mostEntries)] {
		addr, ok := netip.AddrFromSlice(each.IP)
		state := path.NeighbourStates[each.State]
		if !ok || state == "" {
			continue
		}
		entry := fact.Neighbour{Addr: addr.Unmap(), MAC: each.HardwareAddr.String(), State: state}
		if link, err := netlink.LinkByIndex(each.LinkIndex); err == nil {
			entry.Link = link.Attrs().Name
		}
		n.List = append(n.List, entry)
	}
	f := env.Seen(order, "neighbours", fmt.Sprintf("%d neighbours", len(n.List)))
	f.Neighbours = &n
	emit(f)
}

// tunnelKinds are the links that change or move packets between filter tables
// and the wire.
var tunnelKinds = []string{
	"wireguard",
	"tun",
	"ipip",
	"gre",
	"gretap",
	"sit",
	"ip6tnl",
	"vti",
	"xfrm",
	"vxlan",
	"geneve",
	"bridge",
	"bond",
	"macvlan",
	"ipvlan",
}

// mostTold bounds how many barriers are told in words.
const mostTold = 8

// Barriers leaves what can stop packets beside filter tables and routes.
func Barriers(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	b := fact.Barriers{}
	links, err := netlink.LinkList()
	if err != nil {
		emit(env.Failed(order, "links", "could not list the links", err, ""))
	}
	for _, link := range links {
		attrs := link.Attrs()
		if attrs.Xdp != nil && attrs.Xdp.Attached {
			b.Programs = append(b.Programs, "XDP on "+attrs.Name)
		}
		if linkPrograms(attrs.Index) {
			b.Programs = append(b.Programs, "a packet program on "+attrs.Name)
		}
		if slices.Contains(tunnelKinds, link.Type()) {
			b.Links = append(b.Links, fmt.Sprintf("%s (%s)", attrs.Name, link.Type()))
		}
		for _, parent := range []uint32{netlink.HANDLE_MIN_INGRESS, netlink.HANDLE_MIN_EGRESS} {
			if filters, err := netlink.FilterList(link, parent); err == nil && len(filters) > 0 {
				b.Programs = append(b.Programs, "traffic control on "+attrs.Name)
			}
		}
	}
	if policies, err := netlink.XfrmPolicyList(netlink.FAMILY_ALL); err == nil {
		b.Policies = len(policies)
	} else {
		emit(env.Failed(order, "IPsec policies", "could not read the IPsec policies", err, "root"))
	}
	if b.Groups, err = groupPrograms(); err != nil {
		b.Unread = "packet programs of control groups could not be read"
		emit(
			env.Failed(
				order,
				"packet programs of control groups",
				"could not ask for packet programs of control groups",
				err,
				"root",
			),
		)
	}
	b.Tracked, b.TrackMax = number(
		"/proc/sys/net/netfilter/nf_conntrack_count",
	), number(
		"/proc/sys/net/netfilter/nf_conntrack_max",
	)
	saw := "nothing beside filter tables and routes"
	if len(b.Programs)+len(b.Links)+len(b.Groups)+b.Policies > 0 {
		list := append(slices.Clone(b.Programs), b.Links...)
		for _, g := range b.Groups {
			if text := strings.TrimSpace("packet program "+g.Name) + " of " + g.Group; !slices.Contains(list, text) {
				list = append(list, text)
			}
		}
		saw = strings.Join(list[:min(len(list), mostTold)], ", ")
		if more := len(list) - mostTold; more > 0 {
			saw += fmt.Sprintf(" and %d more", more)
		}
	}
	f := env.Seen(order, "barriers", saw)
	f.Barriers = &b
	emit(f)
}

func number(path string) int {
	text, err := file.Head(path, common.MostSettings)
	if err != nil {
		return 0
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil {
		return 0
	}
	return n
}

// tcpStates names the states of /proc/net/tcp (include/net/tcp_states.h).
var tcpStates = map[string]string{
	"01": "established",
	"03": "syn-received",
	"04": "fin-wait",
	"05": "fin-wait",
	"06": "time-wait",
	"08": "close-wait",
	"09": "last-ack",
}

// Peers leaves who is connected to a port, by source address; to any port, if
// none is named.
func Peers(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	p := fact.Peers{Port: order.Target.Port, List: []fact.Peer{}}
	source := fmt.Sprintf("connections to port %d", p.Port)
	if p.Port == 0 {
		source = "connections"
	}
	err := eachSocket("/proc/self/net", "tcp", func(s procSocket) {
		state := tcpStates[s.state]
		if p.Port != 0 && s.local.Port() != p.Port || state == "" {
			return
		}
		at := slices.IndexFunc(
			p.List,
			func(other fact.Peer) bool { return other.Addr == s.remote.Addr() && other.State == state },
		)
		switch {
		case at >= 0:
			p.List[at].Count++
		case len(p.List) < mostEntries:
			p.List = append(p.List, fact.Peer{Addr: s.remote.Addr(), State: state, Count: 1})
		}
	})
	if err != nil {
		emit(env.Failed(order, source, "could not list the connections", err, ""))
		return
	}
	f := env.Seen(order, source, fmt.Sprintf("from %d addresses", len(p.List)))
	f.Peers = &p
	emit(f)
}

// procSocket is one line of /proc/net/tcp.
type procSocket struct {
	local, remote netip.AddrPort
	state         string
	inode         uint32
}

// eachSocket calls do for every socket of a transport, "tcp" or "udp", in a
// network namespace (proc_pid_net(5)).
func eachSocket(folder, transport string, do func(procSocket)) error {
	var failed error
	for _, name := range []string{"/" + transport, "/" + transport + "6"} {
		file, err := os.Open(folder + name)
		if err != nil {
			if name == "/"+transport {
				failed = err
			}
			continue
		}
		scan := bufio.NewScanner(file)
		for scan.Scan() {
			fields := strings.Fields(scan.Text())
			if len(fields) < 10 {
				continue
			}
			local, ok := hexAddr(fields[1])
			remote, ok2 := hexAddr(fields[2])
			if !ok || !ok2 {
				continue
			}
			inode, _ := strconv.ParseUint(fields[9], 10, 32)
			do(procSocket{local, remote, fields[3], uint32(inode)})
		}
		if err := scan.Err(); err != nil {
			failed = err
		}
		file.Close()
	}
	return failed
}

// hexAddr reads an address as the kernel prints it there: 32-bit words in the
// host's order, then the port.
func hexAddr(s string) (netip.AddrPort, bool) {
	host, portText, ok := strings.Cut(s, ":")
	port, err := strconv.ParseUint(portText, 16, 16)
	if !ok || err != nil || len(host) != 8 && len(host) != 32 {
		return netip.AddrPort{}, false
	}
	var bytes []byte
	for at := 0; at < len(host); at += 8 {
		word, err := strconv.ParseUint(host[at:at+8], 16, 32)
		if err != nil {
			return netip.AddrPort{}, false
		}
		bytes = append(bytes, byte(word), byte(word>>8), byte(word>>16), byte(word>>24))
	}
	addr, ok := netip.AddrFromSlice(bytes)
	return netip.AddrPortFrom(addr.Unmap(), uint16(port)), ok
}
