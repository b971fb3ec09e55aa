package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// askedSources is the sources of names that are looked at here, or that know nothing
// beside the host's own name (nsswitch.conf(5)).
var askedSources = []string{"files", "dns", "resolve", "myhostname", "mymachines"}

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
	v.behindStub(l, worst, &r)
	if l.other != "" && (l.system == nil || len(l.system.System.Addrs) > 0) {
		r.Short = []string{"programs of this host look names up in " + l.other + " too, which was not asked"}
	}
	return []Reading{r}
}

// behindStub says what a resolver on this host got, or did not get, from those
// that it asks itself.
func (v *view) behindStub(l *lookup, worst *fact.Fact, r *Reading) {
	if !worst.Answer.Resolver.Addr().IsLoopback() || final(worst) {
		return
	}
	for _, f := range l.behind {
		end, known := nameEnds[f.Answer.Outcome]
		if !known || final(f) {
			continue
		}
		r.Cause, r.Because = end.cause, union(r.Because, factIDs(f))
		r.Values["resolver"] = at(f.Answer.Resolver)
		r.Summary += fmt.Sprintf("; it asks %s, which %s", at(f.Answer.Resolver), map[string]string{
			"names/resolver-silent": "does not answer", "names/server-failure": "fails", "names/resolver-refuses": "refuses", "names/large-answer-lost": "has an answer too large for a datagram"}[end.cause])
		return
	}
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
		return v.named(&p) && (p.Path != "" || len(p.Processes) > 0)
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
