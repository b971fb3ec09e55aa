package weigh

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
	"uakari/internal/trail"
)

// certReadings reads the session gate: does the secure session come up, by
// this client's trust and clock?
func (v *view) certReadings(w *wants, t *try) []Reading {
	if t.target.Security != fact.Plain && v.scheme.Wire != "ssh" {
		w.add(libraryWant) // beside the handshake, not after it
	}
	var readings []Reading
	if r, ok := v.securityReading(w, t); ok {
		readings = append(readings, r)
	}
	c := t.sessions
	if r, ok := v.upgradeReading(t, c); ok {
		readings = append(readings, r)
	}
	if r, ok := v.hostKeyReading(t, c); ok {
		readings = append(readings, r)
	}
	refused, about := v.clientCertReading(w, t, c)
	if about {
		readings = append(readings, refused)
	}
	switch {
	case c.handshake == nil || about && c.handshake.Handshake.Ending != fact.Done && len(c.handshake.Handshake.Chain) == 0:
		return readings
	case about && c.handshake.Handshake.Ending != fact.Done && v.verifies(t):
		return append(readings, v.chainReadings(w, t, c)...)
	case about && c.handshake.Handshake.Ending != fact.Done:
		return readings
	case c.handshake.Handshake.Ending != fact.Done:
		return append(readings, v.alertReadings(w, t, c)...)
	case !v.verifies(t):
		h := c.handshake.Handshake
		base := Reading{Gate: Session, Apart: true, Because: factIDs(c.handshake), Vantage: c.handshake.Vantage, Values: v.place(t, values{"server": v.answering(t)})}
		if list := v.versionReadings(w, t, c, base); len(list) > 0 {
			return append(readings, list...)
		}
		return append(readings, Reading{Gate: Session, Because: factIDs(c.handshake), Vantage: c.handshake.Vantage,
			Summary: h.Version + "; clients of " + t.target.Scheme + " do not check the certificate unless told to" + t.seen()})
	}
	return append(readings, v.chainReadings(w, t, c)...)
}

// verifies reports whether the client checks the certificate it is shown. One
// that was set to plain and must use TLS will.
func (v *view) verifies(t *try) bool {
	return v.ask.Endpoint.Verify || v.ask.Endpoint.Security == fact.Plain && t.target.Security == fact.TLS
}

// otherSecurity is what to try when a session fails in a way that the wrong
// kind of security explains.
func otherSecurity(s fact.Security, sym Symptom, c climb) (fact.Security, bool) {
	switch s {
	case fact.TLS:
		plain := slices.Contains([]Symptom{ClientFirstClosed, ClientFirstSilent, OtherProtocol}, sym) ||
			sym == SessionFailed && c.handshake.Handshake.Alert == 0
		return fact.Plain, plain
	case fact.Plain:
		bad := sym == ErrorAnswer && c.reply.Reply.Status == 400
		return fact.TLS, bad || slices.Contains([]Symptom{ClientFirstClosed, ClientFirstSilent, OtherProtocol, ServerFirstSilent, ServerFirstClosed}, sym)
	}
	return s, false
}

// securityReading tries the other kind of security where the first one fails.
func (v *view) securityReading(w *wants, t *try) (Reading, bool) {
	other, ok := otherSecurity(t.target.Security, t.symptom, t.climb)
	if !ok || t.target.Scheme == "tcp" || t.target.Scheme == "ssh" {
		return Reading{}, false
	}
	instead := t.target
	instead.Security = other
	w.add(Want{Look: fact.LookSession, At: fact.Client, Target: instead, Gate: Session})
	c, tried := v.climbs[seat{v.client, instead}]
	if !tried || !c.speaks(other) {
		return Reading{}, false
	}
	r := Reading{
		Gate: Session, Cause: "certs/server-speaks-plain", Because: append(t.climb.ids(), c.ids()...), Vantage: v.client, Instead: &instead,
		Shows:   []Symptom{ClientFirstClosed, ClientFirstSilent, OtherProtocol, SessionFailed, ErrorAnswer, ServerFirstSilent, ServerFirstClosed},
		Summary: fmt.Sprintf("the client speaks TLS, and port %d does not encrypt", t.target.Port),
		Values:  v.place(t, values{"server": v.answering(t), "scheme": t.target.Scheme}),
	}
	if other == fact.TLS {
		r.Cause = "certs/server-speaks-tls"
		r.Summary = fmt.Sprintf("the client does not encrypt, and port %d speaks TLS", t.target.Port)
	}
	// Where the port is one that customarily has the server's kind of
	// security, it is the client's setting that is odd.
	if v.customary(t.target, other) && !v.scheme.Usual(t.target.Port) {
		r.Gate, r.Cause = Intent, "settings/wrong-security"
	}
	if right, ok := twin(v.scheme, other); ok {
		r.Values["right"] = right.Name + "://" + endpoint.HostPort(t.target.Name, t.target.Port)
	}
	return r, true
}

