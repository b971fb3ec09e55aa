package certs

import (
	"cmp"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// NeedsOf is the certificates that each side of a set's session needs; nil where
// none came up.
func NeedsOf(set fact.Set) []trail.CertNeed {
	var chain []*x509.Certificate
	var trust *fact.Trust
	var shown *fact.Handshake
	client := ""
	for _, v := range set.Vantages {
		if v.Role == fact.Client && client == "" {
			client = v.ID
		}
	}
	for i := range set.Facts {
		f := &set.Facts[i]
		switch {
		case f.Vantage != client:
		case f.Handshake != nil && len(f.Handshake.Chain) > 0 && shown == nil:
			chain, shown = ParseChain(f.Handshake.Chain), f.Handshake
		case f.Trust != nil && !f.Trust.Beside && !f.Trust.None && trust == nil:
			trust = f.Trust
		}
	}
	if len(chain) == 0 {
		return nil
	}
	return PairNeeds(set, shown, chain, trust)
}

// PairNeeds is what each side of a session must send, and what the other must
// have to take it: the server's certificates, and the client's where the
// server asks for one.
func PairNeeds(set fact.Set, h *fact.Handshake, chain []*x509.Certificate, trust *fact.Trust) []trail.CertNeed {
	client, server := hostOf(set, fact.Client), cmp.Or(hostOf(set, fact.Server), "the server")
	var list []trail.CertNeed
	have, from := []*x509.Certificate(nil), ""
	if trust != nil {
		have, from = ParseChain(trust.Roots), trust.Source
	}
	list = append(list, sides(chain, server, client, "sends", have, from)...)
	if !h.Wanted {
		return list
	}
	sent := ParseChain(h.Sent)
	if len(sent) == 0 {
		what := "a certificate of an authority that " + server + " takes"
		if len(h.Authorities) > 0 {
			what = "a certificate of " + strings.Join(h.Authorities, " or of ")
		}
		return append(list, trail.CertNeed{Host: client, Does: "presents", What: what, State: "absent"})
	}
	have, from = nil, ""
	for _, f := range set.Facts {
		if f.CertFiles != nil && len(f.CertFiles.Stores) == 1 && f.CertFiles.Stores[0].Unread == "" {
			have, from = ParseChain(f.CertFiles.Stores[0].Roots), f.CertFiles.Stores[0].Path
		}
	}
	return append(list, sides(sent, client, server, "presents", have, from)...)
}

// sides is what one side sends and the other trusts; from is the other's
// store, "" where it was not read.
func sides(
	chain []*x509.Certificate,
	sender, taker, does string,
	have []*x509.Certificate,
	from string,
) []trail.CertNeed {
	need := func(host, does string, c *x509.Certificate, state, place string) trail.CertNeed {
		sum := sha256.Sum256(c.Raw)
		return trail.CertNeed{
			Host:        host,
			Does:        does,
			What:        c.Subject.String(),
			Fingerprint: hex.EncodeToString(sum[:]),
			State:       state,
			Place:       place,
		}
	}
	var list []trail.CertNeed
	at := chain[0]
	list = append(list, need(sender, does, at, "present", ""))
	for range chain {
		i := slices.IndexFunc(
			chain,
			func(c *x509.Certificate) bool { return c != at && at.CheckSignatureFrom(c) == nil },
		)
		if i < 0 || selfSigned(chain[i]) {
			break
		}
		at = chain[i]
		list = append(list, need(sender, does, at, "present", ""))
	}
	// What vouches for the last one is in the other's store, or is to be.
	up := func(c *x509.Certificate) func(*x509.Certificate) bool {
		return func(r *x509.Certificate) bool { return r.Equal(c) || c.CheckSignatureFrom(r) == nil }
	}
	if i := slices.IndexFunc(have, up(at)); i >= 0 {
		for range have { // an intermediate that is in the store counts as far as its root is
			if selfSigned(have[i]) {
				break
			}
			next := slices.IndexFunc(
				have,
				func(r *x509.Certificate) bool { return !r.Equal(have[i]) && have[i].CheckSignatureFrom(r) == nil },
			)
			if next < 0 {
				break
			}
			i = next
		}
		return append(list, need(taker, "trusts", have[i], "present", from))
	}
	state := "absent"
	if from == "" {
		state = "unseen"
	}
	if i := slices.IndexFunc(chain, func(c *x509.Certificate) bool { return selfSigned(c) && up(at)(c) }); i >= 0 {
		return append(list, need(taker, "trusts", chain[i], state, from))
	}
	what := fmt.Sprintf("the %s that signed %s; if that is no root, %s must send it too", at.Issuer, at.Subject,
		sender)
	return append(list, trail.CertNeed{Host: taker, Does: "trusts", What: what, State: state, Place: from})
}

// hostOf is the first host that was seen in a role.
func hostOf(set fact.Set, role fact.Role) string {
	for _, v := range set.Vantages {
		if v.Role == role {
			return v.Host
		}
	}
	return ""
}
