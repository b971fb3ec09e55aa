package names

import (
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// staleReading reads an address that the server does not have: the name gives
// an old one or, where there is no name, the setting holds one.
//
// A translation on the way may lead from an address that the server does not
// have to one that it has. Only if the server's own address gets further is
// the other one surely wrong.
func staleReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if t.Server != "" || t.Symptom.Good() || t.Symptom == gate.NotTried {
		return gate.Reading{}, false
	}
	at, f, own, ok := namedServer(v, t.Target.Addr)
	if !ok {
		return gate.Reading{}, false
	}
	// An address behind the host may be a container's or a machine's of it.
	w.Add(scene.Want{Look: fact.LookContainers, At: at.Role, On: at.ID, Target: fact.Target{Port: t.Target.Port},
		Gate: gate.Name})
	if keepsAddress(v, at.ID, t.Target.Addr) {
		return gate.Reading{}, false
	}
	instead := t.Target
	instead.Addr = own
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: instead, Gate: gate.Name})
	r := gate.Reading{
		Gate:     gate.Name,
		Cause:    "names/stale-address",
		Strength: gate.Read,
		Because:  append(scene.FactIDs(t.Lookup.Source, f), t.Climb.IDs()...),
		Vantage:  v.Client,
		Instead:  &instead,
		Summary: fmt.Sprintf(
			"%s resolves to %s, which %s does not have; it has %s",
			t.Target.Name,
			t.Target.Addr,
			at.Host,
			own,
		),
		Values: catalogue.Values{
			"name":   t.Target.Name,
			"addr":   t.Target.Addr.String(),
			"right":  own.String(),
			"server": at.Host,
			"client": v.Host(v.Client),
		},
	}
	if h := t.Lookup.Source; h != nil && h.HostsFile != nil {
		r.Cause = "names/hosts-override"
		r.Summary = fmt.Sprintf(
			"%s line %d says %s for %s, which %s does not have; it has %s",
			h.HostsFile.Path,
			h.HostsFile.Line,
			t.Target.Addr,
			t.Target.Name,
			at.Host,
			own,
		)
		r.Values["file"], r.Values["line"] = h.HostsFile.Path, fmt.Sprint(h.HostsFile.Line)
	}
	if t.Lookup.Literal {
		r.Gate, r.Cause, r.Shows = gate.Intent, "settings/stale-address", gate.ShownBy(gate.Name)
		r.Summary = fmt.Sprintf("the client goes to %s, which %s does not have; it has %s", t.Target.Addr, at.Host,
			own)
	}
	if !t.Lookup.Literal {
		r = frontReading(v, w, t, r)
	}
	c, tried := v.ClimbAt(v.Client, instead)
	switch {
	case !tried:
		return gate.Reading{}, false
	case c.Symptom(v.Own()).Progress() <= t.Symptom.Progress() && !saysNo(c.Symptom(v.Own()), t.Symptom):
		r.Strength, r.Instead = gate.Hinted, nil
		r.Lacks = append(
			r.Lacks,
			gate.Lack{
				Guard: gate.SameSource,
				Why: "a translation on the way may lead from this address to the server: its own address gets no " +
					"further",
			},
		)
	}
	r.Because = gate.Union(r.Because, c.IDs())
	alive := t.Symptom == gate.RefusedByReset || t.Climb.Past(gate.Listener)
	if alive && r.Instead != nil && r.Cause == "names/stale-address" {
		if right := otherName(c, t.Target.Name); right != "" {
			return wrongHost(v, t, r, at.Host, right), true
		}
		r.Lacks = append(r.Lacks, gate.Lack{
			Guard: gate.OneMeaning,
			Why:   "a machine answers at this address: the name may be of that one, and the client told the wrong host",
		})
	}
	return r, true
}

// saysNo reports whether the server's own address refuses where the other one is silent: a
// translation from the other to the server would have met the same refusal.
func saysNo(own, other gate.Symptom) bool {
	return other.Silent() && (own == gate.RefusedByReset || own == gate.PortUnreachable || own == gate.ICMPFromTarget)
}

// otherName is a name that the server's certificate is for, where it is not for the name
// that the client was told; "" where nothing was shown, or it is for that one too.
func otherName(c scene.Climb, name string) string {
	if c.Handshake == nil || len(c.Handshake.Handshake.Chain) == 0 {
		return ""
	}
	leaf, err := x509.ParseCertificate(c.Handshake.Handshake.Chain[0])
	if err != nil || leaf.VerifyHostname(name) == nil || len(leaf.DNSNames) == 0 {
		return ""
	}
	return leaf.DNSNames[0]
}

// wrongHost is the reading of a client that was told another machine than the server: the
// name leads to one that is there, and the server goes by another name.
func wrongHost(v *scene.Scene, t *scene.Try, r gate.Reading, server, right string) gate.Reading {
	instead := *r.Instead
	instead.Name = right
	r.Gate, r.Cause, r.Shows, r.Instead = gate.Intent, "settings/wrong-host", gate.ShownBy(gate.Name), &instead
	r.Summary = fmt.Sprintf("%s is another machine (%s) than the server, %s, which goes by %s",
		t.Target.Name, t.Target.Addr, server, right)
	r.Values = catalogue.Values{
		"host": v.Host(v.Client), "client": v.Host(v.Client), "server": server, "right": right,
		"name": t.Target.Name,
	}
	return r
}

// keepsAddress reports whether an address is that of a container of a host: one that an
// engine tells of, or one on a network of the host's own. Other namespaces of a kernel may
// be of anybody.
func keepsAddress(v *scene.Scene, host string, addr netip.Addr) bool {
	_, c := v.HeldBy(host, addr)
	if c == nil {
		return false
	}
	_, own := v.Addresses(host)
	return c.Engine != "" || own != nil && slices.ContainsFunc(own.Held, func(a fact.Address) bool {
		return !a.Local && a.Prefix.Contains(addr)
	})
}

// namedServer is the host that the administrator called the server, and an
// address that it has in the family of another one.
func namedServer(v *scene.Scene, like netip.Addr) (fact.Vantage, *fact.Fact, netip.Addr, bool) {
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Server || at.Implied {
			continue
		}
		f, a := v.Addresses(at.ID)
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
