package test

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// The referee's random rule sets play among few addresses and ports, so that
// rules meet packets often.
var (
	clientAddrs4 = []string{"10.20.7.31", "10.20.7.32", "10.20.7.77"}
	serverAddrs4 = []string{"10.20.0.14", "10.20.0.15"}
	clientAddrs6 = []string{"fd20:7::31", "fd20:7::32"}
	serverAddrs6 = []string{"fd20::14", "fd20::15"}
	openPorts    = []uint16{1000, 1001, 1002, 1003, 1004, 1005, 1006, 1007}
)

// ruleGen makes random tables for one host.
type ruleGen struct {
	*rand.Rand
	part string // "client", "router" or "server"
	// ipsets is that the hosts have sets, for which a tool of its own is needed.
	ipsets bool
}

func pick[T any](g *ruleGen, list ...T) T { return list[g.IntN(len(list))] }

// chance is true once in n times.
func (g *ruleGen) chance(n int) bool { return g.IntN(n) == 0 }

// hooks are those that packets of the lab meet on each host.
var partHooks = map[string][]string{
	"client": {"output", "output", "input", "postrouting", "prerouting"},
	"router": {"forward", "forward", "forward", "prerouting", "postrouting"},
	"server": {"input", "input", "input", "output", "prerouting", "postrouting"},
}

// nft makes a rule set in nft's notation.
func (g *ruleGen) nft() string {
	var b strings.Builder
	for t := range 1 + g.IntN(2) {
		family := pick(g, "inet", "inet", "ip", "ip6")
		fmt.Fprintf(&b, "table %s t%d {\n", family, t)
		g.nftSets(&b, family)
		users := g.IntN(3)
		for u := users - 1; u >= 0; u-- { // a chain may jump to those declared before it
			fmt.Fprintf(&b, "chain u%d {\n", u)
			g.nftRules(&b, family, "", u+1, users)
			b.WriteString("}\n")
		}
		for c := range 1 + g.IntN(2) {
			hook := pick(g, partHooks[g.part]...)
			priority := pick(g, 0, 0, 0, -10, 10, -150, 50, -300, -190)
			kind, policy := "filter", "accept"
			if g.chance(5) {
				policy = "drop"
			}
			if hook == "output" && g.chance(6) {
				kind = "route"
			}
			fmt.Fprintf(&b, "chain c%d { type %s hook %s priority %d; policy %s;\n", c, kind, hook, priority, policy)
			if policy == "drop" && !g.chance(4) {
				b.WriteString("ct state established,related accept\n")
				if family != "ip" {
					b.WriteString(
						"meta l4proto ipv6-icmp icmpv6 type { nd-neighbor-solicit, nd-neighbor-advert, " +
							"nd-router-advert } accept\n",
					)
				}
			}
			g.nftRules(&b, family, hook, 0, users)
			b.WriteString("}\n")
		}
		if g.chance(4) {
			g.nftNAT(&b, family)
		}
		b.WriteString("}\n")
	}
	if g.chance(3) {
		g.nftLink(&b)
	}
	return b.String()
}

// partLinks is the links of each host.
var partLinks = map[string][]string{"client": {"eth0"}, "router": {"c", "s"}, "server": {"eth0"}}

// nftLink makes a table of a host's links, whose chains come before and after all others.
func (g *ruleGen) nftLink(b *strings.Builder) {
	b.WriteString("table netdev l {\n")
	for c := range 1 + g.IntN(2) {
		link := fmt.Sprintf("device %q", pick(g, partLinks[g.part]...))
		if g.chance(3) {
			link = "devices = { " + strings.Join(partLinks[g.part], ", ") + " }"
		}
		hook := pick(g, "ingress", "ingress", "egress")
		fmt.Fprintf(b, "chain c%d { type filter hook %s %s priority %d; policy accept;\n", c, hook, link, pick(g, 0, -10, 10))
		for range g.IntN(4) {
			proto := pick(g, "tcp", "tcp", "udp")
			if hook == "egress" && g.part == "client" {
				proto = "tcp" // datagrams that are dropped there fail at once, for want of a buffer
			}
			words := []string{
				pick(g, "", "ip saddr "+pick(g, clientAddrs4...), "ip daddr "+pick(g, serverAddrs4...),
					"ip6 saddr "+pick(g, clientAddrs6...), "ip protocol "+proto, "meta protocol ip6"),
				fmt.Sprintf("%s %s %d", proto, pick(g, "dport", "dport", "sport"), pick(g, openPorts...)),
				pick(g, "drop", "drop", "accept", "counter"),
			}
			b.WriteString(strings.Join(words, " ") + "\n")
		}
		b.WriteString("}\n")
	}
	b.WriteString("}\n")
}

