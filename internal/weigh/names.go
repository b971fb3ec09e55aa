package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// lookup is what a name gives this client, and who says so.
type lookup struct {
	name    string
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
}

// lookUp follows the client's own way to an answer: its hosts file, then each
// name of the search list at the first resolver that answers at all.
func (v *view) lookUp(w *wants, name string) *lookup {
	l := &lookup{name: name}
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

// askedSources is the sources of names that are looked at here, or that know nothing
// beside the host's own name (nsswitch.conf(5)).
var askedSources = []string{"files", "dns", "resolve", "myhostname", "mymachines"}

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

// nameReadings reads the name gate.
func (v *view) nameReadings(w *wants, t *try) []Reading {
	l := t.lookup
	if len(l.addrs) == 0 {
		return v.noAddressReadings(w, t)
	}
	readings := append(v.passedReadings(l), v.viewReadings(w, t)...)
	if r, ok := v.staleReading(w, t); ok {
		readings = append(readings, r)
	}
	if l.literal {
		return append(readings, Reading{Gate: Name, Summary: "an address; no name to look up"})
	}
	if r, ok := v.labelReading(w, t); ok {
		readings = append(readings, r)
	}
	if r, ok := v.hostsReading(w, t); ok {
		return append(readings, r)
	}
	if r, ok := v.loopsReading(t); ok {
		return append(readings, r)
	}
	if t.server != "" && v.confirmed(t) || t.symptom == Fine {
		readings = append(readings, Reading{Gate: Name, Summary: l.says(t.target.Addr), Because: factIDs(l.source)})
	}
	return readings
}

// says tells where an address came from.
func (l *lookup) says(addr netip.Addr) string {
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

// nameEnds is which cause an answer without addresses is, and how it is told.
var nameEnds = map[fact.AnswerOutcome]struct{ cause, says string }{
	fact.NoSuchName:    {"names/no-such-name", "there is no name %s, says %s"},
	fact.NoData:        {"names/no-address", "%s exists and has no address, says %s"},
	fact.NoReply:       {"names/resolver-silent", "asked for %s, the resolver %s does not answer"},
	fact.Unreachable:   {"names/resolver-silent", "asked for %s, the resolver %s cannot be reached"},
	fact.ServerFailure: {"names/server-failure", "asked for %s, the resolver %s fails"},
	fact.QueryRefused:  {"names/resolver-refuses", "asked for %s, the resolver %s refuses to answer"},
	fact.CutOff:        {"names/large-answer-lost", "asked for %s, the resolver %s has an answer too large for a datagram, and TCP to it does not work"},
	fact.BadReply:      {"names/server-failure", "asked for %s, the resolver %s answers with something unreadable"},
}

// noAddressReadings says why a settled look-up gave nothing.
func (v *view) noAddressReadings(w *wants, t *try) []Reading {
	l := t.lookup
	if !l.settled {
		return nil
	}
	if r, ok := v.labelReading(w, t); ok {
		return []Reading{r}
	}
	ends := l.ends
	if len(ends) == 0 {
		return nil
	}
	// Of several names tried, the one that exists says most; of several
	// resolvers, the first.
	worst := ends[0]
	for _, f := range ends {
		if f.Answer.Outcome == fact.NoData && noneFound(ends) {
			worst = f
			break
		}
	}
	end := nameEnds[worst.Answer.Outcome]
	who := at(worst.Answer.Resolver)
	if others := otherResolvers(ends, worst); others > 0 {
		who += fmt.Sprintf(" (and %d more)", others)
	}
	r := Reading{
		Gate: Name, Cause: end.cause, Because: factIDs(ends...), Vantage: v.client,
		Summary: fmt.Sprintf(end.says, strings.TrimSuffix(l.name, "."), who),
		Values:  values{"name": strings.TrimSuffix(l.name, "."), "resolver": at(worst.Answer.Resolver), "client": v.host(v.client)},
	}
	if a := worst.Answer; len(a.Unchecked) > 0 {
		r.Cause = "names/bogus-signature"
		r.Summary = fmt.Sprintf("%s fails for %s since its signatures are bad: with checking off it gives %s", who, strings.TrimSuffix(l.name, "."), a.Unchecked[0])
	}
	if chain := dangling(ends); chain != "" {
		r.Cause = "names/dangling-alias"
		r.Summary = fmt.Sprintf("%s is an alias that ends nowhere: %s", strings.TrimSuffix(l.name, "."), chain)
	}
	if l.other != "" && (l.system == nil || len(l.system.System.Addrs) > 0) {
		r.Short = []string{"programs of this host look names up in " + l.other + " too, which was not asked"}
	}
	return []Reading{r}
}

// noneFound reports whether some name exists without an address in both
// families: one family without an address is ordinary.
func noneFound(ends []*fact.Fact) bool {
	exists := map[string]int{}
	for _, f := range ends {
		if f.Answer.Outcome == fact.NoData {
			exists[f.Answer.Asked]++
		}
	}
	for _, n := range exists {
		if n >= 2 {
			return true
		}
	}
	return false
}

func otherResolvers(ends []*fact.Fact, than *fact.Fact) int {
	var seen []netip.AddrPort
	for _, f := range ends {
		if f.Answer.Resolver != than.Answer.Resolver && !slices.Contains(seen, f.Answer.Resolver) {
			seen = append(seen, f.Answer.Resolver)
		}
	}
	return len(seen)
}

// passedReadings doubts resolvers that the client has to wait out before one
// that answers.
func (v *view) passedReadings(l *lookup) []Reading {
	var list []Reading
	var told []netip.AddrPort
	for _, f := range l.passed {
		if slices.Contains(told, f.Answer.Resolver) {
			continue
		}
		told = append(told, f.Answer.Resolver)
		end := nameEnds[f.Answer.Outcome]
		list = append(list, Reading{
			Gate: Name, Cause: end.cause, Harmless: true, Because: factIDs(f), Vantage: v.client,
			Summary: fmt.Sprintf(end.says, strings.TrimSuffix(l.name, "."), at(f.Answer.Resolver)) + "; the next one does" + l.waits(f),
			Values:  values{"name": l.name, "resolver": at(f.Answer.Resolver), "client": v.host(v.client)},
		})
	}
	return list
}

// waits is what a resolver that does not answer costs programs.
func (l *lookup) waits(f *fact.Fact) string {
	if f.Answer.Outcome != fact.NoReply || l.wait == 0 {
		return ""
	}
	return fmt.Sprintf(", and programs wait %g s for the first one each time", l.wait/1000)
}

// badLabel finds a part of a name that no host name may have (RFC 952,
// RFC 1123 section 2.1).
func badLabel(name string) (label, why string) {
	for label := range strings.SplitSeq(strings.TrimSuffix(name, "."), ".") {
		switch {
		case strings.ContainsRune(label, '_'):
			return label, "an underscore"
		case strings.HasPrefix(label, "-") || strings.HasSuffix(label, "-"):
			return label, "a hyphen at its end"
		case strings.IndexFunc(label, notHostName) >= 0:
			return label, "a character that host names do not have"
		}
	}
	return "", ""
}

func notHostName(r rune) bool {
	return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_')
}

// labelReading reads a name that no host should have. It is the fault when
// the mended name exists and this one does not; else a doubt.
func (v *view) labelReading(w *wants, t *try) (Reading, bool) {
	label, why := badLabel(t.lookup.name)
	if label == "" || len(v.ask.Endpoint.Stray) > 0 && t.lookup.name == v.ask.Endpoint.Host {
		return Reading{}, false
	}
	mended := strings.ReplaceAll(t.lookup.name, label, strings.Trim(strings.ReplaceAll(label, "_", "-"), "-"))
	r := Reading{
		Gate: Name, Cause: "names/bad-label", Harmless: true, Vantage: v.client,
		Summary: fmt.Sprintf("%q has %s, which host names may not have", label, why),
		Values:  values{"name": t.lookup.name, "mended": mended, "client": v.host(v.client)},
	}
	if len(t.lookup.addrs) > 0 || mended == t.lookup.name {
		return r, true
	}
	other := v.lookUp(w, mended)
	if !other.settled || len(other.addrs) == 0 {
		if other.settled {
			// Neither exists: the name is missing, whatever its letters.
			return Reading{}, false
		}
		return r, true
	}
	instead := t.target
	instead.Name = mended
	r.Harmless, r.Instead, r.Because = false, &instead, append(factIDs(t.lookup.ends...), factIDs(other.source)...)
	r.Summary += "; " + mended + " exists"
	return r, true
}

// hostsReading compares the hosts file with what resolvers say.
func (v *view) hostsReading(w *wants, t *try) (Reading, bool) {
	l := t.lookup
	if l.hosts == nil || len(l.dnsAll) == 0 || slices.Contains(l.dnsAll, t.target.Addr) ||
		!slices.Contains(l.hosts.HostsFile.Addrs, t.target.Addr) {
		return Reading{}, false
	}
	h := l.hosts.HostsFile
	r := Reading{
		Gate: Name, Cause: "names/hosts-override", Because: factIDs(l.hosts, l.dns), Vantage: v.client,
		Summary: fmt.Sprintf("%s line %d says %s, the resolver says %s", h.Path, h.Line, t.target.Addr, l.dnsAll[0]),
		Values: values{"name": l.name, "file": h.Path, "line": fmt.Sprint(h.Line), "addr": t.target.Addr.String(),
			"right": l.dnsAll[0].String(), "client": v.host(v.client)},
	}
	if t.symptom == Fine || t.symptom == NotTried {
		r.Harmless = true
		r.Summary += "; the first one works"
		return r, t.symptom == Fine
	}
	for _, addr := range v.ordered(l.dnsAll) {
		other := t.target
		other.Addr = addr
		w.add(Want{Look: fact.LookSession, At: fact.Client, Target: other, Gate: Name})
		c, tried := v.climbs[seat{v.client, other}]
		holds := v.serverOf(addr) != "" && v.serverOf(t.target.Addr) == "" && t.server == ""
		if tried && c.symptom(v.own()).progress() > t.symptom.progress() || holds {
			r.Instead = &other
			r.Summary = fmt.Sprintf("%s line %d says %s (%s), the resolver says %s", h.Path, h.Line, t.target.Addr, t.symptom, addr)
			r.Because = union(r.Because, c.ids())
			return r, true
		}
	}
	r.Harmless, r.Most = true, trail.Possible
	r.Summary += "; neither gets further than the other"
	return r, true
}

// loopsReading doubts a name that gives a loopback address on a host that
// nothing shows to be the server.
func (v *view) loopsReading(t *try) (Reading, bool) {
	if !t.target.Addr.IsLoopback() || v.confirmed(t) || t.symptom == Fine || t.symptom == NotTried {
		return Reading{}, false
	}
	r := Reading{
		Gate: Name, Cause: "names/loops-back", Because: factIDs(t.lookup.source), Vantage: v.client, Most: trail.Possible,
		Summary: fmt.Sprintf("%s gives %s, which is this host itself", t.lookup.name, t.target.Addr),
		Values:  values{"name": t.lookup.name, "addr": t.target.Addr.String(), "client": v.host(v.client)},
	}
	if h := t.lookup.hosts; h != nil {
		r.Values["file"], r.Values["line"] = h.HostsFile.Path, fmt.Sprint(h.HostsFile.Line)
	}
	return r, true
}

// confirmed reports whether the server's vantage is known to be the server,
// not only the holder of the address: every host holds a loopback address.
func (v *view) confirmed(t *try) bool {
	if t.server == "" {
		return false
	}
	for _, at := range v.set.Vantages {
		if at.ID == t.server && !at.Implied {
			return true
		}
	}
	if !t.target.Addr.IsLoopback() || t.lookup.literal || ownName(t.lookup.name, v.host(t.server)) {
		return true
	}
	return slices.ContainsFunc(v.programsAt(t.server), func(p fact.Program) bool {
		return (p.Why == "card" || p.Why == "unit") && (p.Path != "" || len(p.Processes) > 0)
	})
}

// factIDs is the ids of facts, without those that are missing.
func factIDs(list ...*fact.Fact) []string {
	var ids []string
	for _, f := range list {
		if f != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids
}
