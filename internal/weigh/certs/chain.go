package certs

import (
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// chainReadings judges the certificates that were shown.
func chainReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, c scene.Climb) []gate.Reading {
	chain := ParseChain(c.Handshake.Handshake.Chain)
	if len(chain) == 0 {
		return nil
	}
	leaf := chain[0]
	base := gate.Reading{
		Gate:     gate.Session,
		Strength: gate.Read,
		Reach:    gate.Unchecked,
		Because:  scene.FactIDs(c.Handshake),
		Vantage:  c.Handshake.Vantage,
		Values: v.Place(
			t,
			catalogue.Values{"server": v.Answering(t), "subject": nameOf(leaf), "issuer": nameOfName(leaf.Issuer)},
		),
	}
	base.Values["order"], base.Values["root"], base.Values["store"] = served(
		chain,
	), anchorOf(
		chain,
	), "the client's trust store"
	if c.Trust != nil && !c.Trust.Trust.None {
		base.Values["store"] = c.Trust.Trust.Source
	}
	var readings []gate.Reading
	shut := func(cause, summary string, short ...gate.Lack) {
		r := base
		r.Cause, r.Summary, r.Lacks = cause, summary+t.Seen(), short
		readings = append(readings, r)
	}
	judgeTime(v, w, t, c, chain, func(cause, summary string, short ...gate.Lack) {
		shut(cause, summary, short...)
		for _, f := range v.Facts(v.Client, fact.LookClock) {
			if f.Clock != nil && len(f.Clock.List) > 0 {
				readings[len(readings)-1].Because = gate.Union(base.Because, scene.FactIDs(f))
			}
		}
	})
	if len(v.Set.Ask.Endpoint.Host) > 0 {
		if missing := uncovered(v, t, leaf); missing != "" {
			base.Values["name"] = missing
			readings = append(readings, uncoveredReading(v, w, t, leaf, base, missing))
		}
	}
	if r, ok := rootsUnreadable(v, c, base); ok {
		readings = append(readings, r)
	}
	trusted := judgeTrust(v, c, chain, shut)
	readings = append(readings, strengthReadings(v, w, t, chain, base)...)
	readings = append(readings, versionReadings(v, w, t, c, base)...)
	judgeRevoked(v, c, chain, shut)
	if r, ok := otherOnTheWay(v, w, t, c, chain[0]); ok {
		readings = append(readings, r)
	}
	soft := softReadings(v, t, c, base, chain)
	if len(readings) == 0 && trusted {
		return append(
			soft,
			gate.Reading{Gate: gate.Session, Strength: gate.Read, Because: scene.FactIDs(c.Handshake, c.Trust),
				Vantage: c.Handshake.Vantage,
				Summary: fmt.Sprintf(
					"valid for %s, %s left%s",
					t.Target.Name,
					foreign.Span(leaf.NotAfter.Sub(v.Ask.Began)),
					t.Seen(),
				)},
		)
	}
	return append(readings, soft...)
}

// served is how a chain should be sent: the server's own certificate, then each
// that vouches for the one before, without a root. What is not among those that
// were sent is named by its issuer.
func served(chain []*x509.Certificate) string {
	at := chain[0]
	names := []string{nameOf(at)}
	for range chain {
		next := slices.IndexFunc(chain, func(c *x509.Certificate) bool { return c != at && signed(c, at) })
		if next < 0 || selfSigned(chain[next]) {
			break
		}
		at = chain[next]
		names = append(names, nameOf(at))
	}
	if len(chain) == 1 && !selfSigned(at) {
		names = append(names, nameOfName(at.Issuer)+" (not sent now)")
	}
	return strings.Join(names, ", then ")
}

// anchorOf names the authority that a chain ends at, with its fingerprint if it
// was sent.
func anchorOf(chain []*x509.Certificate) string {
	last := TopOf(chain)
	if !selfSigned(last) {
		return "the root certificate above " + nameOfName(last.Issuer)
	}
	sum := sha256.Sum256(last.Raw)
	return fmt.Sprintf("the root certificate %s (SHA-256 %x)", nameOf(last), sum)
}

func ParseChain(der [][]byte) []*x509.Certificate {
	var chain []*x509.Certificate
	for _, raw := range der {
		cert, err := x509.ParseCertificate(raw)
		if err != nil {
			break
		}
		chain = append(chain, cert)
	}
	return chain
}

