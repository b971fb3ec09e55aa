package weigh

import (
	"crypto/x509"
	"fmt"
	"slices"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// nameless is the climb of a session in which no name is indicated (RFC 6066
// section 3): what a server shows then is what it shows by default. It is made
// only where the session with the name is at fault.
func (v *view) nameless(w *wants, t *try) (climb, bool) {
	if _, literal := endpoint.Literal(t.target.Name); literal || t.ownTry {
		return climb{}, false
	}
	target := t.target
	target.Name = t.target.Addr.String()
	w.add(Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: Session})
	c, ok := v.climbs[seat{v.client, target}]
	return c, ok && c.handshake != nil
}

// uncoveredReading reads a certificate that leaves a name out: it is the wrong
// one, where the server has several sites and none for this name, so that the
// default one answers; else the name is missing in it.
func (v *view) uncoveredReading(w *wants, t *try, leaf *x509.Certificate, base Reading, missing string) Reading {
	r := base
	r.Cause, r.Summary = "certs/name-not-covered", fmt.Sprintf("the certificate does not cover %s; it names %s", missing, named(leaf))
	c, ok := v.nameless(w, t)
	if !ok {
		r.Summary += t.seen()
		return r
	}
	r.Because = union(r.Because, factIDs(c.handshake))
	shown := servedLeaf(c)
	switch {
	case shown == nil:
	case !shown.Equal(leaf):
		r.Summary += fmt.Sprintf("; to clients that indicate no name the server shows another, %s", nameOf(shown))
	default:
		f, sites := v.otherSites(w, t, missing)
		if f == nil {
			r.Summary += "; it is also what the server shows when no name is indicated"
			break
		}
		r.Cause, r.Because = "certs/wrong-default", union(r.Because, factIDs(f))
		r.Summary = fmt.Sprintf("none of the %d sites that the server is set up for is %s: its default one answers, whose certificate names %s", sites, missing, named(leaf))
	}
	r.Summary += t.seen()
	return r
}

// otherSites is how many sites the server's settings have on this port, where
// they have several and none is for a name; no fact otherwise.
func (v *view) otherSites(w *wants, t *try, name string) (*fact.Fact, int) {
	if t.server == "" {
		return nil, 0
	}
	w.add(Want{Look: fact.LookCertFiles, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Session})
	for _, f := range v.facts(t.server, fact.LookCertFiles) {
		if f.CertFiles == nil || len(f.CertFiles.Pairs) >= fact.MostPairs {
			continue
		}
		sites := 0
		for _, p := range f.CertFiles.Pairs {
			switch {
			case len(p.Ports) > 0 && !slices.Contains(p.Ports, t.target.Port):
			case len(p.Names) == 0 || slices.ContainsFunc(p.Names, func(n string) bool { return siteFor(n, name) }):
				return nil, 0 // one may be for it
			default:
				sites++
			}
		}
		if sites > 1 {
			return f, sites
		}
	}
	return nil, 0
}

// siteFor reports whether a name in a site's settings may stand for a host: by
// itself, by a star, or by an expression, which is not evaluated.
func siteFor(pattern, name string) bool {
	return pattern == name || pattern != "" && (pattern[0] == '~' || pattern[0] == '.') || globMatches(pattern, name)
}
