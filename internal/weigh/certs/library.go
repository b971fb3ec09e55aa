package certs

import (
	"crypto/ecdsa"
	"crypto/rsa"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// rsaBits and curveBits are how long keys must be at each level of security
// (SSL_CTX_set_security_level(3)).
var (
	rsaBits   = []int{0, 1024, 2048, 3072, 7680, 15360}
	curveBits = []int{0, 160, 224, 256, 384, 512}
)

// broken is signatures that no level above 0 takes.
var broken = []x509.SignatureAlgorithm{x509.MD5WithRSA, x509.SHA1WithRSA, x509.ECDSAWithSHA1, x509.DSAWithSHA1}

// policy is what the client's own library speaks, as far as that was read or
// the card tells it.
type policy struct {
	f     *fact.Fact // nil: nothing was read
	l     fact.Library
	who   string // "OpenSSL 3 here (/etc/ssl/openssl.cnf)"
	short []gate.Lack
}

var libraryWant = scene.Want{Look: fact.LookLibrary, At: fact.Client, Gate: gate.Session}

// policyOf is the policy of the client. Where nothing was read it is what
// clients of today have, and never sure.
func policyOf(v *scene.Scene, w *scene.Wants) policy {
	w.Add(libraryWant)
	p := policy{
		l:     fact.Library{Min: "TLS 1.2", Level: 2},
		who:   "clients of today",
		short: []gate.Lack{{Guard: gate.AllRead, Why: "what this client's own library accepts was not read"}},
	}
	for _, f := range v.Facts(v.Client, fact.LookLibrary) {
		if f.Library == nil || f.Library.Name == "" {
			continue
		}
		p.f, p.l, p.short = f, *f.Library, nil
		p.who = p.l.Name + " here"
		if p.l.Place != "" {
			p.who += " (" + p.l.Place + ")"
		}
		switch {
		case p.l.Unread != "":
			p.short = []gate.Lack{{Guard: gate.AllRead, Why: "not all of its settings could be read: " + p.l.Unread}}
		case !p.l.Sure:
			p.short = []gate.Lack{
				{
					Guard: gate.AllRead,
					Why:   "which library the client's program uses was not seen; a card's client-program says it",
				},
			}
		}
	}
	if c := v.Ask.Card; c != nil && len(c.ClientTLS) > 0 {
		p.l.Min, p.l.Max, p.who, p.short = slices.Min(
			c.ClientTLS,
		), slices.Max(
			c.ClientTLS,
		), "the client, as its card says,", nil
	}
	return p
}

// unsure is the policy as far as it rests on the suites that a library offers:
// where those were not read, the usual ones stood in for them.
func (p policy) unsure() policy {
	if p.l.Suites == nil {
		p.short = append(
			slices.Clone(p.short),
			gate.Lack{Guard: gate.AllRead, Why: "which suites it offers was not read"},
		)
	}
	return p
}

// reading begins a reading of what the policy does not take.
func (p policy) reading(base gate.Reading, cause, summary string) gate.Reading {
	r := base
	r.Cause, r.Summary, r.Lacks = cause, summary, slices.Clone(p.short)
	if p.f != nil {
		r.Because = gate.Union(base.Because, scene.FactIDs(p.f))
	}
	return r
}

// versionReadings judges the version and the suite of a session that came up
// by what the client's own library speaks: this program's speaks more and less.
func versionReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, c scene.Climb, base gate.Reading) []gate.Reading {
	p, h := policyOf(v, w), c.Handshake.Handshake
	switch {
	case h.Version == "":
		return nil
	case p.l.Min != "" && h.Version < p.l.Min:
		return []gate.Reading{
			p.reading(
				base,
				"certs/no-common-version",
				fmt.Sprintf("the server speaks %s at most, and %s wants %s%s", h.Version, p.who, p.l.Min, t.Seen()),
			),
		}
	case t.OwnTry || p.f == nil:
		return nil
	}
	old, cause, says := p.l.Max != "" &&
		h.Version > p.l.Max, "certs/no-common-version", fmt.Sprintf(
		"%s speaks %s at most",
		p.who,
		p.l.Max,
	)
	suite := h.Version < "TLS 1.3" && p.l.Suites != nil && h.Suite != 0 && !slices.Contains(p.l.Suites, h.Suite)
	if suite && !old {
		cause, says = "certs/no-common-cipher", fmt.Sprintf(
			"none of the %d suites that %s offers",
			len(p.l.Suites),
			p.who,
		)
	}
	if !old && !suite {
		return nil
	}
	f, own, wide := offersOf(v, w, t)
	if f == nil || len(own) > 0 || len(wide) == 0 {
		return nil // it takes something else that both have
	}
	r := p.unsure().
		reading(base, cause, fmt.Sprintf("the server takes %s, and %s%s", strings.Join(wide, ", "), says, t.Seen()))
	r.Because = gate.Union(r.Because, scene.FactIDs(f))
	return []gate.Reading{r}
}

