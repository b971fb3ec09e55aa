package weigh

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"slices"
	"time"
)

// judgeTrust builds a path from the leaf to a root that the client trusts. It
// reports whether there is one.
func (v *view) judgeTrust(c climb, chain []*x509.Certificate, shut func(string, string, ...string)) bool {
	if c.trust == nil {
		return false // the client's trust was not read: the gate stays unread
	}
	trust, leaf := c.trust.Trust, chain[0]
	trusted := parseChain(trust.Roots)
	// Time is judged apart: a path must exist at a time when all of it was
	// valid.
	paths := func(at time.Time) bool { return pathAt(chain, trusted, at) }
	switch then := withinAll(slices.Concat(chain, trusted)); {
	case paths(v.ask.Began), paths(withinAll(chain)):
		return true
	case !paths(then):
	case v.ask.Began.Before(then):
		return true // the chain itself is early, and that is told
	default:
		for _, root := range trusted {
			if v.ask.Began.After(root.NotAfter) {
				shut("certs/expired", fmt.Sprintf("the root %s in %s, which the chain ends at, expired %s ago", nameOf(root), trust.Source, span(v.ask.Began.Sub(root.NotAfter))))
				return false
			}
		}
		return true
	}
	last := topOf(chain)
	store := fmt.Sprintf("none of the %d roots in %s", trust.Count, trust.Source)
	report := shut
	shut = func(cause, summary string, short ...string) { report(cause, summary+otherClients(c, chain), short...) }
	switch {
	case selfSigned(leaf):
		shut("certs/self-signed", fmt.Sprintf("the certificate %s is signed by itself, and %s is it", nameOf(leaf), store))
	case last == leaf:
		shut("certs/missing-intermediate", fmt.Sprintf("the server sends only its own certificate; %s, which signed it, is not sent and not trusted here", nameOfName(leaf.Issuer)))
	case selfSigned(last):
		shut("certs/unknown-issuer", fmt.Sprintf("the chain ends at %s, and %s is it", nameOf(last), store))
	default:
		shut("certs/unknown-issuer", fmt.Sprintf("%s vouches for the chain, and %s is it", nameOfName(last.Issuer), store))
	}
	return false
}

// pathAt reports whether a path leads from the first certificate of a chain
// over the others to one of some roots, at a time.
func pathAt(chain, roots []*x509.Certificate, at time.Time) bool {
	trusted, between := x509.NewCertPool(), x509.NewCertPool()
	for _, c := range roots {
		trusted.AddCert(c)
	}
	for _, c := range chain[1:] {
		between.AddCert(c)
	}
	_, err := chain[0].Verify(x509.VerifyOptions{Roots: trusted, Intermediates: between, CurrentTime: at, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageAny}})
	return err == nil
}

// otherClients says of a chain that this client does not trust which others do
// all the same: a fault that only some programs show is hard to believe.
func otherClients(c climb, chain []*x509.Certificate) string {
	text := ""
	if c.beside != nil {
		others := parseChain(c.beside.Trust.Roots)
		if pathAt(chain, others, withinAll(slices.Concat(others, chain))) {
			text = fmt.Sprintf("; programs that go by %s take it", c.beside.Trust.Source)
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

// topOf follows a chain, in whatever order it was sent, to the highest
// certificate that the leaf leads to.
func topOf(chain []*x509.Certificate) *x509.Certificate {
	top := chain[0]
	for range chain {
		next := slices.IndexFunc(chain, func(c *x509.Certificate) bool {
			return c != top && string(c.RawSubject) == string(top.RawIssuer) && top.CheckSignatureFrom(c) == nil
		})
		if next < 0 || selfSigned(top) {
			break
		}
		top = chain[next]
	}
	return top
}

func selfSigned(c *x509.Certificate) bool {
	return string(c.RawSubject) == string(c.RawIssuer) && c.CheckSignature(c.SignatureAlgorithm, c.RawTBSCertificate, c.Signature) == nil
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
