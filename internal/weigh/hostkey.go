package weigh

import (
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// hostKeyReading reads the key that an SSH server shows against what this
// user knows of the host.
func (v *view) hostKeyReading(t *try, c climb) (Reading, bool) {
	if c.hostKey == nil {
		return Reading{}, false
	}
	k := c.hostKey.HostKey
	r := Reading{Gate: Session, Apart: true, Because: factIDs(c.hostKey), Vantage: c.hostKey.Vantage,
		Values: v.place(t, values{"key": k.Type + " " + k.Fingerprint, "name": t.target.Name, "client": v.host(v.client), "file": firstPlace(k.Known)})}
	switch k.State {
	case "known":
		return Reading{Gate: Session, Because: factIDs(c.hostKey), Vantage: c.hostKey.Vantage, Summary: "host key known, " + k.Type}, true
	case "changed":
		r.Cause = "certs/host-key-changed"
		r.Summary = fmt.Sprintf("%s shows another host key (%s %s) than the one known from %s", t.target.Name, k.Type, k.Fingerprint, firstPlace(k.Known))
	case "revoked":
		r.Cause = "certs/host-key-changed"
		r.Summary = fmt.Sprintf("the host key of %s is marked as revoked", t.target.Name)
	case "unknown", "other-type":
		r.Cause, r.Harmless = "certs/host-key-unknown", true
		r.Summary = fmt.Sprintf("this user does not know the host key of %s (%s %s): clients ask, and scripts refuse", t.target.Name, k.Type, k.Fingerprint)
	case "failed":
		r.Cause, r.Most = "certs/no-common-cipher", trail.Likely
		r.Summary = "the key exchange fails: " + k.Error
		r.Short = []string{"what this client's own library offers was not compared"}
	default:
		return Reading{}, false
	}
	if t.ownTry {
		return Reading{}, false // the server's own user knows other hosts
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
func (v *view) softReadings(t *try, c climb, base Reading, chain []*x509.Certificate) []Reading {
	var list []Reading
	doubt := func(cause, summary string) {
		r := base
		r.Cause, r.Summary, r.Harmless = cause, summary+t.seen(), true
		list = append(list, r)
	}
	for i, cert := range chain {
		left := cert.NotAfter.Sub(v.ask.Began)
		if left > 0 && left < soonFor(cert) && !selfSigned(cert) {
			what := "the certificate"
			if i > 0 {
				what = "the intermediate certificate " + nameOf(cert)
			}
			doubt("certs/expires-soon", fmt.Sprintf("%s expires in %s, on %s", what, span(left), cert.NotAfter.UTC().Format(time.DateOnly)))
			break
		}
	}
	if text := misordered(chain); text != "" {
		doubt("certs/chain-order", text)
	}
	if text := v.statusDoubt(c, chain); text != "" {
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
		if slices.ContainsFunc(chain, func(c *x509.Certificate) bool { return c != chain[i-1] && chain[i-1].CheckSignatureFrom(c) == nil }) {
			return fmt.Sprintf("the chain is out of order: %s is not followed by what vouches for it", nameOf(chain[i-1]))
		}
		return fmt.Sprintf("the chain has %s, which nothing before it needs", nameOf(chain[i]))
	}
	return ""
}

// otherOnTheWay compares the certificate that the client is shown with the
// one that the server shows itself.
func (v *view) otherOnTheWay(w *wants, t *try, c climb, leaf *x509.Certificate) (Reading, bool) {
	if t.server == "" || v.onSame(t) || t.ownTry {
		return Reading{}, false
	}
	w.add(Want{Look: fact.LookSession, At: fact.Server, On: t.server, Target: t.target, Gate: Session})
	own, ok := v.climbs[seat{t.server, t.target}]
	if !ok || own.handshake == nil || len(own.handshake.Handshake.Chain) == 0 {
		return Reading{}, false
	}
	served, err := x509.ParseCertificate(own.handshake.Handshake.Chain[0])
	if err != nil || served.Equal(leaf) {
		return Reading{}, false
	}
	return Reading{Gate: Session, Cause: "certs/other-on-the-way", Apart: true, Harmless: v.trusts(c), Because: factIDs(c.handshake, own.handshake), Vantage: v.client,
		Summary: fmt.Sprintf("%s is shown %s by %s (%s), and %s itself shows %s by %s (%s): something on the way answers in its place", v.host(v.client),
			nameOf(leaf), nameOfName(leaf.Issuer), printOf(leaf), v.host(t.server), nameOf(served), nameOfName(served.Issuer), printOf(served)),
		Values: v.place(t, values{"server": v.host(t.server), "issuer": nameOfName(leaf.Issuer)})}, true
}

// trusts reports whether the chain that a climb was shown has a root that the
// client trusts.
func (v *view) trusts(c climb) bool {
	bad := false
	ok := c.trust != nil && v.judgeTrust(c, parseChain(c.handshake.Handshake.Chain), func(string, string, ...string) { bad = true })
	return ok && !bad
}

// printOf is the beginning of a certificate's fingerprint.
func printOf(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return fmt.Sprintf("SHA256 %X…", sum[:4])
}
