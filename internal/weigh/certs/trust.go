package certs

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// judgeTrust builds a path from the leaf to a root that the client trusts. It
// reports whether there is one.
func judgeTrust(
	v *scene.Scene,
	c scene.Climb,
	chain []*x509.Certificate,
	shut func(string, string, ...gate.Lack),
) bool {
	// A host may keep its store where nobody else does; an image has what is in it.
	if c.Trust == nil || c.Trust.Trust.None && v.Vantage(c.Trust.Vantage).Means != fact.Inside {
		return false // the client's trust was not read: the gate stays unread
	}
	trust, leaf := c.Trust.Trust, chain[0]
	trusted := ParseChain(trust.Roots)
	if ends := anchors(chain, trusted); len(ends) > 0 && !refusedApart(chain, trusted) {
		for _, root := range ends {
			if !v.Ask.Began.After(root.NotAfter) {
				return true
			}
		}
		root := ends[0]
		shut(
			"certs/expired",
			fmt.Sprintf(
				"the root %s in %s, which the chain ends at, expired %s ago",
				nameOf(root),
				trust.Source,
				foreign.Span(v.Ask.Began.Sub(root.NotAfter)),
			),
		)
		return false
	}
	last := TopOf(chain)
	store := fmt.Sprintf("none of the %d roots in %s", trust.Count, trust.Source)
	report := shut
	shut = func(cause, summary string, short ...gate.Lack) {
		report(cause, summary+otherClients(c, chain), short...)
	}
	switch {
	case trust.None:
		shut("certs/unknown-issuer", fmt.Sprintf(
			"%s has no trust store in any of the usual places, so that nobody is trusted, and not %s, which vouches "+
				"for the chain",
			v.Host(c.Trust.Vantage), nameOfName(last.Issuer),
		), gate.Lack{Guard: gate.OneMeaning, Why: "a program may bring a store of its own"})
	case selfSigned(leaf):
		shut(
			"certs/self-signed",
			fmt.Sprintf("the certificate %s is signed by itself, and %s is it", nameOf(leaf), store),
		)
	case last == leaf:
		shut(
			"certs/missing-intermediate",
			fmt.Sprintf(
				"the server sends only its own certificate; %s, which signed it, is not sent and not trusted here",
				nameOfName(leaf.Issuer),
			),
		)
	case selfSigned(last):
		shut("certs/unknown-issuer", fmt.Sprintf("the chain ends at %s, and %s is it", nameOf(last), store))
	default:
		shut(
			"certs/unknown-issuer",
			fmt.Sprintf("%s vouches for the chain, and %s is it", nameOfName(last.Issuer), store),
		)
	}
	return false
}

// rootsUnreadable finds that the file of roots cannot be read which the settings of the
// client's own library name: its programs end there.
func rootsUnreadable(v *scene.Scene, c scene.Climb, base gate.Reading) (gate.Reading, bool) {
	way := v.Ask.Endpoint.Way
	if c.Trust != nil || way == nil || way.Trust == "" {
		return gate.Reading{}, false
	}
	for _, f := range v.Facts(c.Handshake.Vantage, fact.LookSession) {
		if f.Failed == nil || f.Source != fact.TrustStore || f.Order != c.Handshake.Order {
			continue
		}
		r := base
		r.Cause, r.Because = "certs/roots-unreadable", gate.Union(base.Because, scene.FactIDs(f))
		r.Summary = fmt.Sprintf("%s go by the roots in %s, and that cannot be read: %s",
			way.By, way.Trust, f.Failed.Why)
		r.Values = maps.Clone(base.Values)
		r.Values["store"], r.Values["client"], r.Values["place"] = way.Trust, v.Host(v.Client), "the client's settings"
		for _, name := range []string{"sslrootcert", "ssl-ca", "TLS_CACERT", "sslmode"} {
			if s := way.Named(name); s != nil {
				r.Values["place"] = fmt.Sprintf("%s (%s)", s.Name, s.At)
				break
			}
		}
		return r, true
	}
	return gate.Reading{}, false
}