func (g *ruleGen) nftSets(b *strings.Builder, family string) {
	if family != "ip6" {
		fmt.Fprintf(
			b,
			"set a4 { type ipv4_addr; flags interval; elements = { %s, 10.20.0.15, 10.20.7.%d-10.20.7.%d } }\n",
			pick(g, "10.20.7.32/31", "10.9.0.0/16"),
			60+g.IntN(10),
			75+g.IntN(9),
		)
		fmt.Fprintf(
			b,
			"set pair4 { type ipv4_addr . inet_service; elements = { %s . %d, %s . %d } }\n",
			pick(g, clientAddrs4...),
			pick(g, openPorts...),
			pick(g, clientAddrs4...),
			pick(g, openPorts...),
		)
		fmt.Fprintf(
			b,
			"set box4 { type ipv4_addr . inet_service; flags interval; elements = { 10.20.7.0/27 . %d-%d, "+
				"10.20.7.64/26 . %d } }\n",
			1000+g.IntN(3),
			1003+g.IntN(5),
			pick(g, openPorts...),
		)
	}
	if family != "ip" {
		fmt.Fprintf(
			b,
			"set a6 { type ipv6_addr; flags interval; elements = { %s, fd20:9::/32 } }\n",
			pick(g, "fd20:7::30/127", "fd20:7::32"),
		)
	}
	fmt.Fprintf(
		b,
		"set p { type inet_service; flags interval; elements = { %d-%d, 1006 } }\n",
		1000+g.IntN(2),
		1002+g.IntN(3),
	)
	fmt.Fprintf(
		b,
		"map v { type inet_service : verdict; elements = { 1001 : %s, 1005 : %s } }\n",
		pick(g, "accept", "drop"),
		pick(g, "accept", "drop", "return"),
	)
}

func (g *ruleGen) nftRules(b *strings.Builder, family, hook string, from, users int) {
	for range g.IntN(6) {
		var words []string
		proto, kin := "", family
		if family == "inet" {
			kin = pick(g, "inet4", "inet4", "inet6") // the one family of its addresses
		}
		for range g.IntN(4) {
			w, p := g.nftMatch(kin, hook, proto)
			if w == "" {
				continue
			}
			proto = p
			words = append(words, w)
		}
		if g.chance(6) {
			words = append(words, "counter")
		}
		words = append(words, g.nftVerdict(family, hook, proto, from, users))
		b.WriteString(strings.Join(words, " ") + "\n")
	}
}

