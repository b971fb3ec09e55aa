package test

import (
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/vishvananda/netlink"

	"uakari/internal/filter"
)

// discoveryRules is what chains of TestDiscoveryReferee are made of: what may meet the
// question for a neighbour, which goes to a group, and its answer.
var discoveryRules = []string{
	"icmpv6 type nd-neighbor-solicit", "icmpv6 type nd-neighbor-advert",
	"icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert }",
	"icmpv6 type { echo-request, nd-router-advert }", "icmpv6 code 1", "meta l4proto ipv6-icmp", "meta l4proto tcp",
	"ip6 daddr ff02::/16", "ip6 daddr ff02::1:ff00:0/104", "ip6 daddr fd20::14", "ip6 daddr fd20::/64",
	"ip6 saddr fd20::1",
	"ip6 saddr fe80::/10", "ip6 saddr fd20::14", "ip6 nexthdr icmpv6", "ip6 nexthdr tcp", "ct state invalid",
	"ct state untracked",
	"ct state new", "ct state established,related", "meta nfproto ipv4", "fib daddr type multicast",
	"fib daddr type local", "tcp dport 8080",
}

// TestDiscoveryReferee has the kernel judge whether a machine is found on a link, behind
// random rules at both ends, and compares.
func TestDiscoveryReferee(t *testing.T) {
	t.Parallel()
	const rounds = 100
	a := &arena{lab: newLab(t), t: t}
	a.hosts = map[string]string{"client": a.client, "router": a.router, "server": a.server}
	a.in(a.router, "sysctl -qw net.ipv6.neigh.s.retrans_time_ms=40")
	g := &ruleGen{Rand: rand.New(rand.NewPCG(*refereeSeed, 7))}
	chain := func(hook string) string {
		var rules strings.Builder
		for range 1 + g.IntN(3) {
			rules.WriteString(pick(g, discoveryRules...) + " " + pick(g, "accept", "drop", "continue") + "\n")
		}
		return fmt.Sprintf("chain %s { type filter hook %s priority 0; policy %s;\nmeta l4proto udp accept\n%s}\n",
			hook, hook, pick(g, "accept", "accept", "drop"), rules.String())
	}
	asker, target := netip.MustParseAddr("fd20::1"), netip.MustParseAddr("fd20::14")
	asks := filter.Packet{
		Proto: filter.ICMPv6, ICMPType: filter.Solicits, From: asker, To: netip.MustParseAddr("ff02::1:ff00:14"),
	}
	answers := filter.Packet{Proto: filter.ICMPv6, ICMPType: filter.Advertises, From: target, To: asker}
	unknown, found := 0, 0
	for range rounds {
		tables := map[string]string{}
		for part, hooks := range map[string][]string{"server": {"input", "output"}, "router": {"input", "output"}} {
			text := "flush ruleset\ntable inet f {\n"
			for _, hook := range hooks {
				if g.chance(2) {
					text += chain(hook)
				}
			}
			tables[part] = text + "}\n"
			if err := a.feed(part, tables[part], "nft", "-f", "-"); err != nil {
				t.Fatalf("%v\n%s", err, tables[part])
			}
		}
		server, router := a.look("server"), a.look("router")
		want := "found"
		for _, leg := range []struct {
			p  filter.Packet
			at *filter.Host
			in string
		}{{asks, router, ""}, {asks, server, "eth0"}, {answers, server, ""}, {answers, router, "s"}} {
			switch filter.Request(leg.p, []filter.Hop{{Host: leg.at, In: leg.in}}).Verdict {
			case filter.Accepts:
				continue
			case filter.Undecidable:
				want = "unknown"
			default:
				want = "silent"
			}
			break
		}
		saw := a.discovers(target)
		switch {
		case want == "unknown":
			unknown++
		case want != saw:
			t.Errorf("the kernel: %s; foretold: %s\nserver: %s\nrouter: %s", saw, want, tables["server"],
				tables["router"])
		}
		if saw == "found" {
			found++
		}
	}
	if unknown > rounds/20 || found < rounds/10 || found > rounds*9/10 {
		t.Errorf("%d of %d were not decided, and %d found", unknown, rounds, found)
	}
}

// discovers asks for a neighbour of the router anew, and says what comes of it.
func (a *arena) discovers(target netip.Addr) (saw string) {
	a.sh("ip -n " + a.router + " neigh flush all")
	a.sh("ip -n " + a.server + " neigh flush all")
	a.within("router", func() {
		c, err := net.Dial("udp", netip.AddrPortFrom(target, 9).String())
		if err != nil {
			saw = err.Error()
			return
		}
		defer c.Close()
		c.Write([]byte("x"))
		for end := time.Now().Add(600 * time.Millisecond); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
			list, err := netlink.NeighList(0, netlink.FAMILY_V6)
			if err != nil {
				saw = err.Error()
				return
			}
			for _, n := range list {
				if !n.IP.Equal(net.IP(target.AsSlice())) {
					continue
				}
				if n.State&(netlink.NUD_REACHABLE|netlink.NUD_STALE|netlink.NUD_DELAY) != 0 {
					saw = "found"
					return
				}
				if n.State&netlink.NUD_FAILED != 0 {
					saw = "silent"
					return
				}
			}
		}
		saw = "silent"
	})
	return saw
}
