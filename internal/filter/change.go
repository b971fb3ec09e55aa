package filter

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
)

// Change is the narrowest change of a host's tables that lets a packet
// through where it is stopped.
type Change struct {
	Do, Undo string // commands
	Lasts    string // what makes it last over a reboot
	Keeper   string // the program that keeps the tables, if rules are not typed by hand
	Opens    string // what it opens: "443/tcp to 10.20.7.31"
	chain    *Chain
	at       int // the place of the new rule, from 0
	rule     *Rule
}

// Narrowest finds the change that lets the packet of a blocking step through.
// It has been tried on the model: with it the step no longer blocks. It
// reports false where no rule would help, or none is known to.
func (h *Host) Narrowest(s Step) (Change, bool) {
	if s.Chain == nil || s.Kind != ByRule && s.Kind != ByPolicy {
		return Change{}, false
	}
	p := s.Packet
	hook := hookOf(s.Hook)
	c := Change{chain: s.Chain, at: len(h.rulesOf(s.Chain)), rule: &Rule{Chain: s.Chain}}
	if s.Rule != nil {
		c.at = s.Rule.Number - 1
	}
	c.rule.Body = append(c.narrow(p, hook), act(Accept))
	c.rule.Number = c.at + 1
	if !h.helps(c, s) {
		return Change{}, false
	}
	c.commands(p, hook, s)
	return c, true
}

// reply reports whether a packet goes from the service to the client, by
// which of its ports is the service's.
func reply(p Packet) bool {
	return p.Proto == TCP && p.Flags&(SYN|ACK) == SYN|ACK || p.Proto == UDP && p.FromPort != 0 && p.ToPort == 0
}

// sides is which ends of a packet a rule at a hook names.
func sides(p Packet, hook Hook) (from, to bool) {
	switch hook {
	case Input, Prerouting, Ingress:
		return !p.AnySource, false
	case Output:
		return false, true
	}
	return !p.AnySource, true
}

// narrow is the conditions that single the packet's like out.
func (c *Change) narrow(p Packet, hook Hook) []Op {
	from, to := sides(p, hook)
	var ops []Op
	if c.chain.Table.Family == Inet || c.chain.Table.Family == Netdev {
		ops = append(ops, whenFamily(p.Six()))
	}
	whole := func(a netip.Addr) netip.Prefix { return netip.PrefixFrom(a, a.BitLen()) }
	if from {
		ops = append(ops, whenAddr(true, whole(p.From), false))
	}
	if to {
		ops = append(ops, whenAddr(false, whole(p.To), false))
	}
	ops = append(ops, whenProto(p.Proto, false))
	switch {
	case p.Proto == ICMP || p.Proto == ICMPv6:
		ops = append(ops, when(transport(0, 1), Equal, []byte{p.ICMPType}))
	case reply(p):
		ops = append(ops, whenPort(true, p.FromPort, p.FromPort, false))
	default:
		ops = append(ops, whenPort(false, p.ToPort, p.ToPort, false))
	}
	return ops
}

// With is the host with a change made.
func (h *Host) With(c Change) *Host {
	changed := *h
	changed.Instead = map[*Chain][]*Rule{}
	for chain, rules := range h.Instead {
		changed.Instead[chain] = rules
	}
	changed.Instead[c.chain] = slices.Insert(slices.Clone(h.rulesOf(c.chain)), c.at, c.rule)
	return &changed
}

// helps tries a change on the model: the packet must pass the base chain that
// stopped it.
func (h *Host) helps(c Change, s Step) bool {
	fuel := mostFuel
	base := s.Base
	if base == nil {
		return false
	}
	changed := h.With(c)
	ev := evaluator{host: changed, hook: base.Hook, fuel: &fuel}
	st := &state{packet: s.Packet, in: s.in, out: s.out, mark: s.mark, tracked: s.flow != nil, flow: s.flow}
	for _, end := range ev.base(base, st, base.Priority) {
		if len(end.blocks) > 0 {
			return false
		}
	}
	return ev.stuck == ""
}

