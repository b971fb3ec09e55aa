package names

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// dangling tells a chain of aliases that leads to no address, or round in a
// loop; "" if there is none.
func dangling(ends []*fact.Fact) string {
	for _, f := range ends {
		if len(f.Answer.Aliases) == 0 {
			continue
		}
		name := strings.ToLower(strings.TrimSuffix(f.Answer.Asked, "."))
		chain := append([]string{name}, f.Answer.Aliases...)
		for i, each := range chain {
			if slices.Contains(chain[:i], each) {
				return strings.Join(chain[:i+1], " → ") + ", a loop"
			}
		}
		if f.Answer.Outcome != fact.NoSuchName && f.Answer.Outcome != fact.NoData {
			continue // the resolver fails for one of the links
		}
		return strings.Join(
			chain,
			" → ",
		) + ", which " + map[fact.AnswerOutcome]string{fact.NoSuchName: "does not exist",
			fact.NoData: "has no address"}[f.Answer.Outcome]
	}
	return ""
}

// viewReadings compares what the client's look-up gave with every other view
// of the name: its other resolvers, the authoritative servers, the system's
// own look-up, and the server's.
func viewReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	l := t.Lookup
	if l.Literal || l.DNS == nil || l.Hosts != nil || !t.Target.Addr.IsValid() {
		return nil
	}
	var readings []gate.Reading
	if r, ok := systemReading(v, t); ok {
		readings = append(readings, r)
	}
	if t.Symptom.Good() || t.Symptom == gate.NotTried {
		return readings
	}
	asked := strings.TrimSuffix(l.DNS.Answer.Asked, ".")
	w.Add(scene.Want{Look: fact.LookZone, At: fact.Client, Target: fact.Target{Name: asked}, Gate: gate.Name})
	if r, ok := authorityReading(v, w, t, asked); ok {
		return append(readings, r)
	}
	if r, ok := suffixReading(v, w, t, asked); ok {
		return append(readings, r)
	}
	if r, ok := resolversReading(v, w, t); ok {
		readings = append(readings, r)
	}
	return readings
}

// further finds an address that gets the client further than the one it uses.
func further(v *scene.Scene, w *scene.Wants, t *scene.Try, addrs []netip.Addr) (fact.Target, []string, bool) {
	const most = 2
	for i, addr := range addrs {
		if i == most {
			break
		}
		other := t.Target
		other.Addr = addr.Unmap()
		w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: other, Gate: gate.Name})
		c, tried := v.ClimbAt(v.Client, other)
		if tried && c.Symptom(v.Own()).Progress() > t.Symptom.Progress() ||
			v.ServerOf(other.Addr) != "" && t.Server == "" {
			return other, c.IDs(), true
		}
	}
	return fact.Target{}, nil, false
}

func without(list []netip.Addr, than ...netip.Addr) []netip.Addr {
	return slices.DeleteFunc(slices.Clone(list), func(a netip.Addr) bool { return slices.Contains(than, a.Unmap()) })
}

