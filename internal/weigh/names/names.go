// Package names judges the rung "names": each step of a look-up, from the hosts file to the
// zone's authority.
package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// nameEnds is which cause an answer without addresses is, and how it is told.
var nameEnds = map[fact.AnswerOutcome]struct{ cause, says string }{
	fact.NoSuchName:    {"names/no-such-name", "there is no name %s, says %s"},
	fact.NoData:        {"names/no-address", "%s exists and has no address, says %s"},
	fact.NoReply:       {"names/resolver-silent", "asked for %s, the resolver %s does not answer"},
	fact.Unreachable:   {"names/resolver-silent", "asked for %s, the resolver %s cannot be reached"},
	fact.ServerFailure: {"names/server-failure", "asked for %s, the resolver %s fails"},
	fact.QueryRefused:  {"names/resolver-refuses", "asked for %s, the resolver %s refuses to answer"},
	fact.CutOff: {
		"names/large-answer-lost",
		"asked for %s, the resolver %s has an answer too large for a datagram, and TCP to it does not work",
	},
	fact.BadReply: {"names/server-failure", "asked for %s, the resolver %s answers with something unreadable"},
}

// Readings reads the name gate.
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	l := t.Lookup
	if len(l.Addrs) == 0 {
		return NoAddressReadings(v, w, t)
	}
	readings := append(passedReadings(v, l), viewReadings(v, w, t)...)
	if r, ok := staleReading(v, w, t); ok {
		readings = append(readings, r)
	}
	if l.Literal {
		return append(readings, gate.Reading{Gate: gate.Name,
			Strength: gate.Read, Summary: "an address; no name to look up"})
	}
	if r, ok := labelReading(v, w, t); ok {
		readings = append(readings, r)
	}
	if r, ok := hostsReading(v, w, t); ok {
		return append(readings, r)
	}
	if r, ok := loopsReading(v, t); ok {
		return append(readings, r)
	}
	if t.Server != "" && v.Confirmed(t) || t.Symptom.Good() {
		readings = append(
			readings,
			gate.Reading{Gate: gate.Name,
				Strength: gate.Read, Summary: l.Says(t.Target.Addr), Because: scene.FactIDs(l.Source)},
		)
	}
	return readings
}

// NoAddressReadings says why a settled look-up gave nothing.
func NoAddressReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	l := t.Lookup
	if !l.Settled {
		return nil
	}
	if r, ok := labelReading(v, w, t); ok {
		return []gate.Reading{r}
	}
	if r, ok := noResolverReading(v, t); ok {
		return []gate.Reading{r}
	}
	ends := l.Ends
	if len(ends) == 0 {
		return nil
	}
	if r, ok := shortReading(v, w, t); ok {
		return []gate.Reading{r}
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
	who := foreign.At(worst.Answer.Resolver)
	if others := otherResolvers(ends, worst); others > 0 {
		who += fmt.Sprintf(" (and %d more)", others)
	}
	r := gate.Reading{
		Gate: gate.Name, Cause: end.cause, Strength: gate.Read, Because: scene.FactIDs(ends...), Vantage: v.Client,
		Summary: fmt.Sprintf(end.says, strings.TrimSuffix(l.Name, "."), who),
		Values: catalogue.Values{
			"name":     strings.TrimSuffix(l.Name, "."),
			"resolver": foreign.At(worst.Answer.Resolver),
			"client":   v.Host(v.Client),
		},
	}
	if a := worst.Answer; len(a.Unchecked) > 0 {
		r.Cause = "names/bogus-signature"
		r.Summary = fmt.Sprintf(
			"%s fails for %s since its signatures are bad: without validation it answers %s",
			who,
			strings.TrimSuffix(l.Name, "."),
			a.Unchecked[0],
		)
	}
	if chain := dangling(ends); chain != "" {
		r.Cause = "names/dangling-alias"
		r.Summary = fmt.Sprintf("%s is an alias that ends nowhere: %s", strings.TrimSuffix(l.Name, "."), chain)
	}
	if zone := worst.Answer.Denies; zone != "" && r.Cause == "names/no-such-name" {
		r.Summary += fmt.Sprintf("; it says the same of the whole zone %s", zone)
		r.Lacks = []gate.Lack{
			{
				Guard: gate.AllRead,
				Why: "a resolver that knows nothing of " + zone +
					" is no witness: ask one that keeps that zone, or the zone's own servers",
			},
		}
	}
	behindStub(v, l, worst, &r)
	if r.Cause == "names/no-such-name" {
		ofEngine(v, w, l.Name, worst.Answer.Resolver.Addr(), &r)
	}
	if l.Other != "" && (l.System == nil || len(l.System.System.Addrs) > 0) {
		r.Lacks = []gate.Lack{
			{
				Guard: gate.AllRead,
				Why:   "programs of this host look names up in " + l.Other + " too, which was not asked",
			},
		}
	}
	r.Instead = meantServer(v, w, t)
	return []gate.Reading{r}
}

