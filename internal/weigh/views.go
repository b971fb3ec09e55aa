package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// dangling tells a chain of aliases that leads to no address, or round in a
// loop; "" if there is none.
func dangling(ends []*fact.Fact) string {
	for _, f := range ends {
		if len(f.Answer.Aliases) == 0 {
			continue
		}
		name := strings.TrimSuffix(f.Answer.Asked, ".")
		chain := append([]string{name}, f.Answer.Aliases...)
		for i, each := range chain {
			if slices.Contains(chain[:i], each) {
				return strings.Join(chain[:i+1], " → ") + ", a loop"
			}
		}
		return strings.Join(chain, " → ") + ", which " + map[fact.AnswerOutcome]string{fact.NoSuchName: "does not exist", fact.NoData: "has no address"}[f.Answer.Outcome]
	}
	return ""
}

// viewReadings compares what the client's look-up gave with every other view
// of the name: its other resolvers, the authoritative servers, the system's
// own look-up, and the server's.
func (v *view) viewReadings(w *wants, t *try) []Reading {
	l := t.lookup
	if l.literal || l.dns == nil || l.hosts != nil || !t.target.Addr.IsValid() {
		return nil
	}
	var readings []Reading
	if r, ok := v.systemReading(t); ok {
		readings = append(readings, r)
	}
	if t.symptom == Fine || t.symptom == NotTried {
		return readings
	}
	asked := strings.TrimSuffix(l.dns.Answer.Asked, ".")
	w.add(Want{Look: fact.LookZone, At: fact.Client, Target: fact.Target{Name: asked}, Gate: Name})
	if r, ok := v.authorityReading(w, t, asked); ok {
		return append(readings, r)
	}
	if r, ok := v.suffixReading(w, t, asked); ok {
		return append(readings, r)
	}
	if r, ok := v.resolversReading(w, t); ok {
		readings = append(readings, r)
	}
	return readings
}

// further finds an address that gets the client further than the one it uses.
func (v *view) further(w *wants, t *try, addrs []netip.Addr) (fact.Target, []string, bool) {
	const most = 2
	for i, addr := range addrs {
		if i == most {
			break
		}
		other := t.target
		other.Addr = addr.Unmap()
		w.add(Want{Look: fact.LookSession, At: fact.Client, Target: other, Gate: Name})
		c, tried := v.climbs[seat{v.client, other}]
		if tried && c.symptom(v.own()).progress() > t.symptom.progress() || v.serverOf(other.Addr) != "" && t.server == "" {
			return other, c.ids(), true
		}
	}
	return fact.Target{}, nil, false
}

func without(list []netip.Addr, than ...netip.Addr) []netip.Addr {
	return slices.DeleteFunc(slices.Clone(list), func(a netip.Addr) bool { return slices.Contains(than, a.Unmap()) })
}

// authorityReading compares the client's address with what the authoritative
// servers say themselves, each by itself.
func (v *view) authorityReading(w *wants, t *try, asked string) (Reading, bool) {
	for _, f := range v.facts(v.client, fact.LookZone) {
		if f.Zone == nil || f.Order.Target.Name != asked {
			continue
		}
		newest := newestServer(f.Zone.Servers)
		if newest == nil || slices.Contains(newest.Addrs, t.target.Addr) || len(newest.Addrs) == 0 {
			return Reading{}, false
		}
		instead, ids, ok := v.further(w, t, without(newest.Addrs, t.target.Addr))
		if !ok {
			return Reading{}, false
		}
		r := Reading{Gate: Name, Because: append(factIDs(f, t.lookup.source), ids...), Vantage: v.client, Instead: &instead,
			Values: values{"name": asked, "addr": t.target.Addr.String(), "right": instead.Addr.String(), "client": v.host(v.client), "server": newest.Name,
				"resolver": at(t.lookup.dns.Answer.Resolver), "ttl": forSeconds(t.lookup.dns.Answer.TTL)}}
		for _, s := range f.Zone.Servers {
			if s.Serial != 0 && s.Serial != newest.Serial && slices.Contains(s.Addrs, t.target.Addr) {
				r.Cause = "names/secondary-stale"
				r.Values["server"] = s.Name
				r.Summary = fmt.Sprintf("the authoritative server %s is behind (serial %d) and gives %s; %s (serial %d) gives %s",
					s.Name, s.Serial, t.target.Addr, newest.Name, newest.Serial, instead.Addr)
				return r, true
			}
		}
		r.Cause = "names/views-differ"
		r.Summary = fmt.Sprintf("the resolver %s gives %s, %s; the authoritative server %s gives %s", at(t.lookup.dns.Answer.Resolver), t.target.Addr,
			forSeconds(t.lookup.dns.Answer.TTL), newest.Name, instead.Addr)
		return r, true
	}
	return Reading{}, false
}