// authorityReading compares the client's address with what the authoritative
// servers say themselves, each by itself.
func authorityReading(v *scene.Scene, w *scene.Wants, t *scene.Try, asked string) (gate.Reading, bool) {
	for _, f := range v.Facts(v.Client, fact.LookZone) {
		if f.Zone == nil || f.Order.Target.Name != asked {
			continue
		}
		newest := newestServer(f.Zone.Servers)
		if newest != nil && len(newest.Addrs) == 1 && newest.Addrs[0] == t.Target.Addr {
			// The zone's own server says so too: that it is old is the least likely.
			return gate.Reading{Gate: gate.Name, Strength: gate.Inferred, Because: scene.FactIDs(f), Vantage: v.Client,
				Summary: fmt.Sprintf("the authoritative server %s answers %s too", newest.Name, t.Target.Addr)}, true
		}
		if newest == nil || slices.Contains(newest.Addrs, t.Target.Addr) || len(newest.Addrs) == 0 {
			return gate.Reading{}, false
		}
		instead, ids, ok := further(v, w, t, without(newest.Addrs, t.Target.Addr))
		if !ok {
			return gate.Reading{}, false
		}
		r := gate.Reading{
			Gate:     gate.Name,
			Strength: gate.Read,
			Because:  append(scene.FactIDs(f, t.Lookup.Source), ids...),
			Vantage:  v.Client,
			Instead:  &instead,
			Values: catalogue.Values{
				"name":     asked,
				"addr":     t.Target.Addr.String(),
				"right":    instead.Addr.String(),
				"client":   v.Host(v.Client),
				"server":   newest.Name,
				"resolver": foreign.At(t.Lookup.DNS.Answer.Resolver),
				"ttl":      scene.ForSeconds(t.Lookup.DNS.Answer.TTL),
			},
		}
		for _, s := range f.Zone.Servers {
			if s.Serial != 0 && s.Serial != newest.Serial && slices.Contains(s.Addrs, t.Target.Addr) {
				r.Cause = "names/secondary-stale"
				r.Values["server"] = s.Name
				r.Summary = fmt.Sprintf(
					"the authoritative server %s is behind (serial %d) and answers %s; %s (serial %d) answers %s",
					s.Name,
					s.Serial,
					t.Target.Addr,
					newest.Name,
					newest.Serial,
					instead.Addr,
				)
				return r, true
			}
		}
		r.Cause = "names/views-differ"
		r.Summary = fmt.Sprintf(
			"the resolver %s answers %s, %s; the authoritative server %s answers %s",
			foreign.At(t.Lookup.DNS.Answer.Resolver),
			t.Target.Addr,
			scene.ForSeconds(t.Lookup.DNS.Answer.TTL),
			newest.Name,
			instead.Addr,
		)
		return r, true
	}
	return gate.Reading{}, false
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
func suffixReading(v *scene.Scene, w *scene.Wants, t *scene.Try, asked string) (gate.Reading, bool) {
	typed := strings.TrimSuffix(t.Lookup.Name, ".")
	if asked == typed {
		return gate.Reading{}, false
	}
	const most = 3
	for i, candidate := range t.Lookup.Candidates {
		if i == most {
			break
		}
		if strings.TrimSuffix(candidate, ".") == asked {
			continue
		}
		other := v.LookUp(w, candidate)
		instead, ids, ok := further(v, w, t, without(other.Addrs, t.Target.Addr))
		if !ok {
			continue
		}
		right := strings.TrimSuffix(candidate, ".")
		return gate.Reading{
			Gate:     gate.Name,
			Cause:    "names/search-suffix",
			Strength: gate.Read,
			Because:  append(scene.FactIDs(other.Source, t.Lookup.Source), ids...),
			Vantage:  v.Client,
			Instead:  &instead,
			Summary: fmt.Sprintf(
				"%s is completed to %s (%s); %s (%s) gets further",
				typed,
				asked,
				t.Target.Addr,
				right,
				instead.Addr,
			),
			Values: catalogue.Values{"name": typed, "asked": asked, "right": right, "client": v.Host(v.Client)},
		}, true
	}
	return gate.Reading{}, false
}

// shortReading reads a short name that this client's search list completes to nothing, and
// the server's own to a name that this client can look up.
func shortReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	l := t.Lookup
	typed := strings.TrimSuffix(l.Name, ".")
	if strings.Contains(typed, ".") {
		return gate.Reading{}, false
	}
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Server {
			continue
		}
		w.Add(scene.Want{Look: fact.LookNames, At: fact.Server, On: at.ID, Target: fact.Target{Name: l.Name},
			Gate: gate.Name})
		for _, f := range v.Facts(at.ID, fact.LookNames) {
			if f.Answer == nil || f.Order.Target.Name != l.Name || f.Answer.Outcome != fact.Addressed {
				continue
			}
			right := strings.TrimSuffix(f.Answer.Asked, ".")
			if right == typed {
				continue
			}
			other := v.LookUp(w, right)
			if !other.Settled || len(other.Addrs) == 0 {
				continue
			}
			instead := t.Target
			instead.Name = right
			var asked []string
			for _, end := range l.Ends {
				if name := strings.TrimSuffix(end.Answer.Asked, "."); !slices.Contains(asked, name) {
					asked = append(asked, name)
				}
			}
			return gate.Reading{
				Gate: gate.Name, Cause: "names/search-suffix",
				Strength: gate.Read, Vantage: v.Client, Instead: &instead,
				Because: append(scene.FactIDs(l.Ends...), scene.FactIDs(f, other.Source)...),
				Summary: fmt.Sprintf("%s is looked up here as %s, which does not resolve; on %s it is %s, which this client finds",
					typed, strings.Join(asked, " and "), at.Host, right),
				Values: catalogue.Values{"name": typed, "asked": asked[0], "right": right, "client": v.Host(v.Client)},
			}, true
		}
	}
	return gate.Reading{}, false
}