// noResolverReading reads a host whose programs are set to ask no resolver, where one
// would give an address.
func noResolverReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	l := t.Lookup
	if l.NoDNS == "" || len(l.DNSAll) == 0 {
		return gate.Reading{}, false
	}
	instead := t.Target
	instead.Addr = l.DNSAll[0]
	const file = "/etc/nsswitch.conf"
	r := gate.Reading{
		Gate: gate.Name, Cause: "names/views-differ", Strength: gate.Read, Vantage: v.Client, Instead: &instead,
		Because: scene.FactIDs(l.DNS, l.System),
		Summary: fmt.Sprintf("programs of %s ask no resolver (hosts: %s, in %s); %s gives %s for %s", v.Host(v.Client),
			l.NoDNS, file, foreign.At(l.DNS.Answer.Resolver), l.DNSAll[0], strings.TrimSuffix(l.Name, ".")),
		Values: catalogue.Values{"client": v.Host(v.Client), "sources": file},
	}
	if l.System == nil {
		r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "what programs of this host are told was not seen"}}
	}
	return r, true
}

// listens is whether the server at an address listens on the endpoint's port; unknown where
// nobody looked.
func listens(v *scene.Scene, w *scene.Wants, addr netip.Addr) filter.Tri {
	server := v.ServerOf(addr)
	if server == "" {
		return filter.Unknown
	}
	w.Add(scene.Want{Look: fact.LookListeners, At: fact.Server, On: server, Gate: gate.Name,
		Target: fact.Target{Port: v.Ask.Endpoint.Port, Scheme: v.Ask.Endpoint.Scheme}})
	_, list := v.Listeners(server)
	switch {
	case list == nil:
		return filter.Unknown
	case len(list.On(v.Ask.Endpoint.Transport, v.Ask.Endpoint.Port)) > 0:
		return filter.Yes
	}
	return filter.No
}

// meantServer is the one server that was given, where a name that gives nothing is its
// own: what else is wrong there can be looked at all the same.
func meantServer(v *scene.Scene, w *scene.Wants, t *scene.Try) *fact.Target {
	w.Add(scene.Want{Look: fact.LookAddresses, At: fact.Server, Gate: gate.Name})
	label, _, _ := strings.Cut(t.Lookup.Name, ".")
	var found *fact.Target
	for _, at := range v.Set.Vantages {
		_, a := v.Addresses(at.ID)
		if at.Role != fact.Server || at.Implied || a == nil {
			continue
		}
		if found != nil || !strings.EqualFold(at.Host, label) {
			return nil
		}
		for _, held := range a.Held {
			if addr := held.Prefix.Addr(); found == nil && held.Up && !held.Local && addr.IsGlobalUnicast() {
				instead := t.Target
				instead.Addr, found = addr, &instead
			}
		}
	}
	return found
}