// anchors is the roots that paths of signatures lead to from the first of the
// certificates that were sent, over the others. Time and strength are judged
// apart: a root that is younger than its leaf, or an old hash on the way, is
// another fault than one that nobody vouches for.
func anchors(chain, roots []*x509.Certificate) []*x509.Certificate {
	var ends []*x509.Certificate
	seen := map[*x509.Certificate]bool{}
	var follow func(c *x509.Certificate)
	follow = func(c *x509.Certificate) {
		if seen[c] {
			return
		}
		seen[c] = true
		for _, root := range roots {
			if root.Equal(c) || signed(root, c) {
				ends = append(ends, root)
			}
		}
		for _, next := range chain {
			if next != c && signed(next, c) {
				follow(next)
			}
		}
	}
	follow(chain[0])
	return ends
}

// signed reports whether one certificate signed another, by whatever hash.
func signed(by, c *x509.Certificate) bool {
	if string(by.RawSubject) != string(c.RawIssuer) || by.Version >= 3 && by.BasicConstraintsValid && !by.IsCA {
		return false
	}
	err := by.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature)
	var old x509.InsecureAlgorithmError
	return err == nil || errors.As(err, &old) // too old to be computed: by its name alone
}

// refusedApart reports whether a path to a root is refused for another reason
// than time or an old hash: names that an authority may not sign, too many
// between.
func refusedApart(chain, roots []*x509.Certificate) bool {
	trusted, between := x509.NewCertPool(), x509.NewCertPool()
	for _, c := range roots {
		trusted.AddCert(c)
	}
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, err := chain[0].Verify(
		x509.VerifyOptions{
			Roots:         trusted,
			Intermediates: between,
			CurrentTime:   withinAll(chain),
			KeyUsages:     []x509.ExtKeyUsage{x509.ExtKeyUsageAny},
		},
	)
	var invalid x509.CertificateInvalidError
	return errors.As(err, &invalid) && invalid.Reason != x509.Expired
}

// otherClients says of a chain that this client does not trust which others do
// all the same: a fault that only some programs show is hard to believe.
func otherClients(c scene.Climb, chain []*x509.Certificate) string {
	text := ""
	if c.Beside != nil {
		others := ParseChain(c.Beside.Trust.Roots)
		if len(anchors(chain, others)) > 0 {
			text = fmt.Sprintf("; programs that go by %s take it", c.Beside.Trust.Source)
		}
	}
	if leaf := chain[0]; len(chain) == 1 && !selfSigned(leaf) && len(leaf.IssuingCertificateURL) > 0 {
		text += "; some browsers fetch what was not sent, since the certificate says where, and do not show this"
	}
	return text
}

// withinAll is a time at which every certificate of a chain is valid, if
// there is one.
func withinAll(chain []*x509.Certificate) time.Time {
	from := chain[0].NotBefore
	for _, cert := range chain {
		if cert.NotBefore.After(from) {
			from = cert.NotBefore
		}
	}
	return from
}

// TopOf follows a chain, in whatever order it was sent, to the highest
// certificate that the leaf leads to.
func TopOf(chain []*x509.Certificate) *x509.Certificate {
	top := chain[0]
	for range chain {
		next := slices.IndexFunc(chain, func(c *x509.Certificate) bool {
			return c != top && string(c.RawSubject) == string(top.RawIssuer) && signed(c, top)
		})
		if next < 0 || selfSigned(top) {
			break
		}
		top = chain[next]
	}
	return top
}

func selfSigned(c *x509.Certificate) bool {
	if string(c.RawSubject) != string(c.RawIssuer) {
		return false
	}
	if signed(c, c) {
		return true
	}
	// That it may sign no others does not keep it from having signed itself.
	return c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
}

func nameOf(c *x509.Certificate) string { return nameOfName(c.Subject) }

func nameOfName(n pkix.Name) string {
	switch {
	case n.CommonName != "":
		return fmt.Sprintf("%q", n.CommonName)
	case len(n.Organization) > 0:
		return fmt.Sprintf("%q", n.Organization[0])
	}
	return "an unnamed authority"
}