// judgeTime judges validity by the client's clock, which decides for the
// client, and by a second clock, which says whether that one is right.
func judgeTime(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	c scene.Climb,
	chain []*x509.Certificate,
	shut func(string, string, ...gate.Lack),
) {
	now := v.Ask.Began
	for i, cert := range chain {
		which := "the certificate"
		if i > 0 {
			which = "the intermediate certificate " + nameOf(cert)
		}
		switch {
		case now.After(cert.NotAfter):
			cause, short := clocks(
				v,
				w,
				t,
				c,
				now,
				"certs/expired",
				func(at time.Time) bool { return at.After(cert.NotAfter) },
			)
			shut(
				cause,
				fmt.Sprintf(
					"%s expired %s ago, on %s",
					which,
					foreign.Span(now.Sub(cert.NotAfter)),
					cert.NotAfter.UTC().Format(time.DateOnly),
				),
				short...)
		case now.Before(cert.NotBefore):
			cause, short := clocks(
				v,
				w,
				t,
				c,
				now,
				"certs/not-yet-valid",
				func(at time.Time) bool { return at.Before(cert.NotBefore) },
			)
			shut(
				cause,
				fmt.Sprintf(
					"%s is valid only from %s, in %s",
					which,
					cert.NotBefore.UTC().Format(time.DateOnly),
					foreign.Span(cert.NotBefore.Sub(now)),
				),
				short...)
		default:
			continue
		}
		return
	}
}

// clocks asks other clocks whether they agree that a certificate is out of its
// time: the server's, and those that the client is set to follow. If they do
// not, a clock is the fault.
func clocks(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	c scene.Climb,
	now time.Time,
	cause string,
	out func(time.Time) bool,
) (string, []gate.Lack) {
	w.Add(scene.Want{Look: fact.LookClock, At: fact.Client, Gate: gate.Session})
	for _, f := range v.Facts(v.Client, fact.LookClock) {
		if f.Clock == nil || len(f.Clock.List) == 0 {
			continue
		}
		agree := 0
		for _, each := range f.Clock.List {
			if out(now.Add(time.Duration(each.AheadMS * float64(time.Millisecond)))) {
				agree++
			}
		}
		switch agree {
		case len(f.Clock.List):
			return cause, nil
		case 0:
			return "certs/clock-wrong", nil // valid by the clock that this host should follow
		}
	}
	switch {
	case c.Reply != nil && !c.Reply.Reply.Date.IsZero():
		if !out(c.Reply.Reply.Date) {
			return "certs/clock-wrong", []gate.Lack{
				{Guard: gate.SameClock, Why: "two clocks differ, and nothing says which is right"},
			}
		}
		return cause, nil
	case v.OnSame(t):
		return cause, nil // the two ends have one clock
	}
	return cause, []gate.Lack{{Guard: gate.SameClock, Why: "only the client's clock was read"}}
}

// uncovered is the first name of the endpoint that a certificate leaves out
// (RFC 9525; a common name alone is not enough).
func uncovered(v *scene.Scene, t *scene.Try, leaf *x509.Certificate) string {
	names := []string{t.Target.Name}
	if v.Ask.Endpoint.AnyName {
		names = nil
	}
	if v.Ask.Card != nil {
		names = append(names, v.Ask.Card.Aliases...)
	}
	if addr, literal := endpoint.Literal(t.Target.Name); literal && addr != t.Target.Addr && len(names) > 0 {
		names = names[1:] // an address was typed that is corrected: what is typed then is not known
	}
	for _, name := range names {
		if !Covers(leaf, name) {
			return name
		}
	}
	return ""
}

func Covers(leaf *x509.Certificate, name string) bool {
	if addr, err := netip.ParseAddr(name); err == nil {
		name = "[" + addr.WithZone("").String() + "]"
	}
	return leaf.VerifyHostname(strings.TrimSuffix(name, ".")) == nil
}

// named lists what a certificate covers, shortened to stay readable.
func named(leaf *x509.Certificate) string {
	names := slices.Clone(leaf.DNSNames)
	for _, ip := range leaf.IPAddresses {
		names = append(names, ip.String())
	}
	const most = 4
	switch {
	case len(names) == 0 && leaf.Subject.CommonName != "":
		return "no host at all (its common name " + leaf.Subject.CommonName + " does not count)"
	case len(names) == 0:
		return "no host at all"
	case len(names) > most:
		return fmt.Sprintf("%s and %d more", strings.Join(names[:most], ", "), len(names)-most)
	}
	return strings.Join(names, ", ")
}
