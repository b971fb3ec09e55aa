package scene

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/gate"
)

// Lookup is what a name gives this client, and who says so.
type Lookup struct {
	Name    string
	led     string // how a service record led to it
	Literal bool
	Addrs   []netip.Addr // in the client's own order
	Settled bool         // everything that decides is known
	Source  *fact.Fact   // the answer or hosts entry that decided
	Hosts   *fact.Fact   // an entry of the hosts file
	// HostsRead is that somebody read the hosts file, with or without an entry.
	HostsRead bool
	DNS       *fact.Fact // the answer that decides where the hosts file does not
	DNSAll    []netip.Addr
	Other     string     // a source of names that nobody asked
	NoDNS     string     // what programs of this host ask instead of resolvers; "": they ask those
	System    *fact.Fact // the system's own look-up
	// candidates is the full names that the name may stand for; wait is how
	// long programs wait for one resolver.
	Candidates []string
	wait       float64      // milliseconds
	Ends       []*fact.Fact // answers without addresses that decided
	Passed     []*fact.Fact // answers of resolvers that had to be passed over
	Behind     []*fact.Fact // answers of the resolvers behind one on this host
}

type question struct {
	asked    string
	resolver netip.AddrPort
	kind     string
}

// LookUp follows the client's own way to an answer: its hosts file, then each
// name of the search list at the first resolver that answers at all.
func (v *Scene) LookUp(w *Wants, name string) *Lookup {
	l := &Lookup{Name: name, led: v.Led[name]}
	if addr, ok := endpoint.Literal(name); ok {
		l.Literal, l.Settled, l.Addrs = true, true, []netip.Addr{addr}
		return l
	}
	w.Add(Want{Look: fact.LookNames, At: fact.Client, Target: fact.Target{Name: name}, Gate: gate.Name})
	var setup *fact.ResolverSetup
	answers := map[question]*fact.Fact{}
	for _, f := range v.Facts(v.Client, fact.LookNames) {
		if f.Order.Target.Name != name {
			continue
		}
		switch {
		case f.Setup != nil:
			setup = f.Setup
		case f.HostsFile != nil:
			l.HostsRead = true
			if len(f.HostsFile.Addrs) > 0 {
				l.Hosts = f
			}
		case f.System != nil:
			l.System = f
		case f.Answer != nil:
			answers[question{f.Answer.Asked, f.Answer.Resolver, f.Answer.Type}] = f
		}
	}
	if setup != nil {
		for _, f := range v.Facts(v.Client, fact.LookNames) {
			if f.Answer != nil && slices.Contains(setup.Upstreams, f.Answer.Resolver) && f.Order.Target.Name == name {
				l.Behind = append(l.Behind, f)
			}
		}
		slices.SortStableFunc(l.Behind, func(a, b *fact.Fact) int { return strings.Compare(a.Source, b.Source) })
		l.Candidates, l.wait = setup.Candidates(name), setup.TimeoutMS
		l.resolve(*setup, answers)
		l.Other = unasked(setup.Order)
		if len(setup.Order) > 0 && !slices.ContainsFunc(setup.Order, func(s string) bool {
			return !slices.Contains(ownSources, s) && !strings.HasPrefix(s, "[")
		}) {
			l.NoDNS = strings.Join(setup.Order, " ")
		}
	}
	if l.Hosts != nil {
		l.Settled, l.Source, l.Addrs = true, l.Hosts, v.Ordered(l.Hosts.HostsFile.Addrs)
		return l
	}
	if l.Source, l.Addrs = l.DNS, v.Ordered(l.DNSAll); l.NoDNS != "" {
		l.Addrs = nil
	}
	if l.Settled && len(l.Addrs) == 0 && l.System != nil && len(l.System.System.Addrs) > 0 {
		// Programs get it from a source that is not asked here.
		l.Source, l.Addrs = l.System, l.System.System.Addrs
	}
	return l
}

// unasked is the first source that programs of this host ask and nobody here
// did; "" for none.
func unasked(order []string) string {
	for _, source := range order {
		if !strings.HasPrefix(source, "[") && !slices.Contains(askedSources, source) {
			return source
		}
	}
	return ""
}