// nftMatch is one match. It keeps to one protocol within a rule, as nft does.
func (g *ruleGen) nftMatch(family, hook, proto string) (string, string) {
	not := pick(g, "", "", "!= ")
	six := strings.HasSuffix(family, "6")
	port := func(end string) (string, string) {
		if proto == "" {
			proto = pick(g, "tcp", "tcp", "udp")
		}
		if proto != "tcp" && proto != "udp" {
			return "", proto
		}
		if end == "sport" {
			low := 20000 + g.IntN(30000)
			return fmt.Sprintf("%s sport %s%d-%d", proto, not, low, low+g.IntN(15000)), proto
		}
		return fmt.Sprintf(
			"%s dport %s%s",
			proto,
			not,
			pick(g, fmt.Sprint(pick(g, openPorts...)), "1000-1003", "{ 1000, 1002, 1004-1006 }", "@p"),
		), proto
	}
	switch g.IntN(17) {
	case 0, 1:
		return port("dport")
	case 2:
		return port("sport")
	case 3, 4:
		if six {
			return "ip6 saddr " + not + pick(
				g,
				clientAddrs6[0],
				clientAddrs6[1],
				"fd20:7::/64",
				"fd20::/64",
				"@a6",
				"{ fd20:7::31, fd20::14 }",
			), proto
		}
		return "ip saddr " + not + pick(
			g,
			clientAddrs4[0],
			clientAddrs4[1],
			"10.20.7.0/24",
			"10.20.7.0/27",
			"10.20.0.0/24",
			"@a4",
			"{ 10.20.7.31, 10.20.0.14 }",
			"10.20.7.20-10.20.7.50",
		), proto
	case 5:
		if six {
			return "ip6 daddr " + not + pick(g, serverAddrs6[0], serverAddrs6[1], "fd20::/64", "fd20:7::/64"), proto
		}
		return "ip daddr " + not + pick(g, serverAddrs4[0], serverAddrs4[1], "10.20.0.0/24", "10.20.7.0/24", "@a4"),
			proto
	case 6, 7:
		return "ct state " + pick(
			g,
			"new",
			"established",
			"established,related",
			"new,untracked",
			"related",
			"invalid",
			"{ new, established }",
			"!= new",
		), proto
	case 8:
		switch hook {
		case "output", "postrouting":
			return "oifname " + not + pick(g, `"eth0"`, `"c"`, `"s"`, `"lo"`, `"et*"`), proto
		case "":
			return "", proto
		}
		return "iifname " + not + pick(g, `"eth0"`, `"c"`, `"s"`, `"lo"`, `"et*"`, `{ "c", "eth0" }`), proto
	case 9:
		if proto != "" {
			return "", proto
		}
		return "meta l4proto " + not + pick(g, "tcp", "udp", "{ tcp, udp }", "{ icmp, ipv6-icmp }"), "none"
	case 10:
		return "meta mark " + pick(
			g,
			"0x0",
			"0x1",
			"!= 0x1",
			"& 0x3 == 0x1",
			"& 0x3 != 0x1",
			"> 1",
			"{ 1, 2 }",
			"!= { 1, 2 }",
		), proto
	case 11:
		if proto != "" && proto != "tcp" {
			return "", proto
		}
		return "tcp flags " + pick(
			g,
			"syn",
			"== syn",
			"& (syn | ack) == syn",
			"& (fin | syn | rst | ack) == syn | ack",
			"!= syn",
		), "tcp"
	case 12:
		return "fib daddr type " + not + pick(g, "local", "unicast", "broadcast"), proto
	case 13:
		return "ct direction " + pick(g, "original", "reply"), proto
	case 14:
		if six || proto != "" && proto != "tcp" {
			return "", proto
		}
		return "ip saddr . tcp dport " + not + pick(
			g,
			"@pair4",
			"@box4",
			"{ 10.20.7.31 . 1000, 10.20.7.32 . 1001-1004 }",
		), "tcp"
	case 15:
		if !strings.HasPrefix(family, "inet") {
			return "", proto
		}
		return "meta nfproto " + map[bool]string{true: "ipv6", false: "ipv4"}[six], proto
	}
	if proto != "" {
		return "", proto
	}
	if six {
		return "icmpv6 type echo-request", "none"
	}
	return "icmp type " + pick(g, "echo-request", "echo-reply", "{ echo-request, destination-unreachable }"), "none"
}

func (g *ruleGen) nftVerdict(family, hook, proto string, from, users int) string {
	var ways []string
	ways = append(ways, "accept", "accept", "accept", "drop", "drop", "return", "continue")
	if hook == "input" || hook == "forward" || hook == "output" {
		ways = append(ways, "reject", "reject")
		if proto == "tcp" {
			ways = append(ways, "reject with tcp reset", "reject with tcp reset")
		}
		switch family {
		case "inet":
			ways = append(ways, "reject with icmpx admin-prohibited", "reject with icmpx no-route")
		case "ip":
			ways = append(ways, "reject with icmp host-prohibited", "reject with icmp net-unreachable")
		case "ip6":
			ways = append(ways, "reject with icmpv6 addr-unreachable", "reject with icmpv6 admin-prohibited")
		}
	}
	for u := from; u < users; u++ {
		ways = append(ways, fmt.Sprintf("jump u%d", u), fmt.Sprintf("jump u%d", u), fmt.Sprintf("goto u%d", u))
	}
	ways = append(ways, "meta mark set 0x1", "meta mark set 0x2", "ct mark set 0x5", "meta mark set ct mark")
	if proto == "tcp" || proto == "udp" {
		ways = append(ways, proto+" dport vmap @v", proto+" dport vmap { 1000 : accept, 1003-1006 : drop }")
	}
	ways = append(ways, "ct state vmap { invalid : drop, established : accept, related : accept }")
	return ways[g.IntN(len(ways))]
}

