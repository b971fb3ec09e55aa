package certs

import (
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// hostKeyReading reads the key that an SSH server shows against what this
// user knows of the host.
func hostKeyReading(v *scene.Scene, t *scene.Try, c scene.Climb) (gate.Reading, bool) {
	if c.HostKey == nil {
		return gate.Reading{}, false
	}
	k := c.HostKey.HostKey
	r := gate.Reading{
		Gate:     gate.Session,
		Strength: gate.Read,
		Reach:    gate.Unchecked,
		Because:  scene.FactIDs(c.HostKey),
		Vantage:  c.HostKey.Vantage,
		Values: v.Place(
			t,
			catalogue.Values{
				"key":    k.Type + " " + k.Fingerprint,
				"name":   t.Target.Name,
				"client": v.Host(v.Client),
				"file":   firstPlace(k.Known),
			},
		),
	}
	switch k.State {
	case "known":
		return gate.Reading{
			Gate:     gate.Session,
			Strength: gate.Read,
			Because:  scene.FactIDs(c.HostKey),
			Vantage:  c.HostKey.Vantage,
			Summary:  "host key known, " + k.Type,
		}, true
	case "changed":
		r.Cause = "certs/host-key-changed"
		r.Summary = fmt.Sprintf(
			"%s shows another host key (%s %s) than the one known from %s",
			t.Target.Name,
			k.Type,
			k.Fingerprint,
			firstPlace(k.Known),
		)
	case "revoked":
		r.Cause = "certs/host-key-changed"
		r.Summary = fmt.Sprintf("the host key of %s is marked as revoked", t.Target.Name)
	case "unknown", "other-type":
		r.Cause, r.Harmless = "certs/host-key-unknown", true
		r.Summary = fmt.Sprintf(
			"this user does not know the host key of %s (%s %s): clients ask, and scripts refuse",
			t.Target.Name,
			k.Type,
			k.Fingerprint,
		)
	case "failed":
		r.Cause, r.Strength = "certs/no-common-cipher", gate.Told
		r.Summary = "the key exchange fails: " + k.Error
		r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "what this client's own library offers was not compared"}}
	default:
		return gate.Reading{}, false
	}
	if t.OwnTry {
		return gate.Reading{}, false // the server's own user knows other hosts
	}
	return r, true
}

// firstPlace is where a known key stands: file and line.
func firstPlace(known []string) string {
	if len(known) == 0 {
		return "~/.ssh/known_hosts"
	}
	place, _, _ := strings.Cut(known[0], ": ")
	return place
}

// softReadings are doubts about a chain that works now.
func softReadings(
	v *scene.Scene,
	t *scene.Try,
	c scene.Climb,
	base gate.Reading,
	chain []*x509.Certificate,
) []gate.Reading {
	var list []gate.Reading
	doubt := func(cause, summary string) {
		r := base
		r.Cause, r.Summary, r.Harmless = cause, summary+t.Seen(), true
		list = append(list, r)
	}
	for i, cert := range chain {
		left := cert.NotAfter.Sub(v.Ask.Began)
		if left > 0 && left < soonFor(cert) && !selfSigned(cert) {
			what := "the certificate"
			if i > 0 {
				what = "the intermediate certificate " + nameOf(cert)
			}
			doubt(
				"certs/expires-soon",
				fmt.Sprintf(
					"%s expires in %s, on %s",
					what,
					foreign.Span(left),
					cert.NotAfter.UTC().Format(time.DateOnly),
				),
			)
			break
		}
	}
	if text := misordered(chain); text != "" {
		doubt("certs/chain-order", text)
	}
	if text := statusDoubt(v, c, chain); text != "" {
		doubt("certs/status-unknown", text)
	}
	return list
}

// soonFor is how long before its end a certificate is a doubt: a third of its
// life, at most 30 days.
func soonFor(cert *x509.Certificate) time.Duration {
	return min(cert.NotAfter.Sub(cert.NotBefore)/3, 30*24*time.Hour)
}

// misordered says what is odd about the order in which a chain was sent: each
// certificate should be vouched for by the next (RFC 5246 section 7.4.2).
func misordered(chain []*x509.Certificate) string {
	for i, cert := range chain {
		for _, other := range chain[:i] {
			if cert.Equal(other) {
				return fmt.Sprintf("the certificate %s is sent twice", nameOf(cert))
			}
		}
	}
	for i := 1; i < len(chain); i++ {
		if chain[i-1].CheckSignatureFrom(chain[i]) == nil {
			continue
		}
		if slices.ContainsFunc(
			chain,
			func(c *x509.Certificate) bool { return c != chain[i-1] && chain[i-1].CheckSignatureFrom(c) == nil },
		) {
			return fmt.Sprintf(
				"the chain is out of order: %s is not followed by what vouches for it",
				nameOf(chain[i-1]),
			)
		}
		return fmt.Sprintf("the chain has %s, which nothing before it needs", nameOf(chain[i]))
	}
	return ""
}

// otherOnTheWay compares the certificate that the client is shown with the
// one that the server shows itself.
func otherOnTheWay(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	c scene.Climb,
	leaf *x509.Certificate,
) (gate.Reading, bool) {
	if t.Server == "" || v.OnSame(t) || t.OwnTry {
		return gate.Reading{}, false
	}
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Server, On: t.Server, Target: t.Target, Gate: gate.Session})
	own, ok := v.ClimbAt(t.Server, t.Target)
	if !ok || own.Handshake == nil || len(own.Handshake.Handshake.Chain) == 0 {
		return gate.Reading{}, false
	}
	served, err := x509.ParseCertificate(own.Handshake.Handshake.Chain[0])
	if err != nil || served.Equal(leaf) {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate:     gate.Session,
		Cause:    "certs/other-on-the-way",
		Strength: gate.Read,
		Reach:    gate.Unchecked,
		Harmless: trusts(v, c),
		Because:  scene.FactIDs(c.Handshake, own.Handshake),
		Vantage:  v.Client,
		Summary: fmt.Sprintf(
			"%s is shown %s by %s (%s), and %s itself shows %s by %s (%s): something on the way answers in its place",
			v.Host(v.Client),
			nameOf(
				leaf,
			),
			nameOfName(leaf.Issuer),
			printOf(leaf),
			v.Host(t.Server),
			nameOf(served),
			nameOfName(served.Issuer),
			printOf(served),
		),
		Values: v.Place(t, catalogue.Values{"server": v.Host(t.Server), "issuer": nameOfName(leaf.Issuer)}),
	}, true
}

// trusts reports whether the chain that a climb was shown has a root that the
// client trusts.
func trusts(v *scene.Scene, c scene.Climb) bool {
	bad := false
	ok := c.Trust != nil &&
		judgeTrust(v, c, ParseChain(c.Handshake.Handshake.Chain), func(string, string, ...gate.Lack) { bad = true })
	return ok && !bad
}

// printOf is the beginning of a certificate's fingerprint.
func printOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return fmt.Sprintf("SHA256 %X…", sum[:4])
}