// behindStub says what a resolver on this host got, or did not get, from those
// that it asks itself.
func behindStub(v *scene.Scene, l *scene.Lookup, worst *fact.Fact, r *gate.Reading) {
	if !worst.Answer.Resolver.Addr().IsLoopback() || scene.Final(worst) {
		return
	}
	for _, f := range l.Behind {
		end, known := nameEnds[f.Answer.Outcome]
		if !known || scene.Final(f) {
			continue
		}
		r.Cause, r.Because = end.cause, gate.Union(r.Because, scene.FactIDs(f))
		r.Values["resolver"] = foreign.At(f.Answer.Resolver)
		r.Summary += fmt.Sprintf("; it asks %s, which %s", foreign.At(f.Answer.Resolver), map[string]string{
			"names/resolver-silent": "does not answer", "names/server-failure": "fails",
			"names/resolver-refuses":  "refuses",
			"names/large-answer-lost": "has an answer too large for a datagram"}[end.cause])
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
func passedReadings(v *scene.Scene, l *scene.Lookup) []gate.Reading {
	var list []gate.Reading
	var told []netip.AddrPort
	for _, f := range l.Passed {
		if slices.Contains(told, f.Answer.Resolver) {
			continue
		}
		told = append(told, f.Answer.Resolver)
		end := nameEnds[f.Answer.Outcome]
		list = append(list, gate.Reading{
			Gate: gate.Name, Cause: end.cause,
			Strength: gate.Read, Harmless: true, Because: scene.FactIDs(f), Vantage: v.Client,
			Summary: fmt.Sprintf(
				end.says,
				strings.TrimSuffix(l.Name, "."),
				foreign.At(f.Answer.Resolver),
			) + "; the next one does" + l.Waits(
				f,
			),
			Values: catalogue.Values{
				"name":     l.Name,
				"resolver": foreign.At(f.Answer.Resolver),
				"client":   v.Host(v.Client),
			},
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
// the corrected name exists and this one does not; else a doubt.
func labelReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	label, why := badLabel(t.Lookup.Name)
	if label == "" || len(v.Ask.Endpoint.Stray) > 0 && t.Lookup.Name == v.Ask.Endpoint.Host {
		return gate.Reading{}, false
	}
	corrected := strings.ReplaceAll(t.Lookup.Name, label, strings.Trim(strings.ReplaceAll(label, "_", "-"), "-"))
	r := gate.Reading{
		Gate:     gate.Name,
		Cause:    "names/bad-label",
		Strength: gate.Read,
		Harmless: true,
		Vantage:  v.Client,
		Because:  append(scene.FactIDs(t.Lookup.Ends...), scene.FactIDs(t.Lookup.Source)...),
		Summary:  fmt.Sprintf("%q has %s, which host names may not have", label, why),
		Values:   catalogue.Values{"name": t.Lookup.Name, "corrected": corrected, "client": v.Host(v.Client)},
	}
	if len(t.Lookup.Addrs) > 0 || corrected == t.Lookup.Name {
		return r, true
	}
	other := v.LookUp(w, corrected)
	if !other.Settled || len(other.Addrs) == 0 {
		if other.Settled {
			// Neither exists: the name is missing, whatever its letters.
			return gate.Reading{}, false
		}
		return r, true
	}
	instead := t.Target
	instead.Name = corrected
	r.Harmless, r.Instead, r.Because = false, &instead, append(
		scene.FactIDs(t.Lookup.Ends...),
		scene.FactIDs(other.Source)...)
	r.Summary += "; " + corrected + " exists"
	return r, true
}

// hostsReading compares the hosts file with what resolvers say.
func hostsReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	l := t.Lookup
	if l.Hosts == nil || len(l.DNSAll) == 0 || slices.Contains(l.DNSAll, t.Target.Addr) ||
		!slices.Contains(l.Hosts.HostsFile.Addrs, t.Target.Addr) {
		return gate.Reading{}, false
	}
	h := l.Hosts.HostsFile
	r := gate.Reading{
		Gate: gate.Name, Cause: "names/hosts-override",
		Strength: gate.Read, Because: scene.FactIDs(l.Hosts, l.DNS), Vantage: v.Client,
		Summary: fmt.Sprintf("%s line %d says %s, the resolver says %s", h.Path, h.Line, t.Target.Addr, l.DNSAll[0]),
		Values: catalogue.Values{
			"name":   l.Name,
			"file":   h.Path,
			"line":   fmt.Sprint(h.Line),
			"addr":   t.Target.Addr.String(),
			"right":  l.DNSAll[0].String(),
			"client": v.Host(v.Client),
		},
	}
	if t.Symptom.Good() || t.Symptom == gate.NotTried {
		r.Harmless = true
		r.Summary += "; the first one works"
		return r, t.Symptom.Good()
	}
	for _, addr := range v.Ordered(l.DNSAll) {
		other := t.Target
		other.Addr = addr
		w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: other, Gate: gate.Name})
		c, tried := v.ClimbAt(v.Client, other)
		holds := v.ServerOf(addr) != "" && v.ServerOf(t.Target.Addr) == "" && t.Server == ""
		serves := listens(v, w, addr) == filter.Yes && listens(v, w, t.Target.Addr) == filter.No
		if tried && c.Symptom(v.Own()).Progress() > t.Symptom.Progress() || holds || serves {
			r.Instead = &other
			r.Summary = fmt.Sprintf(
				"%s line %d says %s (%s), the resolver says %s",
				h.Path,
				h.Line,
				t.Target.Addr,
				t.Symptom,
				addr,
			)
			r.Because = gate.Union(r.Because, c.IDs())
			return r, true
		}
	}
	r.Harmless, r.Strength = true, gate.Hinted
	r.Summary += "; neither gets further than the other"
	return r, true
}

// loopsReading doubts a name that gives a loopback address on a host that
// nothing shows to be the server.
func loopsReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	if !t.Target.Addr.IsLoopback() || v.Confirmed(t) || t.Symptom.Good() || t.Symptom == gate.NotTried {
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate: gate.Name, Cause: "names/loops-back", Because: scene.FactIDs(t.Lookup.Source), Vantage: v.Client,
		Strength: gate.Hinted,
		Summary:  fmt.Sprintf("%s resolves to %s, which is this host itself", t.Lookup.Name, t.Target.Addr),
		Values:   catalogue.Values{"name": t.Lookup.Name, "addr": t.Target.Addr.String(), "client": v.Host(v.Client)},
	}
	if h := t.Lookup.Hosts; h != nil {
		r.Values["file"], r.Values["line"] = h.HostsFile.Path, fmt.Sprint(h.HostsFile.Line)
	}
	return r, true
}