// speaks reports whether a climb found that the server speaks with a
// security.
func (c climb) speaks(s fact.Security) bool {
	if s == fact.TLS {
		return c.handshake != nil && c.handshake.Handshake.Ending == fact.Done
	}
	return c.expected() || c.greeting != nil && c.greeting.Greeting.Ending == fact.Bytes && c.greeting.Greeting.Protocol != "tls"
}

// twin is the scheme that speaks the same protocol with another security.
func twin(s endpoint.Scheme, security fact.Security) (endpoint.Scheme, bool) {
	for _, other := range endpoint.Schemes {
		if other.Wire == s.Wire && other.Wire != "" && other.Security == security {
			return other, true
		}
	}
	return endpoint.Scheme{}, false
}

// customary reports whether a port is usual for the protocol with a security.
func (v *view) customary(t fact.Target, s fact.Security) bool {
	other, ok := twin(v.scheme, s)
	return ok && other.Usual(t.Port)
}

// upgradeReading reads a server that does not take an upgrade which the
// client insists on.
func (v *view) upgradeReading(t *try, c climb) (Reading, bool) {
	if c.upgrade == nil || c.upgrade.Upgrade.Ending != fact.Done || c.upgrade.Upgrade.Offered || !v.ask.Endpoint.Verify {
		return Reading{}, false
	}
	return Reading{
		Gate: Session, Cause: "certs/server-speaks-plain", Apart: true, Because: factIDs(c.upgrade), Vantage: c.upgrade.Vantage,
		Summary: "the client wants TLS, and the server does not offer it" + t.seen(),
		Values:  v.place(t, values{"server": v.answering(t), "scheme": t.target.Scheme}),
	}, true
}

// alerts says which cause a TLS alert of the server points at (RFC 8446
// section 6.2), and how sure that is from the alert alone.
var alerts = map[int]struct {
	cause string
	most  trail.Certainty
	says  string
}{
	40:  {"certs/no-common-cipher", trail.Possible, "the server finds nothing in common (alert 40, handshake failure)"},
	71:  {"certs/no-common-cipher", trail.Likely, "the server finds what the client offers too weak (alert 71)"},
	70:  {"certs/no-common-version", trail.Likely, "the server takes none of the client's TLS versions (alert 70)"},
	112: {"certs/wrong-default", trail.Likely, "the server has no certificate for this name (alert 112)"},
	116: {"certs/client-cert-wanted", trail.Likely, "the server wants a client certificate (alert 116)"},
	42:  {"certs/client-cert-refused", trail.Likely, "the server refuses the client's certificate (alert 42)"},
}

// alertReadings reads a handshake that failed with the server's word for it.
func (v *view) alertReadings(w *wants, t *try, c climb) []Reading {
	h := c.handshake.Handshake
	if h.Ending == fact.Stalled && h.Begun {
		return []Reading{{Gate: Session, Cause: "certs/handshake-stalls", Because: factIDs(c.handshake), Vantage: c.handshake.Vantage, Shows: []Symptom{ClientFirstSilent, ServerFirstSilent},
			Summary: "the server begins the secure session, and then nothing more comes" + t.seen(), Values: v.place(t, values{"server": v.answering(t)})}}
	}
	a, ok := alerts[h.Alert]
	if !ok {
		if h.Error == "" || c.symptom(nil) != SessionFailed {
			return nil
		}
		a.cause, a.most, a.says = "certs/handshake-stalls", trail.Likely, "the secure session fails: "+h.Error
	}
	r := Reading{Gate: Session, Cause: a.cause, Most: a.most, Because: factIDs(c.handshake), Vantage: c.handshake.Vantage,
		Summary: a.says + t.seen(), Values: v.place(t, values{"server": v.answering(t), "authorities": orElse(strings.Join(h.Authorities, ", "), "it names none")})}
	if nothingInCommon[h.Alert] && !t.ownTry {
		v.offered(w, t, &r)
	}
	if r.Harmless { // the client's own library comes further than this program
		return []Reading{r, {Gate: Session, Because: r.Because, Vantage: r.Vantage, Summary: r.Summary}}
	}
	if r.Cause != "certs/wrong-default" {
		return []Reading{r}
	}
	if shown, ok := v.nameless(w, t); ok && servedLeaf(shown) != nil {
		r.Most, r.Because = "", union(r.Because, factIDs(shown.handshake))
		r.Summary = fmt.Sprintf("the server has no certificate for %s (alert %d); to clients that indicate no name it shows %s", t.target.Name, h.Alert, nameOf(servedLeaf(shown))) + t.seen()
	}
	return []Reading{r}
}

// nothingInCommon is the alerts of a server that finds no version or no suite
// among those that a client offers.
var nothingInCommon = map[int]bool{40: true, 70: true, 71: true}