// offersOf is what the server takes of what the client's own library offers,
// and of all that there is; no fact, if it was not asked yet.
func offersOf(v *scene.Scene, w *scene.Wants, t *scene.Try) (f *fact.Fact, own, wide []string) {
	w.Add(scene.Want{Look: fact.LookOffers, At: fact.Client, Target: t.Target, Gate: gate.Session})
	for _, f := range v.Facts(v.Client, fact.LookOffers) {
		if f.Offers == nil || f.Order.Target != t.Target {
			continue
		}
		for _, o := range f.Offers.List {
			switch {
			case o.Cipher == "":
			case o.Own:
				own = append(own, o.Version+" with "+o.Cipher)
			default:
				wide = append(wide, o.Version+" with "+o.Cipher)
			}
		}
		return f, own, wide
	}
	return nil, nil, nil
}

// offered says, of a server that finds nothing in common with this program,
// what it does take, and whether the client's own library has that.
func offered(v *scene.Scene, w *scene.Wants, t *scene.Try, r *gate.Reading) {
	p := policyOf(v, w).unsure()
	f, own, wide := offersOf(v, w, t)
	switch {
	case f == nil || len(wide) == 0:
		return
	case len(own) > 0:
		*r = p.reading(
			*r,
			"certs/no-common-cipher",
			fmt.Sprintf(
				"the server takes %s, which %s offers and this program does not: what comes after could not be seen",
				strings.Join(own, ", "),
				p.who,
			),
		)
		r.Harmless, r.Strength = true, gate.Read
	case slices.ContainsFunc(wide, func(o string) bool { return !strings.HasPrefix(o, "SSL 3.0") }):
		*r = p.reading(
			*r,
			"certs/no-common-cipher",
			fmt.Sprintf("the server takes %s, and nothing that %s offers", strings.Join(wide, ", "), p.who),
		)
		r.Strength = gate.Read
	default:
		*r = p.reading(*r, "certs/no-common-version", "the server takes no version of TLS, only SSL 3.0")
		r.Strength = gate.Read
	}
	r.Summary += t.Seen()
	r.Because = gate.Union(r.Because, scene.FactIDs(f))
}

// strengthReadings finds what the client's library refuses: purposes, keys and
// signatures that are too weak for its level.
func strengthReadings(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	chain []*x509.Certificate,
	base gate.Reading,
) []gate.Reading {
	var list []gate.Reading
	leaf := chain[0]
	serves := len(leaf.ExtKeyUsage) == 0 && len(leaf.UnknownExtKeyUsage) == 0 ||
		slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageServerAuth) ||
		slices.Contains(leaf.ExtKeyUsage, x509.ExtKeyUsageAny)
	if !serves {
		r := base
		r.Cause, r.Summary = "certs/wrong-purpose",
			"the certificate is not meant for servers: its extended key usage leaves them out"+t.Seen()
		list = append(list, r)
	}
	p := policyOf(v, w)
	level, wants := p.l.Level, fmt.Sprintf("at its level %d", p.l.Level)
	if p.f == nil || level < 0 || level >= len(rsaBits) {
		level, wants = 2, "as it should"
		if p.short == nil {
			p.short = []gate.Lack{{Guard: gate.AllRead, Why: "how strong keys must be for it was not read"}}
		}
	}
	if p.f == nil {
		wants = "as they should"
	}
	for _, cert := range chain {
		bits, least := 0, 0
		switch key := cert.PublicKey.(type) {
		case *rsa.PublicKey:
			bits, least = key.N.BitLen(), rsaBits[level]
		case *ecdsa.PublicKey:
			bits, least = key.Curve.Params().BitSize, curveBits[level]
		}
		if bits < least {
			list = append(
				list,
				p.reading(
					base,
					"certs/weak",
					fmt.Sprintf(
						"the key of %s has %d bits, and %s wants %d, %s%s",
						nameOf(cert),
						bits,
						p.who,
						least,
						wants,
						t.Seen(),
					),
				),
			)
			break
		}
		if level > 0 && slices.Contains(broken, cert.SignatureAlgorithm) && !selfSigned(cert) {
			list = append(
				list,
				p.reading(
					base,
					"certs/weak",
					fmt.Sprintf(
						"%s is signed with %s, which %s refuses, %s%s",
						nameOf(cert),
						cert.SignatureAlgorithm,
						p.who,
						wants,
						t.Seen(),
					),
				),
			)
			break
		}
	}
	return list
}
