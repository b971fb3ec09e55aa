package filter

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

// The firewall of Windows, as one table: what comes in (or goes out) as the
// answer to what was let through passes; then rules count in the order in which
// Windows asks them: those that harden services, those that let verified peers
// past all others, those that block, those that allow; and then what the
// profile says of the rest (MS-GPFAS section 2.2, "Windows Firewall rule
// processing order" of its manual).

// profiles is the profiles, and how rules call them.
var profiles = []string{"domain", "private", "public"}

// fromFirewall makes a table of a firewall. Errors name the rule.
func fromFirewall(f *fact.Firewall) (*Table, error) {
	t := &Table{
		Family: Inet,
		Name:   "Windows firewall",
		Xtable: Windows,
		Chains: map[string]*Chain{},
		Sets:   map[string]*Set{},
	}
	b := windowsBuilder{f: f}
	for _, p := range f.Profiles {
		if len(f.Active) == 0 || slices.Contains(f.Active, p.Name) {
			b.could = append(b.could, p)
		}
	}
	for _, text := range f.Rules {
		r, err := readWindowsRule(text)
		if err != nil {
			return nil, fmt.Errorf("the firewall's rule %s: %w", text.ID, err)
		}
		b.rules = append(b.rules, r)
	}
	for _, way := range []struct {
		name string
		hook Hook
		in   bool
	}{{"inbound", Input, true}, {"outbound", Output, false}} {
		c := &Chain{Table: t, Name: way.name, Hook: way.hook, Type: "filter"}
		b.fill(c, way.in)
		t.Chains[c.Name], t.order = c, append(t.order, c)
	}
	return t, nil
}

// windowsBuilder makes chains of a firewall.
type windowsBuilder struct {
	f     *fact.Firewall
	could []fact.FirewallProfile // that may be in force
	rules []windowsRule
}

// fill puts into a chain what holds of one direction.
func (b *windowsBuilder) fill(c *Chain, in bool) {
	add := func(text, comment string, body ...Op) {
		c.Rules = append(c.Rules, &Rule{Chain: c, Number: len(c.Rules) + 1, Text: text, Comment: comment, Body: body})
	}
	off, unread := b.state(func(p fact.FirewallProfile) *bool { return p.On })
	if off == No && len(b.could) > 0 {
		return // no profile that may be in force filters
	}
	add("answers to what was let through: allow", "", ctStates(ctEstablished|ctRelated, false), act(Accept))
	add("from this host to itself: allow", "", whenLink(in, "lo", false), act(Accept))
	if off == Unknown || unread {
		add(
			"a profile that is switched off: allow",
			"",
			opaque("which profile is in force is not known, and not all are switched on", false),
			act(Accept),
		)
	}
	shielded := No
	for _, p := range b.could {
		if p.Shielded && in {
			shielded = Yes
		}
	}
	for _, step := range []string{"services", "bypass", "block", "allow"} {
		if step == "allow" && shielded == Yes {
			break
		}
		for _, r := range b.rules {
			if r.step() != step || r.in != in || !r.on {
				continue
			}
			ops, applies := b.conditions(r, in)
			if !applies {
				continue
			}
			doing := Accept
			if r.action == "block" {
				doing = Drop
			}
			add(r.words(), r.name, append(ops, act(doing))...)
			c.Rules[len(c.Rules)-1].peers = r.remoteAddrs
		}
	}
	blocks, mixed := b.state(func(p fact.FirewallProfile) *bool {
		word := p.Outbound
		if in {
			word = p.Inbound
		}
		if word == "" {
			return nil
		}
		is := word == "block"
		return &is
	})
	switch {
	case blocks == Yes:
		c.Drop = true
	case blocks == Unknown || mixed:
		add(
			"what a profile says of the rest: block",
			"",
			opaque("which profile is in force is not known, and they differ", false),
			act(Drop),
		)
	}
}

// state is what the profiles that may be in force say, all of one accord, or
// unknown.
func (b *windowsBuilder) state(of func(fact.FirewallProfile) *bool) (all Tri, unread bool) {
	for i, p := range b.could {
		is := of(p)
		switch {
		case is == nil:
			return Unknown, true
		case i == 0:
			all = triOf(*is)
		case all != triOf(*is):
			return Unknown, false
		}
	}
	if len(b.could) == 0 {
		return Unknown, true
	}
	return all, false
}