// newestServer is the authoritative server with the greatest serial of those
// that answer with authority (RFC 1982, as far as serials in use differ).
func newestServer(servers []fact.ZoneServer) *fact.ZoneServer {
	var best *fact.ZoneServer
	for i := range servers {
		s := &servers[i]
		if s.Lame || s.Outcome != fact.Addressed {
			continue
		}
		if best == nil || int32(s.Serial-best.Serial) > 0 {
			best = s
		}
	}
	return best
}

// suffixReading reads a short name that the search list completes to another
// name than the one that is meant.
func (v *view) suffixReading(w *wants, t *try, asked string) (Reading, bool) {
	typed := strings.TrimSuffix(t.lookup.name, ".")
	if asked == typed {
		return Reading{}, false
	}
	const most = 3
	for i, candidate := range t.lookup.candidates {
		if i == most {
			break
		}
		if strings.TrimSuffix(candidate, ".") == asked {
			continue
		}
		other := v.lookUp(w, candidate)
		instead, ids, ok := v.further(w, t, without(other.addrs, t.target.Addr))
		if !ok {
			continue
		}
		right := strings.TrimSuffix(candidate, ".")
		return Reading{Gate: Name, Cause: "names/search-suffix", Because: append(factIDs(other.source, t.lookup.source), ids...), Vantage: v.client, Instead: &instead,
			Summary: fmt.Sprintf("%s is completed to %s (%s); %s (%s) gets further", typed, asked, t.target.Addr, right, instead.Addr),
			Values:  values{"name": typed, "asked": asked, "right": right, "client": v.host(v.client)}}, true
	}
	return Reading{}, false
}

// resolversReading compares the resolvers of this client, and those of the
// server.
func (v *view) resolversReading(w *wants, t *try) (Reading, bool) {
	l := t.lookup
	views := v.facts(v.client, fact.LookNames)
	if t.server != "" {
		w.add(Want{Look: fact.LookNames, At: fact.Server, On: t.server, Target: fact.Target{Name: l.name}, Gate: Name})
		views = append(views, v.facts(t.server, fact.LookNames)...)
	}
	for _, f := range views {
		if f.Answer == nil || f.Order.Target.Name != l.name || f.Answer.Outcome != fact.Addressed || slices.Contains(f.Answer.Addrs, t.target.Addr) ||
			f.Answer.Asked != l.dns.Answer.Asked || (f.Answer.Type == "A") != t.target.Addr.Is4() {
			continue
		}
		instead, ids, ok := v.further(w, t, f.Answer.Addrs)
		if !ok {
			continue
		}
		who := "the resolver " + at(f.Answer.Resolver)
		if f.Vantage != v.client {
			who = fmt.Sprintf("%s, seen from %s,", who, v.host(f.Vantage))
		}
		return Reading{Gate: Name, Cause: "names/views-differ", Because: append(factIDs(f, l.source), ids...), Vantage: v.client, Instead: &instead,
			Summary: fmt.Sprintf("the resolver %s gives %s; %s gives %s, which gets further", at(l.dns.Answer.Resolver), t.target.Addr, who, instead.Addr),
			Values: values{"name": l.name, "addr": t.target.Addr.String(), "right": instead.Addr.String(), "client": v.host(v.client),
				"resolver": at(l.dns.Answer.Resolver), "ttl": forSeconds(l.dns.Answer.TTL)}}, true
	}
	return Reading{}, false
}

// systemReading doubts a look-up that gives programs of this host another
// address than its resolvers do.
func (v *view) systemReading(t *try) (Reading, bool) {
	l := t.lookup
	if l.system == nil || !l.settled || len(l.system.System.Addrs) == 0 || slices.ContainsFunc(l.system.System.Addrs, func(a netip.Addr) bool { return slices.Contains(l.addrs, a) }) {
		return Reading{}, false
	}
	return Reading{Gate: Name, Cause: "names/views-differ", Harmless: true, Because: factIDs(l.system, l.dns), Vantage: v.client,
		Summary: fmt.Sprintf("programs of %s get %s from the system's own look-up, its resolvers say %s", v.host(v.client), l.system.System.Addrs[0], l.addrs[0]),
		Values: values{"name": l.name, "addr": l.system.System.Addrs[0].String(), "right": l.addrs[0].String(), "client": v.host(v.client),
			"resolver": "the system's own look-up", "ttl": "until it is asked again"}}, true
}
