package weigh

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh/certs"
)

// NoName is the host of a chain that is judged for no name in particular, as
// that of an authority is.
const NoName = "nameless.invalid"

// Certificates judges the chain that a client was shown, apart from all else.
func Certificates(set fact.Set, names []string) trail.CertList {
	e := set.Ask.Endpoint
	out := trail.CertList{
		Format:   "uakari.certs/1",
		Of:       e.Input,
		Chain:    []trail.Cert{},
		Names:    []trail.Coverage{},
		Problems: []string{},
		Doubts:   []string{},
	}
	judged, _ := Weigh(set)
	for _, c := range judged.Causes {
		switch {
		case c.Rung != trail.Certs, c.ID == "certs/name-not-covered" && e.Host == NoName:
		case c.Blocking:
			out.Problems = append(out.Problems, fmt.Sprintf("%s (%s, %s)", c.Summary, c.ID, c.Certainty))
		default:
			out.Doubts = append(out.Doubts, fmt.Sprintf("%s (%s)", c.Summary, c.ID))
		}
	}
	var chain []*x509.Certificate
	var trust *fact.Trust
	var shown *fact.Handshake
	for i := range set.Facts {
		f := &set.Facts[i]
		switch {
		case f.Vantage != "v1" && len(chain) > 0:
		case f.Handshake != nil && len(f.Handshake.Chain) > 0 && len(chain) == 0:
			chain, shown = certs.ParseChain(f.Handshake.Chain), f.Handshake
			out.Of = f.Source
		case f.Trust != nil && trust == nil:
			trust = f.Trust
		}
	}
	if len(chain) == 0 {
		out.Why = "no certificate was shown"
		for _, c := range judged.Causes {
			if c.Blocking {
				out.Why += ": " + c.Summary
				break
			}
		}
		return out
	}
	for _, cert := range chain {
		out.Chain = append(out.Chain, certOf(cert, chain, set))
	}
	out.Root, out.Store = rootOf(chain, trust)
	if shown.Version != "" {
		out.Needs = certs.PairNeeds(set, shown, chain, trust)
	}
	list := append([]string{e.Host}, names...)
	if set.Ask.Card != nil {
		list = append(list, set.Ask.Card.Aliases...)
	}
	for _, name := range list {
		if name != NoName && !slices.ContainsFunc(out.Names, func(c trail.Coverage) bool { return c.Name == name }) {
			out.Names = append(out.Names, trail.Coverage{Name: name, Covered: certs.Covers(chain[0], name)})
		}
	}
	return out
}

func certOf(cert *x509.Certificate, chain []*x509.Certificate, set fact.Set) trail.Cert {
	sum := sha256.Sum256(cert.Raw)
	c := trail.Cert{
		Subject:     cert.Subject.String(),
		Issuer:      cert.Issuer.String(),
		NotBefore:   cert.NotBefore.UTC(),
		NotAfter:    cert.NotAfter.UTC(),
		DaysLeft:    int(cert.NotAfter.Sub(set.Ask.Began).Hours() / 24),
		Fingerprint: hex.EncodeToString(sum[:]),
		Key:         keyText(cert),
		Signature:   cert.SignatureAlgorithm.String(),
		Authority:   cert.IsCA,
		Covers:      slices.Clone(cert.DNSNames),
		By:          -1,
	}
	for _, ip := range cert.IPAddresses {
		c.Covers = append(c.Covers, ip.String())
	}
	for i, other := range chain {
		if other != cert && cert.CheckSignatureFrom(other) == nil {
			c.By = i
			break
		}
	}
	return c
}

func keyText(cert *x509.Certificate) string {
	switch key := cert.PublicKey.(type) {
	case *rsa.PublicKey:
		return fmt.Sprintf("RSA %d", key.N.BitLen())
	case *ecdsa.PublicKey:
		return "ECDSA " + key.Curve.Params().Name
	case ed25519.PublicKey:
		return "Ed25519"
	}
	return cert.PublicKeyAlgorithm.String()
}

// rootOf is the root of the client's that vouches for a chain; "" for none.
func rootOf(chain []*x509.Certificate, trust *fact.Trust) (root, store string) {
	if trust == nil {
		return "", ""
	}
	top := certs.TopOf(chain)
	for _, r := range certs.ParseChain(trust.Roots) {
		if r.Equal(top) || top.CheckSignatureFrom(r) == nil {
			return r.Subject.String(), trust.Source
		}
	}
	return "", trust.Source
}