// conditions is when a rule counts; false where it never does.
func (b *windowsBuilder) conditions(r windowsRule, in bool) ([]Op, bool) {
	var ops []Op
	if len(r.profiles) > 0 {
		some, all := false, true
		for _, p := range b.could {
			has := slices.Contains(r.profiles, p.Name)
			some, all = some || has, all && has
		}
		switch {
		case !some && len(b.could) > 0:
			return nil, false
		case !all || len(b.could) == 0:
			ops = append(
				ops,
				opaque(
					"the rule is for the profile "+strings.Join(r.profiles,
						" or ")+", and which is in force is not known",
					false,
				),
			)
		}
	}
	if r.from == "local" && slices.ContainsFunc(b.could, func(p fact.FirewallProfile) bool { return p.Alone }) {
		if !slices.ContainsFunc(b.could, func(p fact.FirewallProfile) bool { return !p.Alone }) {
			return nil, false
		}
		ops = append(ops, opaque("the group policy of one profile lets no local rule count", false))
	}
	if r.proto >= 0 {
		ops = append(ops, whenProto(uint8(r.proto), false))
	}
	source := !in // a local port is the destination of what comes in
	for _, each := range []struct {
		list   []Range
		source bool
	}{{r.local, source}, {r.remote, !source}} {
		if len(each.list) > 0 {
			ops = append(ops, Op{Cond: whenPorts(each.source, each.list, false)})
		}
	}
	for _, each := range []struct {
		words  []string
		source bool
	}{{r.remoteAddrs, in}, {r.localAddrs, !in}} {
		if len(each.words) > 0 {
			ops = append(ops, b.addresses(each.words, each.source))
		}
	}
	if len(r.icmp) > 0 {
		ops = append(ops, r.messages())
	}
	if r.app != "" || r.service != "" {
		ops = append(ops, b.program(r, in))
	}
	for _, why := range r.unknown {
		ops = append(ops, opaque(why, false))
	}
	return ops, true
}

// messages is that a packet is one of some ICMP messages.
func (r windowsRule) messages() Op {
	c := &Cond{Op: AnyOf}
	for _, m := range r.icmp {
		all := &Cond{Op: AllOf, Conds: []*Cond{when(transport(0, 1), Equal, []byte{m.kind}).Cond}}
		if m.code >= 0 {
			all.Conds = append(all.Conds, when(transport(1, 1), Equal, []byte{byte(m.code)}).Cond)
		}
		c.Conds = append(c.Conds, all)
	}
	return Op{Cond: c}
}

// addresses is that an address is one of some: each an address, a net, a range,
// or a word for what the host knows.
func (b *windowsBuilder) addresses(list []string, source bool) Op {
	c := &Cond{Op: AnyOf}
	add := func(op Op, six bool) {
		c.Conds = append(c.Conds, &Cond{Op: AllOf, Conds: []*Cond{whenFamily(six).Cond, op.Cond}})
	}
	for _, text := range list {
		low, high, ranged := strings.Cut(text, "-")
		from, err := netip.ParseAddr(low)
		to, err2 := netip.ParseAddr(high)
		net, ok := windowsNet(text)
		switch {
		case strings.EqualFold(text, "LocalSubnet") && b.f.Subnets != nil:
			for _, p := range b.f.Subnets {
				add(whenAddr(source, p, false), p.Addr().Is6())
			}
		case ok:
			add(whenAddr(source, net, false), net.Addr().Is6())
		case ranged && err == nil && err2 == nil && from.Is6() == to.Is6():
			add(whenAddrs(source, from, to, false), from.Is6())
		default:
			c.Conds = append(c.Conds, opaque("what "+text+" stands for on this host is not known", false).Cond)
		}
	}
	return Op{Cond: c}
}

// windowsNet reads an address, or a net by the length of its prefix or its mask.
func windowsNet(text string) (netip.Prefix, bool) {
	if addr, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(addr, addr.BitLen()), true
	}
	if net, err := netip.ParsePrefix(text); err == nil {
		return net, true
	}
	addr, mask, _ := strings.Cut(text, "/")
	from, err := netip.ParseAddr(addr)
	by, err2 := netip.ParseAddr(mask)
	if err != nil || err2 != nil || !from.Is4() || !by.Is4() {
		return netip.Prefix{}, false
	}
	bits, b := 0, by.As4()
	for bits < 32 && b[bits/8]&(0x80>>(bits%8)) != 0 {
		bits++
	}
	for i := bits; i < 32; i++ {
		if b[i/8]&(0x80>>(i%8)) != 0 {
			return netip.Prefix{}, false
		}
	}
	return netip.PrefixFrom(from, bits), true
}

// program is that a packet is for the program or service that a rule is about.
// Who sends from this host is not known: the program that asks may be any.
func (b *windowsBuilder) program(r windowsRule, in bool) Op {
	about := r.app
	if about == "" || r.service != "" && r.service != "*" {
		about = "the service " + r.service
	}
	if !in || b.f.Holders == nil {
		return opaque("the rule is for "+about+" alone, and whose packet it is is not known", false)
	}
	var its, held, unseen []Range
	for _, h := range b.f.Holders {
		at := Range{h.Port, h.Port}
		held = append(held, at)
		switch {
		case h.Path == "":
			unseen = append(unseen, at)
		case r.app != "" && !samePath(r.app, h.Path):
		case r.service == "*" && h.Service == "":
		case r.service != "" && r.service != "*" && !strings.EqualFold(r.service, h.Service):
		default:
			its = append(its, at)
		}
	}
	why := opaque("the rule is for "+about+" alone, and who holds the port is not known", false).Cond
	c := &Cond{Op: AnyOf, Conds: []*Cond{}}
	if len(its) > 0 {
		c.Conds = append(c.Conds, whenPorts(false, its, false))
	}
	if len(unseen) > 0 {
		c.Conds = append(c.Conds, &Cond{Op: AllOf, Conds: []*Cond{whenPorts(false, unseen, false), why}})
	}
	if len(held) > 0 {
		c.Conds = append(c.Conds, &Cond{Op: AllOf, Conds: []*Cond{whenPorts(false, held, true), why}})
	} else {
		c.Conds = append(c.Conds, why)
	}
	return Op{Cond: c}
}