// chainReadings judges the certificates that were shown.
func (v *view) chainReadings(w *wants, t *try, c climb) []Reading {
	chain := parseChain(c.handshake.Handshake.Chain)
	if len(chain) == 0 {
		return nil
	}
	leaf := chain[0]
	base := Reading{Gate: Session, Apart: true, Because: factIDs(c.handshake), Vantage: c.handshake.Vantage,
		Values: v.place(t, values{"server": v.answering(t), "subject": nameOf(leaf), "issuer": nameOfName(leaf.Issuer)})}
	base.Values["order"], base.Values["root"], base.Values["store"] = served(chain), anchorOf(chain), "the client's trust store"
	if c.trust != nil {
		base.Values["store"] = c.trust.Trust.Source
	}
	var readings []Reading
	shut := func(cause, summary string, short ...string) {
		r := base
		r.Cause, r.Summary, r.Short = cause, summary+t.seen(), short
		readings = append(readings, r)
	}
	v.judgeTime(w, t, c, chain, func(cause, summary string, short ...string) {
		shut(cause, summary, short...)
		for _, f := range v.facts(v.client, fact.LookClock) {
			if f.Clock != nil && len(f.Clock.List) > 0 {
				readings[len(readings)-1].Because = union(base.Because, factIDs(f))
			}
		}
	})
	if len(v.set.Ask.Endpoint.Host) > 0 {
		if missing := v.uncovered(t, leaf); missing != "" {
			base.Values["name"] = missing
			readings = append(readings, v.uncoveredReading(w, t, leaf, base, missing))
		}
	}
	trusted := v.judgeTrust(c, chain, shut)
	readings = append(readings, v.strengthReadings(w, t, chain, base)...)
	readings = append(readings, v.versionReadings(w, t, c, base)...)
	v.judgeRevoked(c, chain, shut)
	if r, ok := v.otherOnTheWay(w, t, c, chain[0]); ok {
		readings = append(readings, r)
	}
	soft := v.softReadings(t, c, base, chain)
	if len(readings) == 0 && trusted {
		return append(soft, Reading{Gate: Session, Because: factIDs(c.handshake, c.trust), Vantage: c.handshake.Vantage,
			Summary: fmt.Sprintf("covers %s, valid for %s more%s", t.target.Name, span(leaf.NotAfter.Sub(v.ask.Began)), t.seen())})
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
		next := slices.IndexFunc(chain, func(c *x509.Certificate) bool { return c != at && at.CheckSignatureFrom(c) == nil })
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
	last := topOf(chain)
	if !selfSigned(last) {
		return "the root certificate above " + nameOfName(last.Issuer)
	}
	sum := sha256.Sum256(last.Raw)
	return fmt.Sprintf("the root certificate %s (SHA-256 %x)", nameOf(last), sum)
}

func parseChain(der [][]byte) []*x509.Certificate {
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
func (v *view) judgeTime(w *wants, t *try, c climb, chain []*x509.Certificate, shut func(string, string, ...string)) {
	now := v.ask.Began
	for i, cert := range chain {
		which := "the certificate"
		if i > 0 {
			which = "the intermediate certificate " + nameOf(cert)
		}
		switch {
		case now.After(cert.NotAfter):
			cause, short := v.clocks(w, t, c, now, "certs/expired", func(at time.Time) bool { return at.After(cert.NotAfter) })
			shut(cause, fmt.Sprintf("%s expired %s ago, on %s", which, span(now.Sub(cert.NotAfter)), cert.NotAfter.UTC().Format(time.DateOnly)), short...)
		case now.Before(cert.NotBefore):
			cause, short := v.clocks(w, t, c, now, "certs/not-yet-valid", func(at time.Time) bool { return at.Before(cert.NotBefore) })
			shut(cause, fmt.Sprintf("%s is valid only from %s, in %s", which, cert.NotBefore.UTC().Format(time.DateOnly), span(cert.NotBefore.Sub(now))), short...)
		default:
			continue
		}
		return
	}
}

// clocks asks other clocks whether they agree that a certificate is out of its
// time: the server's, and those that the client is set to follow. If they do
// not, a clock is the fault.
func (v *view) clocks(w *wants, t *try, c climb, now time.Time, cause string, out func(time.Time) bool) (string, []string) {
	w.add(Want{Look: fact.LookClock, At: fact.Client, Gate: Session})
	for _, f := range v.facts(v.client, fact.LookClock) {
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
	case c.reply != nil && !c.reply.Reply.Date.IsZero():
		if !out(c.reply.Reply.Date) {
			return "certs/clock-wrong", []string{"two clocks differ, and nothing says which is right"}
		}
		return cause, nil
	case v.onSame(t):
		return cause, nil // the two ends have one clock
	}
	return cause, []string{"only the client's clock was read"}
}

// uncovered is the first name of the endpoint that a certificate leaves out
// (RFC 9525; a common name alone is not enough).
func (v *view) uncovered(t *try, leaf *x509.Certificate) string {
	names := []string{t.target.Name}
	if v.ask.Card != nil {
		names = append(names, v.ask.Card.Aliases...)
	}
	for _, name := range names {
		if !covers(leaf, name) {
			return name
		}
	}
	return ""
}

func covers(leaf *x509.Certificate, name string) bool {
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