// nftNAT is a chain of translations that lead back into the lab.
func (g *ruleGen) nftNAT(b *strings.Builder, family string) {
	four, six := family != "ip6", family != "ip"
	spec := func(addr4, addr6 string) []string {
		var list []string
		if four {
			list = append(
				list,
				map[string]string{"inet": "meta nfproto ipv4 "}[family]+"tcp dport 1000-1002 "+strings.ReplaceAll(
					addr4,
					"IP",
					map[string]string{"inet": "ip ", "ip": ""}[family],
				),
			)
		}
		if six {
			list = append(
				list,
				map[string]string{"inet": "meta nfproto ipv6 "}[family]+"tcp dport 1001-1004 "+strings.ReplaceAll(
					addr6,
					"IP",
					map[string]string{"inet": "ip6 ", "ip6": ""}[family],
				),
			)
		}
		return list
	}
	var rules []string
	hook, priority := "prerouting", -100
	switch g.part {
	case "client":
		hook = "output"
		rules = spec("dnat IPto 10.20.0.15", "dnat IPto fd20::15")
	case "server":
		rules = spec(
			pick(g, "redirect to :1006", "dnat IPto 10.20.0.15:1007", "dnat IPto 10.20.0.15"),
			pick(g, "redirect to :1006", "dnat IPto fd20::15"),
		)
	case "router":
		if g.chance(2) {
			rules = spec("dnat IPto 10.20.0.15", "dnat IPto [fd20::15]:1005")
			break
		}
		hook, priority = "postrouting", 100
		rules = spec(pick(g, "masquerade", "snat IPto 10.20.0.1"), pick(g, "masquerade", "snat IPto fd20::1"))
	}
	fmt.Fprintf(
		b,
		"chain nat { type nat hook %s priority %d; policy accept;\n%s\n}\n",
		hook,
		priority,
		strings.Join(rules, "\n"),
	)
}

// xtables makes a rule set in the notation of iptables-restore(8).
func (g *ruleGen) xtables(six bool) string {
	var b strings.Builder
	hooks := map[string]string{
		"output":      "OUTPUT",
		"input":       "INPUT",
		"forward":     "FORWARD",
		"prerouting":  "PREROUTING",
		"postrouting": "POSTROUTING",
	}
	for _, table := range []string{"mangle", "filter"} {
		if table == "mangle" && g.chance(2) {
			continue
		}
		chains := []string{"INPUT", "FORWARD", "OUTPUT"}
		if table == "mangle" {
			chains = []string{"PREROUTING", "INPUT", "FORWARD", "OUTPUT", "POSTROUTING"}
		}
		fmt.Fprintf(&b, "*%s\n", table)
		for _, c := range chains {
			policy := "ACCEPT"
			if g.chance(8) && table == "filter" && !six {
				policy = "DROP"
			}
			fmt.Fprintf(&b, ":%s %s [0:0]\n", c, policy)
		}
		users := g.IntN(3)
		for u := range users {
			fmt.Fprintf(&b, ":u%d - [0:0]\n", u)
		}
		for range 1 + g.IntN(8) {
			hook := pick(g, partHooks[g.part]...)
			chain := hooks[hook]
			if table == "filter" && strings.HasSuffix(chain, "ROUTING") {
				continue
			}
			from := 0
			if users > 0 && g.chance(3) {
				u := g.IntN(users)
				chain, from, hook = fmt.Sprintf("u%d", u), u+1, ""
			}
			fmt.Fprintf(&b, "-A %s%s\n", chain, g.xtRule(table, hook, six, from, users))
		}
		b.WriteString("COMMIT\n")
	}
	if g.chance(4) {
		b.WriteString(g.xtNAT(six))
	}
	return b.String()
}

