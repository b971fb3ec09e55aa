package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// lookup is what a name gives this client, and who says so.
type lookup struct {
	name    string
	led     string // how a service record led to it
	literal bool
	addrs   []netip.Addr // in the client's own order
	settled bool         // everything that decides is known
	source  *fact.Fact   // the answer or hosts entry that decided
	hosts   *fact.Fact   // an entry of the hosts file
	dns     *fact.Fact   // the answer that decides where the hosts file does not
	dnsAll  []netip.Addr
	other   string     // a source of names that nobody asked
	system  *fact.Fact // the system's own look-up
	// candidates is the full names that the name may stand for; wait is how
	// long programs wait for one resolver.
	candidates []string
	wait       float64      // milliseconds
	ends       []*fact.Fact // answers without addresses that decided
	passed     []*fact.Fact // answers of resolvers that had to be passed over
	behind     []*fact.Fact // answers of the resolvers behind one on this host
}

// lookUp follows the client's own way to an answer: its hosts file, then each
// name of the search list at the first resolver that answers at all.
func (v *view) lookUp(w *wants, name string) *lookup {
	l := &lookup{name: name, led: v.led[name]}
	if addr, ok := endpoint.Literal(name); ok {
		l.literal, l.settled, l.addrs = true, true, []netip.Addr{addr}
		return l
	}
	w.add(Want{Look: fact.LookNames, At: fact.Client, Target: fact.Target{Name: name}, Gate: Name})
	var setup *fact.ResolverSetup
	answers := map[question]*fact.Fact{}
	for _, f := range v.facts(v.client, fact.LookNames) {
		if f.Order.Target.Name != name {
			continue
		}
		switch {
		case f.Setup != nil:
			setup = f.Setup
		case f.HostsFile != nil && len(f.HostsFile.Addrs) > 0:
			l.hosts = f
		case f.System != nil:
			l.system = f
		case f.Answer != nil:
			answers[question{f.Answer.Asked, f.Answer.Resolver, f.Answer.Type}] = f
		}
	}
	if setup != nil {
		for q, f := range answers {
			if slices.Contains(setup.Upstreams, q.resolver) {
				l.behind = append(l.behind, f)
			}
		}
		slices.SortFunc(l.behind, func(a, b *fact.Fact) int { return strings.Compare(a.Source, b.Source) })
		l.candidates, l.wait = setup.Candidates(name), setup.TimeoutMS
		l.resolve(*setup, answers)
		l.other = unasked(setup.Order)
	}
	if l.hosts != nil {
		l.settled, l.source, l.addrs = true, l.hosts, v.ordered(l.hosts.HostsFile.Addrs)
		return l
	}
	l.source, l.addrs = l.dns, v.ordered(l.dnsAll)
	if l.settled && len(l.addrs) == 0 && l.system != nil && len(l.system.System.Addrs) > 0 {
		// Programs get it from a source that is not asked here.
		l.source, l.addrs = l.system, l.system.System.Addrs
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

type question struct {
	asked    string
	resolver netip.AddrPort
	kind     string
}

// resolve walks names and resolvers as the client's own look-up would. A
// resolver that gives no final answer is passed over; a name that no resolver
// can speak about ends the look-up.
func (l *lookup) resolve(setup fact.ResolverSetup, answers map[question]*fact.Fact) {
	for _, asked := range setup.Candidates(l.name) {
		answered := len(setup.Servers) == 0
		var passed []*fact.Fact
		for _, resolver := range setup.Servers {
			four, six := answers[question{asked, resolver, "A"}], answers[question{asked, resolver, "AAAA"}]
			got4, got6 := l.take(four), l.take(six)
			if got4 || got6 {
				l.passed = append(l.passed, passed...)
				l.settled = four != nil && six != nil
				return
			}
			if four == nil || six == nil {
				l.anyAnswer(setup, answers)
				return
			}
			if final(four) && final(six) {
				l.ends = append(l.ends, four, six)
				answered = true
				break
			}
			passed = append(passed, four, six)
		}
		if !answered {
			l.ends = passed
			break
		}
		l.passed = append(l.passed, passed...)
	}
	l.settled = true
}

// take takes the addresses of an answer, if it has any.
func (l *lookup) take(f *fact.Fact) bool {
	if f == nil || f.Answer.Outcome != fact.Addressed {
		return false
	}
	if l.dns == nil {
		l.dns = f
	}
	l.dnsAll = append(l.dnsAll, f.Answer.Addrs...)
	return true
}

// anyAnswer lets the run go on with whatever address is known while a
// resolver before it has not said anything yet.
func (l *lookup) anyAnswer(setup fact.ResolverSetup, answers map[question]*fact.Fact) {
	for _, asked := range setup.Candidates(l.name) {
		for _, resolver := range setup.Servers {
			four, six := l.take(answers[question{asked, resolver, "A"}]), l.take(answers[question{asked, resolver, "AAAA"}])
			if four || six {
				return
			}
		}
	}
}

// final reports whether a resolver's answer ends the look-up of a name.
func final(f *fact.Fact) bool {
	return f.Answer.Outcome == fact.NoSuchName || f.Answer.Outcome == fact.NoData
}

// ordered puts addresses in the order in which the client's programs try
// them: families it has, IPv6 before IPv4 (RFC 6724 rules 1 and 6), each once.
func (v *view) ordered(addrs []netip.Addr) []netip.Addr {
	var list []netip.Addr
	for _, a := range addrs {
		if a = a.Unmap(); !slices.Contains(list, a) {
			list = append(list, a)
		}
	}
	rank := func(a netip.Addr) int {
		switch {
		case !a.IsLoopback() && !v.hasFamily(a.Is6()):
			return 2
		case a.Is6():
			return 0
		}
		return 1
	}
	slices.SortStableFunc(list, func(a, b netip.Addr) int { return rank(a) - rank(b) })
	return list
}

// says tells where an address came from.
func (l *lookup) says(addr netip.Addr) string { return l.led + l.saysOf(addr) }

func (l *lookup) saysOf(addr netip.Addr) string {
	switch {
	case l.literal:
		return "an address; no name to look up"
	case l.source == nil:
		return addr.String()
	case l.source.System != nil:
		return addr.String() + " from the system's own look-up"
	case l.source.HostsFile != nil:
		return fmt.Sprintf("%s from %s, line %d", addr, l.source.HostsFile.Path, l.source.HostsFile.Line)
	}
	a := l.source.Answer
	text := fmt.Sprintf("%s from %s, %s", addr, at(a.Resolver), forSeconds(a.TTL))
	if strings.TrimSuffix(a.Asked, ".") != strings.TrimSuffix(l.name, ".") {
		text += ", as " + strings.TrimSuffix(a.Asked, ".")
	}
	return text
}

// at writes a resolver without the port that every resolver has.
func at(ap netip.AddrPort) string {
	if ap.Port() == 53 {
		return ap.Addr().String()
	}
	return ap.String()
}

func forSeconds(ttl uint32) string {
	switch {
	case ttl == 0:
		return "not to be kept"
	case ttl < 120:
		return fmt.Sprintf("for %d more seconds", ttl)
	case ttl < 7200:
		return fmt.Sprintf("for %d more minutes", ttl/60)
	}
	return fmt.Sprintf("for %d more hours", ttl/3600)
}

// waits is what a resolver that does not answer costs programs.
func (l *lookup) waits(f *fact.Fact) string {
	if f.Answer.Outcome != fact.NoReply || l.wait == 0 {
		return ""
	}
	return fmt.Sprintf(", and programs wait %g s for the first one each time", l.wait/1000)
}
