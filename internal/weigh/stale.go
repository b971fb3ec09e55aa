package weigh

import (
	"fmt"
	"net/netip"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// staleReading reads an address that the server does not have: the name gives
// an old one or, where there is no name, the setting holds one.
//
// A translation on the way may lead from an address that the server does not
// have to one that it has. Only if the server's own address gets further is
// the other one surely wrong.
func (v *view) staleReading(w *wants, t *try) (Reading, bool) {
	if t.server != "" || t.symptom == Fine || t.symptom == NotTried {
		return Reading{}, false
	}
	at, f, own, ok := v.namedServer(t.target.Addr)
	if !ok {
		return Reading{}, false
	}
	instead := t.target
	instead.Addr = own
	w.add(Want{Look: fact.LookSession, At: fact.Client, Target: instead, Gate: Name})
	r := Reading{
		Gate: Name, Cause: "names/stale-address", Because: append(factIDs(t.lookup.source, f), t.climb.ids()...), Vantage: v.client, Instead: &instead,
		Summary: fmt.Sprintf("%s gives %s, which %s does not have; it has %s", t.target.Name, t.target.Addr, at.Host, own),
		Values:  values{"name": t.target.Name, "addr": t.target.Addr.String(), "right": own.String(), "server": at.Host, "client": v.host(v.client)},
	}
	if t.lookup.literal {
		r.Gate, r.Cause = Intent, "settings/stale-address"
		r.Summary = fmt.Sprintf("the client goes to %s, which %s does not have; it has %s", t.target.Addr, at.Host, own)
	}
	if !t.lookup.literal {
		r = v.frontReading(w, t, r)
	}
	c, tried := v.climbs[seat{v.client, instead}]
	switch {
	case !tried:
		return Reading{}, false
	case c.symptom(v.own()).progress() <= t.symptom.progress():
		r.Most, r.Instead = trail.Possible, nil
		r.Short = append(r.Short, "a translation on the way may lead from this address to the server: its own address gets no further")
	}
	r.Because = union(r.Because, c.ids())
	return r, true
}

// namedServer is the host that the administrator called the server, and an
// address that it has in the family of another one.
func (v *view) namedServer(like netip.Addr) (fact.Vantage, *fact.Fact, netip.Addr, bool) {
	for _, at := range v.set.Vantages {
		if at.Role != fact.Server || at.Implied {
			continue
		}
		f, a := v.addresses(at.ID)
		if a == nil {
			continue
		}
		for _, held := range a.Held {
			addr := held.Prefix.Addr()
			if held.Up && !held.Local && addr.Is4() == like.Is4() && addr.IsGlobalUnicast() {
				return at, f, addr, true
			}
		}
	}
	return fact.Vantage{}, nil, netip.Addr{}, false
}