// commands writes the change in the words of whoever keeps the tables.
func (c *Change) commands(p Packet, hook Hook, s Step) {
	from, to := sides(p, hook)
	service, word := p.ToPort, "dport"
	if reply(p) {
		service, word = p.FromPort, "sport"
	}
	proto := protoName(p.Proto)
	peer := p.From
	if !from && to {
		peer = p.To
	}
	c.Opens = fmt.Sprintf("%s to %s and to nobody else", portName(service, proto), peer)
	if reply(p) {
		c.Opens = fmt.Sprintf("replies from port %s to %s", portName(service, proto), p.To)
	}
	t := c.chain.Table
	c.Keeper = keeperOf(c.chain)
	if write, ok := keeperCommands[c.Keeper]; ok && write(c, p, proto, service, hook) {
		return
	}
	if t.Xtable != NotXtables {
		c.xtCommands(p, from, to, proto, word, service, s)
		return
	}
	family := "ip"
	if p.Six() {
		family = "ip6"
	}
	var match []string
	if from {
		match = append(match, family+" saddr "+p.From.String())
	}
	if to {
		match = append(match, family+" daddr "+p.To.String())
	}
	if proto == "tcp" || proto == "udp" {
		match = append(match, fmt.Sprintf("%s %s %d", proto, word, service))
	} else {
		match = append(match, fmt.Sprintf("%s type %d", proto, p.ICMPType))
	}
	line := strings.Join(match, " ") + " accept"
	place := fmt.Sprintf("%s %s", t.Title(), shellName(c.chain.Name))
	switch {
	case s.Rule != nil && s.Rule.Handle != 0:
		c.Do = fmt.Sprintf("nft -e -a insert rule %s handle %d %s", place, s.Rule.Handle, line)
	case s.Rule != nil:
		c.Do = fmt.Sprintf("nft -e -a insert rule %s index %d %s", place, c.at, line)
	default:
		c.Do = fmt.Sprintf("nft -e -a add rule %s %s", place, line)
	}
	c.Undo = fmt.Sprintf("nft delete rule %s handle N, with the handle N that the first command printed", place)
	c.Lasts = "the same line in /etc/nftables.conf"
}

func shellName(name string) string {
	if strings.IndexFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' ||
			strings.ContainsRune("-_./", r))
	}) < 0 {
		return name
	}
	return "'\"" + strings.ReplaceAll(name, "'", "") + "\"'"
}

func portName(port uint16, proto string) string {
	if port == 0 {
		return proto
	}
	return fmt.Sprintf("%d/%s", port, proto)
}

// xtCommands writes the change for iptables.
func (c *Change) xtCommands(p Packet, from, to bool, proto, word string, service uint16, s Step) {
	program := "iptables"
	if p.Six() {
		program = "ip6tables"
	}
	if c.chain.Table.Xtable == Legacy {
		program += "-legacy"
	}
	if c.chain.Table.Name != "filter" {
		program += " -t " + c.chain.Table.Name
	}
	bits := "/32"
	if p.Six() {
		bits = "/128"
	}
	var match []string
	if from {
		match = append(match, "-s "+p.From.String()+bits)
	}
	if to {
		match = append(match, "-d "+p.To.String()+bits)
	}
	match = append(match, "-p "+proto)
	if proto == "tcp" || proto == "udp" {
		match = append(match, fmt.Sprintf("-m %s --%s %d", proto, word, service))
	}
	rule := strings.Join(append(match, "-j ACCEPT"), " ")
	chain := shellName(c.chain.Name)
	if s.Rule != nil {
		c.Do = fmt.Sprintf("%s -I %s %d %s", program, chain, s.Rule.Number, rule)
	} else {
		c.Do = fmt.Sprintf("%s -A %s %s", program, chain, rule)
	}
	c.Undo = fmt.Sprintf("%s -D %s %s", program, chain, rule)
	c.Lasts = "save the tables where the system loads them from at boot, often /etc/iptables/rules.v4"
	if p.Six() {
		c.Lasts = strings.Replace(c.Lasts, "v4", "v6", 1)
	}
}

// managers are programs that write chains of their own, by what those are
// called. A rule typed by hand beside them is overwritten.
var managers = []struct {
	name  string
	is    func(*Chain) bool
	about string
}{
	{"windows", func(c *Chain) bool { return c.Table.Xtable == Windows }, "the firewall of Windows"},
	{
		"fail2ban",
		func(c *Chain) bool { return begins(c.Name, "f2b-") || begins(c.Table.Name, "f2b-") },
		"the ban list of fail2ban",
	},
	{"ufw", func(c *Chain) bool {
		return begins(c.Name, "ufw-", "ufw6-") || c.Table.has("ufw-user-input", "ufw6-user-input")
	}, "ufw"},
	{"firewalld", func(c *Chain) bool {
		return c.Table.Name == "firewalld" || begins(c.Name, "IN_public", "FWD_public") ||
			c.Table.has("IN_public", "INPUT_ZONES")
	}, "firewalld"},
	{"containers", func(c *Chain) bool {
		return begins(c.Name, "DOCKER", "NETAVARK", "CNI-") || c.Hook == Forward && c.Table.has("DOCKER-USER")
	}, "the container engine"},
	{"cluster", func(c *Chain) bool { return begins(c.Name, "KUBE-", "cali-", "CILIUM_") }, "the container cluster"},
	{
		"libvirt",
		func(c *Chain) bool { return begins(c.Name, "LIBVIRT_") || c.Table.Name == "libvirt_network" },
		"libvirt",
	},
}