// samePath compares a rule's program with one that runs. Variables stand for
// folders whose names are the same on almost every host.
func samePath(rule, path string) bool {
	plain := func(s string) string {
		s = strings.ToLower(s)
		for name, folder := range map[string]string{
			"%systemroot%": `c:\windows`, "%windir%": `c:\windows`, "%systemdrive%": `c:`,
			"%programfiles%": `c:\program files`, "%programfiles(x86)%": `c:\program files (x86)`,
			"%programdata%": `c:\programdata`,
		} {
			s = strings.ReplaceAll(s, name, folder)
		}
		return s
	}
	return plain(rule) == plain(path)
}

// windowsChange writes a change as commands of Windows. Where a rule blocks, no
// other rule lets anything past it: that rule itself has to be made narrower.
func windowsChange(c *Change, p Packet, proto string, port uint16, hook Hook) bool {
	if p.AnySource || port == 0 || reply(p) || hook != Input && hook != Output {
		return false
	}
	if c.at < len(c.chain.Rules) && c.chain.Rules[c.at].Comment != "" {
		return c.narrowBlock(c.chain.Rules[c.at], p, hook)
	}
	name := fmt.Sprintf("'Uakari %d %s %s'", port, proto, p.From)
	way, peer := "Inbound -LocalPort ", p.From
	if hook == Output {
		name, way, peer = fmt.Sprintf("'Uakari %d %s %s'", port, proto, p.To), "Outbound -RemotePort ", p.To
	}
	c.Do = fmt.Sprintf("New-NetFirewallRule -DisplayName %s -Action Allow -Protocol %s -RemoteAddress %s -Direction "+
		"%s%d",
		name, strings.ToUpper(proto), peer, way, port)
	c.Undo = "Remove-NetFirewallRule -DisplayName " + name
	c.Lasts = "it lasts"
	return true
}

// narrowBlock takes one peer out of those that a rule blocks: no other rule lets
// anything past it.
func (c *Change) narrowBlock(r *Rule, p Packet, hook Hook) bool {
	peer := p.From
	if hook == Output {
		peer = p.To
	}
	set := "Set-NetFirewallRule -DisplayName '" + strings.ReplaceAll(r.Comment, "'", "''") + "' "
	c.Lasts = "it lasts, unless a group policy brings the rule again"
	before := "Any"
	if len(r.peers) > 0 {
		before = strings.Join(r.peers, ",")
	}
	if rest, ok := withoutPeer(r.peers, peer); ok {
		c.Do, c.Undo = set+"-RemoteAddress "+strings.Join(rest, ","), set+"-RemoteAddress "+before
		c.Opens = "what other rules allow to " + peer.String() + " and to nobody else"
		return true
	}
	c.Do, c.Undo = set+"-Enabled False", set+"-Enabled True"
	c.Opens = "all that the rule kept out, unless other rules do"
	return true
}

// withoutPeer is the addresses of a rule without one, as ranges; false where a
// word among them may hold it.
func withoutPeer(words []string, peer netip.Addr) (list []string, ok bool) {
	if len(words) == 0 {
		words = []string{"0.0.0.0/0", "::/0"}
	}
	for _, word := range words {
		low, high, ranged := strings.Cut(word, "-")
		from, err := netip.ParseAddr(low)
		to, err2 := netip.ParseAddr(high)
		if net, ok := windowsNet(word); ok {
			from, to, ranged, err, err2 = net.Masked().Addr(), lastOf(net), true, nil, nil
		}
		switch {
		case !ranged || err != nil || err2 != nil:
			return nil, false
		case from.Is4() != peer.Is4() || peer.Less(from) || to.Less(peer):
			list = append(list, word)
			continue
		}
		if from.Less(peer) {
			list = append(list, from.String()+"-"+peer.Prev().String())
		}
		if peer.Less(to) {
			list = append(list, peer.Next().String()+"-"+to.String())
		}
	}
	return list, len(list) > 0
}

// lastOf is the last address of a net of either family.
func lastOf(net netip.Prefix) netip.Addr {
	b := net.Masked().Addr().AsSlice()
	for i := net.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	addr, _ := netip.AddrFromSlice(b)
	return addr
}

// number is a decimal number of at most so many; -1 if it is none.
func number(text string, most int) int {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > most {
		return -1
	}
	return n
}