// resolve walks names and resolvers as the client's own look-up would. A
// resolver that gives no final answer is passed over; a name that no resolver
// can speak about ends the look-up.
func (l *Lookup) resolve(setup fact.ResolverSetup, answers map[question]*fact.Fact) {
	for _, asked := range setup.Candidates(l.Name) {
		answered := len(setup.Servers) == 0
		var passed []*fact.Fact
		for _, resolver := range setup.Servers {
			four, six := answers[question{asked, resolver, "A"}], answers[question{asked, resolver, "AAAA"}]
			got4, got6 := l.take(four), l.take(six)
			if got4 || got6 {
				l.Passed = append(l.Passed, passed...)
				l.Settled = four != nil && six != nil
				return
			}
			if four == nil || six == nil {
				l.anyAnswer(setup, answers)
				return
			}
			if Final(four) && Final(six) {
				l.Ends = append(l.Ends, four, six)
				answered = true
				break
			}
			passed = append(passed, four, six)
		}
		if !answered {
			l.Ends = passed
			break
		}
		l.Passed = append(l.Passed, passed...)
	}
	l.Settled = true
}

// take takes the addresses of an answer, if it has any.
func (l *Lookup) take(f *fact.Fact) bool {
	if f == nil || f.Answer.Outcome != fact.Addressed {
		return false
	}
	if l.DNS == nil {
		l.DNS = f
	}
	l.DNSAll = append(l.DNSAll, f.Answer.Addrs...)
	return true
}

// anyAnswer lets the run go on with whatever address is known while a
// resolver before it has not said anything yet.
func (l *Lookup) anyAnswer(setup fact.ResolverSetup, answers map[question]*fact.Fact) {
	for _, asked := range setup.Candidates(l.Name) {
		for _, resolver := range setup.Servers {
			four, six := l.take(
				answers[question{asked, resolver, "A"}],
			), l.take(
				answers[question{asked, resolver, "AAAA"}],
			)
			if four || six {
				return
			}
		}
	}
}

// Final reports whether a resolver's answer ends the look-up of a name.
func Final(f *fact.Fact) bool {
	return f.Answer.Outcome == fact.NoSuchName || f.Answer.Outcome == fact.NoData
}

// Ordered puts addresses in the order in which the client's programs try
// them: families it has, IPv6 before IPv4 (RFC 6724 rules 1 and 6), each once.
func (v *Scene) Ordered(addrs []netip.Addr) []netip.Addr {
	var list []netip.Addr
	for _, a := range addrs {
		if a = a.Unmap(); !slices.Contains(list, a) {
			list = append(list, a)
		}
	}
	rank := func(a netip.Addr) int {
		switch {
		case !a.IsLoopback() && !v.HasFamily(a.Is6()):
			return 2
		case a.Is6():
			return 0
		}
		return 1
	}
	slices.SortStableFunc(list, func(a, b netip.Addr) int { return rank(a) - rank(b) })
	return list
}

// Says tells where an address came from.
func (l *Lookup) Says(addr netip.Addr) string { return l.led + l.saysOf(addr) }

func (l *Lookup) saysOf(addr netip.Addr) string {
	switch {
	case l.Literal:
		return "an address; no name to look up"
	case l.Source == nil:
		return addr.String()
	case l.Source.System != nil:
		return addr.String() + " from the system's own look-up"
	case l.Source.HostsFile != nil:
		return fmt.Sprintf("%s from %s, line %d", addr, l.Source.HostsFile.Path, l.Source.HostsFile.Line)
	}
	a := l.Source.Answer
	text := fmt.Sprintf("%s from %s, %s", addr, foreign.At(a.Resolver), ForSeconds(a.TTL))
	if strings.TrimSuffix(a.Asked, ".") != strings.TrimSuffix(l.Name, ".") {
		text += ", as " + strings.TrimSuffix(a.Asked, ".")
	}
	return text
}

func ForSeconds(ttl uint32) string {
	switch {
	case ttl == 0:
		return "not to be cached"
	case ttl < 7200:
		return fmt.Sprintf("TTL %d s", ttl)
	}
	return fmt.Sprintf("TTL %d h", ttl/3600)
}

// Waits is what a resolver that does not answer costs programs.
func (l *Lookup) Waits(f *fact.Fact) string {
	if f.Answer.Outcome != fact.NoReply || l.wait == 0 {
		return ""
	}
	return fmt.Sprintf(", and programs wait %g s for the first one each time", l.wait/1000)
}