// resolversReading compares the resolvers of this client, and those of the
// server.
func resolversReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	l := t.Lookup
	views := v.Facts(v.Client, fact.LookNames)
	if t.Server != "" {
		w.Add(
			scene.Want{
				Look:   fact.LookNames,
				At:     fact.Server,
				On:     t.Server,
				Target: fact.Target{Name: l.Name},
				Gate:   gate.Name,
			},
		)
		views = append(views, v.Facts(t.Server, fact.LookNames)...)
	}
	for _, f := range views {
		if f.Answer == nil || f.Order.Target.Name != l.Name || f.Answer.Outcome != fact.Addressed ||
			slices.Contains(f.Answer.Addrs, t.Target.Addr) ||
			f.Answer.Asked != l.DNS.Answer.Asked ||
			(f.Answer.Type == "A") != t.Target.Addr.Is4() {
			continue
		}
		instead, ids, ok := further(v, w, t, f.Answer.Addrs)
		if !ok {
			continue
		}
		who := "the resolver " + foreign.At(f.Answer.Resolver)
		if f.Vantage != v.Client {
			who = fmt.Sprintf("%s, seen from %s,", who, v.Host(f.Vantage))
		}
		return gate.Reading{
			Gate:     gate.Name,
			Cause:    "names/views-differ",
			Strength: gate.Read,
			Because:  append(scene.FactIDs(f, l.Source), ids...),
			Vantage:  v.Client,
			Instead:  &instead,
			Summary: fmt.Sprintf(
				"the resolver %s answers %s; %s answers %s, which gets further",
				foreign.At(l.DNS.Answer.Resolver),
				t.Target.Addr,
				who,
				instead.Addr,
			),
			Values: catalogue.Values{
				"name":     l.Name,
				"addr":     t.Target.Addr.String(),
				"right":    instead.Addr.String(),
				"client":   v.Host(v.Client),
				"resolver": foreign.At(l.DNS.Answer.Resolver),
				"ttl":      scene.ForSeconds(l.DNS.Answer.TTL),
			},
		}, true
	}
	return gate.Reading{}, false
}

// systemReading doubts a look-up that gives programs of this host another
// address than its resolvers do.
func systemReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	l := t.Lookup
	if l.System == nil || !l.Settled || len(l.System.System.Addrs) == 0 ||
		slices.ContainsFunc(l.System.System.Addrs, func(a netip.Addr) bool { return slices.Contains(l.Addrs, a) }) {
		return gate.Reading{}, false
	}
	var lacks []gate.Lack
	if !l.HostsRead {
		lacks = []gate.Lack{{Guard: gate.AllRead, Why: "the hosts file was not read, and may say so"}}
	}
	return gate.Reading{
		Gate:     gate.Name,
		Cause:    "names/views-differ",
		Strength: gate.Read,
		Lacks:    lacks,
		Harmless: true,
		Because:  scene.FactIDs(l.System, l.DNS),
		Vantage:  v.Client,
		Summary: fmt.Sprintf(
			"programs of %s get %s from the system's own look-up, its resolvers say %s",
			v.Host(v.Client),
			l.System.System.Addrs[0],
			l.Addrs[0],
		),
		Values: catalogue.Values{
			"name":     l.Name,
			"addr":     l.System.System.Addrs[0].String(),
			"right":    l.Addrs[0].String(),
			"client":   v.Host(v.Client),
			"resolver": "the system's own look-up",
			"ttl":      "until it is asked again",
		},
	}, true
}