func begins(name string, prefixes ...string) bool {
	return slices.ContainsFunc(prefixes, func(p string) bool { return strings.HasPrefix(name, p) })
}

func (t *Table) has(chains ...string) bool {
	return slices.ContainsFunc(chains, func(name string) bool { return t.Chains[name] != nil })
}

// keeperOf is the program that keeps a chain; "" if nothing tells of one.
func keeperOf(c *Chain) string {
	for _, k := range managers {
		if k.is(c) {
			return k.name
		}
	}
	return ""
}

// keeperCommands write a change in the words of the program that keeps the
// chain; they report false where it has none for it.
var keeperCommands = map[string]func(c *Change, p Packet, proto string, port uint16, hook Hook) bool{
	"windows": windowsChange,
	"ufw": func(c *Change, p Packet, proto string, port uint16, hook Hook) bool {
		if p.AnySource || port == 0 || reply(p) || hook != Input && hook != Output && hook != Forward {
			return false
		}
		way, rule := "", fmt.Sprintf("proto %s from %s to any port %d", proto, p.From, port)
		switch hook {
		case Output:
			way, rule = "out ", fmt.Sprintf("proto %s to %s port %d", proto, p.To, port)
		case Forward:
			way, rule = "", fmt.Sprintf("proto %s from %s to %s port %d", proto, p.From, p.To, port)
		}
		prefix := "ufw "
		if hook == Forward {
			prefix = "ufw route "
		}
		c.Do, c.Undo = prefix+"prepend allow "+way+rule, prefix+"delete allow "+way+rule
		c.Lasts = "it lasts: ufw keeps it"
		return true
	},
	"firewalld": func(c *Change, p Packet, proto string, port uint16, hook Hook) bool {
		if p.AnySource || port == 0 || reply(p) || hook != Input {
			return false
		}
		family := "ipv4"
		if p.Six() {
			family = "ipv6"
		}
		zone := ""
		if _, after, ok := strings.Cut(c.chain.Name, "_IN_"); ok {
			zone = " --zone=" + strings.SplitN(after, "_", 2)[0]
		} else if after, ok := strings.CutPrefix(c.chain.Name, "IN_"); ok {
			zone = " --zone=" + strings.SplitN(after, "_", 2)[0]
		}
		rule := fmt.Sprintf(
			`'rule family="%s" source address="%s" port port="%d" protocol="%s" accept'`,
			family,
			p.From,
			port,
			proto,
		)
		c.Do = "firewall-cmd" + zone + " --add-rich-rule=" + rule
		c.Undo = "firewall-cmd" + zone + " --remove-rich-rule=" + rule
		c.Lasts = "the same with --permanent"
		return true
	},
	"fail2ban": func(c *Change, p Packet, proto string, port uint16, hook Hook) bool {
		jail := strings.TrimPrefix(c.chain.Name, "f2b-")
		if jail == c.chain.Name || p.AnySource {
			jail = strings.TrimPrefix(c.chain.Table.Name, "f2b-")
			if jail == "table" || jail == c.chain.Table.Name {
				c.Do = "fail2ban-client unban " + p.From.String()
				c.Undo = "fail2ban-client set JAIL banip " + p.From.String()
				c.Opens = "everything that the ban kept from " + p.From.String()
				return !p.AnySource
			}
		}
		c.Do = fmt.Sprintf("fail2ban-client set %s unbanip %s", jail, p.From)
		c.Undo = fmt.Sprintf("fail2ban-client set %s banip %s", jail, p.From)
		c.Lasts = "until it is banned again: mend what the client does wrong, or add it to ignoreip"
		c.Opens = "everything that the ban kept from " + p.From.String()
		return true
	},
	"containers": func(c *Change, p Packet, proto string, port uint16, hook Hook) bool {
		if c.chain.Table.Chains["DOCKER-USER"] == nil || p.AnySource || port == 0 || hook != Forward || reply(p) {
			return false
		}
		rule := fmt.Sprintf("-s %s -p %s -m conntrack --ctorigdstport %d -j ACCEPT", p.From, proto, port)
		c.Do, c.Undo = "iptables -I DOCKER-USER "+rule, "iptables -D DOCKER-USER "+rule
		c.Lasts = "the container engine keeps its chain DOCKER-USER for such rules"
		return true
	},
}

// Kept says who keeps a chain, in words; "" for nobody in particular.
func (c *Chain) Kept() string {
	for _, k := range managers {
		if k.is(c) {
			return k.about
		}
	}
	return ""
}
