package certs

import (
	"crypto/x509"
	"fmt"
	"slices"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// nameless is the climb of a session in which no name is indicated (RFC 6066
// section 3): what a server shows then is what it shows by default. It is made
// only where the session with the name is at fault.
func nameless(v *scene.Scene, w *scene.Wants, t *scene.Try) (scene.Climb, bool) {
	if _, literal := endpoint.Literal(t.Target.Name); literal || t.OwnTry {
		return scene.Climb{}, false
	}
	target := t.Target
	target.Name = t.Target.Addr.String()
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: gate.Session})
	c, ok := v.ClimbAt(v.Client, target)
	return c, ok && c.Handshake != nil
}

// uncoveredReading reads a certificate that leaves a name out: it is the wrong
// one, where the server has several sites and none for this name, so that the
// default one answers; else the name is missing in it.
func uncoveredReading(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	leaf *x509.Certificate,
	base gate.Reading,
	missing string,
) gate.Reading {
	r := base
	r.Cause, r.Summary = "certs/name-not-covered", fmt.Sprintf(
		"the certificate does not cover %s; it names %s",
		missing,
		named(leaf),
	)
	c, ok := nameless(v, w, t)
	if !ok {
		r.Summary += t.Seen()
		return r
	}
	r.Because = gate.Union(r.Because, scene.FactIDs(c.Handshake))
	shown := servedLeaf(c)
	switch {
	case shown == nil:
	case !shown.Equal(leaf):
		r.Summary += fmt.Sprintf("; to clients that indicate no name the server shows another, %s", nameOf(shown))
	default:
		f, sites := otherSites(v, w, t, missing)
		if f == nil {
			r.Because = base.Because // it says no more than the first session did
			break
		}
		r.Cause, r.Because = "certs/wrong-default", gate.Union(r.Because, scene.FactIDs(f))
		r.Summary = fmt.Sprintf(
			"none of the %d sites that the server is set up for is %s: its default one answers, whose certificate "+
				"names %s",
			sites,
			missing,
			named(leaf),
		)
	}
	r.Summary += t.Seen()
	return r
}

// otherSites is how many sites the server's settings have on this port, where
// they have several and none is for a name; no fact otherwise.
func otherSites(v *scene.Scene, w *scene.Wants, t *scene.Try, name string) (*fact.Fact, int) {
	if t.Server == "" {
		return nil, 0
	}
	w.Add(
		scene.Want{
			Look:   fact.LookCertFiles,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Port: t.Target.Port},
			Gate:   gate.Session,
		},
	)
	for _, f := range v.Facts(t.Server, fact.LookCertFiles) {
		if f.CertFiles == nil || len(f.CertFiles.Pairs) >= fact.MostPairs {
			continue
		}
		sites := 0
		for _, p := range f.CertFiles.Pairs {
			switch {
			case len(p.Ports) > 0 && !slices.Contains(p.Ports, t.Target.Port):
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
	return pattern == name || pattern != "" && (pattern[0] == '~' || pattern[0] == '.') ||
		program.GlobMatches(pattern, name)
}