func (g *ruleGen) xtRule(table, hook string, six bool, from, users int) string {
	var b strings.Builder
	client, server, nets := clientAddrs4, serverAddrs4, []string{"10.20.7.0/24", "10.20.7.0/27", "10.20.0.0/24"}
	if six {
		client, server, nets = clientAddrs6, serverAddrs6, []string{"fd20:7::/64", "fd20::/64"}
	}
	not := func() string { return pick(g, "", "", "! ") }
	add := func(format string, args ...any) { fmt.Fprintf(&b, " "+format, args...) }
	if g.chance(2) {
		add("%s-s %s", not(), pick(g, append(client, nets...)...))
	}
	if g.chance(4) {
		add("%s-d %s", not(), pick(g, append(server, nets...)...))
	}
	if g.chance(5) && (hook == "input" || hook == "forward" || hook == "prerouting") {
		add("%s-i %s", not(), pick(g, "eth0", "c", "s", "lo", "et+"))
	}
	if g.chance(6) && (hook == "output" || hook == "postrouting") {
		add("%s-o %s", not(), pick(g, "eth0", "c", "s", "lo", "et+"))
	}
	proto := ""
	if g.chance(2) {
		proto = pick(g, "tcp", "tcp", "udp")
		add("-p %s", proto)
		switch g.IntN(4) {
		case 0:
			add("-m %s %s--dport %s", proto, not(), pick(g, "1000", "1001:1004", "1006"))
		case 1:
			add("-m multiport %s--dports %s", not(), pick(g, "1000,1002", "1000:1003,1007", "1005"))
		case 2:
			add("-m %s --sport %d:%d", proto, 20000+g.IntN(10000), 40000+g.IntN(20000))
		case 3:
			if proto == "tcp" {
				add("-m tcp %s--tcp-flags FIN,SYN,RST,ACK SYN", not())
			}
		}
	}
	switch g.IntN(9) {
	case 0, 1:
		add(
			"-m conntrack %s--ctstate %s",
			not(),
			pick(g, "NEW", "ESTABLISHED", "RELATED,ESTABLISHED", "INVALID", "NEW,UNTRACKED"),
		)
	case 2:
		if !six {
			add("-m iprange --src-range 10.20.7.20-10.20.7.%d", 31+g.IntN(50))
		}
	case 3:
		add("-m addrtype %s--dst-type %s", not(), pick(g, "LOCAL", "UNICAST", "MULTICAST"))
	case 4:
		add("-m mark %s--mark %s", not(), pick(g, "0x1", "0x0", "0x1/0x3"))
	case 5:
		add(`-m comment --comment "keeps \"%d\""`, g.IntN(9))
	case 6:
		if !six && g.ipsets {
			add("-m set %s--match-set %s", not(), pick(g, "uk_ip src", "uk_net src", "uk_net dst"))
		}
	}
	ways := []string{"-j ACCEPT", "-j ACCEPT", "-j DROP", "-j DROP", "-j RETURN", "-j LOG"}
	if table == "filter" {
		ways = append(ways, "-j REJECT")
		if proto == "tcp" {
			ways = append(ways, "-j REJECT --reject-with tcp-reset")
		}
		if six {
			ways = append(ways, "-j REJECT --reject-with icmp6-adm-prohibited")
		} else {
			ways = append(ways, "-j REJECT --reject-with icmp-host-prohibited",
				"-j REJECT --reject-with icmp-net-unreachable")
		}
	} else {
		ways = append(ways, "-j MARK --set-xmark 0x1/0xffffffff", "-j MARK --set-xmark 0x2/0x3",
			"-j CONNMARK --save-mark")
	}
	for u := from; u < users; u++ {
		ways = append(ways, fmt.Sprintf("-j u%d", u), fmt.Sprintf("-g u%d", u))
	}
	return b.String() + " " + ways[g.IntN(len(ways))]
}

func (g *ruleGen) xtNAT(six bool) string {
	to := "10.20.0.15"
	if six {
		to = "fd20::15"
	}
	head := "*nat\n:PREROUTING ACCEPT [0:0]\n:INPUT ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n:POSTROUTING ACCEPT [0:0]\n"
	switch g.part {
	case "client":
		return head + "-A OUTPUT -p tcp -m tcp --dport 1000:1003 -j DNAT --to-destination " + to + "\nCOMMIT\n"
	case "server":
		return head + "-A PREROUTING -p tcp -m tcp --dport 1002 -j REDIRECT --to-ports 1006\nCOMMIT\n"
	}
	return head + pick(
		g,
		"-A PREROUTING -p tcp -m tcp --dport 1001:1002 -j DNAT --to-destination "+to,
		"-A POSTROUTING -p tcp -j MASQUERADE",
	) + "\nCOMMIT\n"
}
