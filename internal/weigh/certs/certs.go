package certs

import (
	"cmp"
	"crypto/sha256"
	"crypto/x509"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/plain"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// alerts says which cause a TLS alert of the server points at (RFC 8446
// section 6.2), and how sure that is from the alert alone.
var alerts = map[int]struct {
	cause    string
	strength gate.Strength
	says     string
}{
	40:  {"certs/no-common-cipher", gate.Hinted, "the server finds nothing in common (alert 40, handshake failure)"},
	71:  {"certs/no-common-cipher", gate.Told, "the server finds what the client offers too weak (alert 71)"},
	70:  {"certs/no-common-version", gate.Told, "the server takes none of the client's TLS versions (alert 70)"},
	112: {"certs/wrong-default", gate.Told, "the server has no certificate for this name (alert 112)"},
	116: {"certs/client-cert-wanted", gate.Told, "the server wants a client certificate (alert 116)"},
	42:  {"certs/client-cert-refused", gate.Told, "the server refuses the client's certificate (alert 42)"},
}

// nothingInCommon is the alerts of a server that finds no version or no suite
// among those that a client offers.
var nothingInCommon = map[int]bool{40: true, 70: true, 71: true}

// Readings reads the session gate: does the secure session come up, by
// this client's trust and clock?
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if t.Target.Security != fact.Plain && !v.Protocol.HostKeys {
		w.Add(libraryWant) // beside the handshake, not after it
	}
	var readings []gate.Reading
	if r, ok := securityReading(v, w, t); ok {
		readings = append(readings, r)
	}
	c := t.Sessions
	if r, ok := upgradeReading(v, t, c); ok {
		readings = append(readings, r)
	}
	if r, ok := hostKeyReading(v, t, c); ok {
		readings = append(readings, r)
	}
	refused, about := clientCertReading(v, w, t, c)
	if about {
		readings = append(readings, refused)
	}
	switch {
	case c.Handshake == nil || about && c.Handshake.Handshake.Ending != fact.Done &&
		len(c.Handshake.Handshake.Chain) == 0:
		return readings
	case about && c.Handshake.Handshake.Ending != fact.Done && verifies(v, t):
		return append(readings, chainReadings(v, w, t, c)...)
	case about && c.Handshake.Handshake.Ending != fact.Done:
		return readings
	case c.Handshake.Handshake.Ending != fact.Done:
		return append(readings, alertReadings(v, w, t, c)...)
	case !verifies(v, t):
		h := c.Handshake.Handshake
		base := gate.Reading{
			Gate:    gate.Session,
			Reach:   gate.Unchecked,
			Because: scene.FactIDs(c.Handshake),
			Vantage: c.Handshake.Vantage,
			Values:  v.Place(t, catalogue.Values{"server": v.Answering(t)}),
		}
		if list := versionReadings(v, w, t, c, base); len(list) > 0 {
			return append(readings, list...)
		}
		return append(
			readings,
			gate.Reading{Gate: gate.Session, Because: scene.FactIDs(c.Handshake), Vantage: c.Handshake.Vantage,
				Summary: h.Version + "; clients of " + t.Target.Scheme +
					" do not check the certificate unless told to" + t.Seen()},
		)
	}
	return append(readings, chainReadings(v, w, t, c)...)
}

// verifies reports whether the client checks the certificate it is shown. One
// that was set to plain and must use TLS will.
func verifies(v *scene.Scene, t *scene.Try) bool {
	return v.Ask.Endpoint.Verify || v.Ask.Endpoint.Security == fact.Plain && t.Target.Security == fact.TLS
}

// otherSecurity is what to try when a session fails in a way that the wrong
// kind of security explains.
func otherSecurity(s fact.Security, sym gate.Symptom, c scene.Climb) (fact.Security, bool) {
	switch s {
	case fact.TLS:
		plain := slices.Contains(
			[]gate.Symptom{gate.ClientFirstClosed, gate.ClientFirstSilent, gate.OtherProtocol},
			sym,
		) ||
			sym == gate.SessionFailed && c.Handshake.Handshake.Alert == 0
		return fact.Plain, plain
	case fact.Plain:
		bad := sym == gate.ErrorAnswer && c.Reply.Reply.Status == 400
		return fact.TLS, bad ||
			slices.Contains(
				[]gate.Symptom{
					gate.ClientFirstClosed,
					gate.ClientFirstSilent,
					gate.OtherProtocol,
					gate.ServerFirstSilent,
					gate.ServerFirstClosed,
				},
				sym,
			)
	}
	return s, false
}

// securityReading tries the other kind of security where the first one fails.
func securityReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	other, ok := otherSecurity(t.Target.Security, t.Symptom, t.Climb)
	if !ok || v.Scheme.Wire == "" && t.Target.Security == fact.Plain || v.Protocol.HostKeys {
		return gate.Reading{}, false
	}
	instead := t.Target
	instead.Security = other
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: instead, Gate: gate.Session})
	c, tried := v.ClimbAt(v.Client, instead)
	if !tried || !speaks(c, other) || other == fact.Plain && heardTLS(t.Climb) {
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate: gate.Session, Cause: "certs/server-speaks-plain", Because: append(t.Climb.IDs(), c.IDs()...),
		Vantage: v.Client, Instead: &instead,
		Shows: []gate.Symptom{
			gate.ClientFirstClosed,
			gate.ClientFirstSilent,
			gate.OtherProtocol,
			gate.SessionFailed,
			gate.ErrorAnswer,
			gate.ServerFirstSilent,
			gate.ServerFirstClosed,
		},
		Summary: fmt.Sprintf("the client speaks TLS, and port %d does not encrypt", t.Target.Port),
		Values:  v.Place(t, catalogue.Values{"server": v.Answering(t), "scheme": t.Target.Scheme}),
	}
	if other == fact.Plain && t.Server == "" && v.Scheme.Usual(t.Target.Port) {
		r.Strength = gate.Hinted // another program that took the port looks the same
		r.Lacks = []gate.Lack{
			{
				Guard: gate.SameProcess,
				Why:   "who holds the port was not seen: it may be another program than the endpoint's",
			},
		}
	}
	if other == fact.TLS {
		r.Cause = "certs/server-speaks-tls"
		r.Summary = fmt.Sprintf("the client does not encrypt, and port %d speaks TLS", t.Target.Port)
	}
	// Where the port is one that customarily has the server's kind of
	// security, it is the client's setting that is odd.
	if customary(v, t.Target, other) && !v.Scheme.Usual(t.Target.Port) {
		r.Gate, r.Cause = gate.Intent, "settings/wrong-security"
	}
	if right, ok := schemeWith(v.Scheme, other); ok {
		r.Values["right"] = right.Name + "://" + endpoint.HostPort(t.Target.Name, t.Target.Port)
	}
	return r, true
}

// heardTLS reports whether a session that failed was TLS all the same: it had
// begun.
func heardTLS(c scene.Climb) bool {
	h := c.Handshake
	return h != nil &&
		(h.Handshake.Begun && h.Handshake.Ending == fact.Stalled || h.Handshake.Ending == fact.Done ||
			h.Handshake.Version != "")
}

// speaks reports whether a climb found that the server speaks with a
// security.
func speaks(c scene.Climb, s fact.Security) bool {
	if s == fact.TLS {
		return c.Handshake != nil && c.Handshake.Handshake.Ending == fact.Done
	}
	if c.Reply != nil && (c.Reply.Reply.Status == 400 || c.Reply.Reply.Status == 497) {
		return false // servers answer so on a port that wants TLS
	}
	return c.Expected() ||
		c.Greeting != nil && c.Greeting.Greeting.Ending == fact.Bytes && c.Greeting.Greeting.Protocol != "tls"
}

// schemeWith is the scheme that speaks the same protocol with another security.
func schemeWith(s protocol.Scheme, security fact.Security) (protocol.Scheme, bool) {
	for _, other := range protocol.Schemes {
		if other.Wire == s.Wire && other.Wire != "" && other.Security == security {
			return other, true
		}
	}
	return protocol.Scheme{}, false
}

// customary reports whether a port is usual for the protocol with a security.
func customary(v *scene.Scene, t fact.Target, s fact.Security) bool {
	other, ok := schemeWith(v.Scheme, s)
	return ok && other.Usual(t.Port)
}

// upgradeReading reads a server that does not take an upgrade which the
// client insists on.
func upgradeReading(v *scene.Scene, t *scene.Try, c scene.Climb) (gate.Reading, bool) {
	if c.Upgrade == nil || c.Upgrade.Upgrade.Ending != fact.Done || c.Upgrade.Upgrade.Offered ||
		!v.Ask.Endpoint.Insist {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate: gate.Session, Cause: "certs/server-speaks-plain", Reach: gate.Unchecked,
		Because: scene.FactIDs(c.Upgrade), Vantage: c.Upgrade.Vantage,
		Summary: "the client wants TLS, and the server does not offer it" + t.Seen(),
		Values:  v.Place(t, catalogue.Values{"server": v.Answering(t), "scheme": t.Target.Scheme}),
	}, true
}

// alertReadings reads a handshake that failed with the server's word for it.
func alertReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, c scene.Climb) []gate.Reading {
	h := c.Handshake.Handshake
	if h.Ending == fact.Stalled && h.Begun {
		return []gate.Reading{
			{
				Gate:    gate.Session,
				Cause:   "certs/handshake-stalls",
				Because: scene.FactIDs(c.Handshake),
				Vantage: c.Handshake.Vantage,
				Shows:   []gate.Symptom{gate.ClientFirstSilent, gate.ServerFirstSilent},
				Summary: "the server begins the secure session, and then nothing more comes" + t.Seen(),
				Values:  v.Place(t, catalogue.Values{"server": v.Answering(t)}),
			},
		}
	}
	a, ok := alerts[h.Alert]
	if !ok {
		if h.Error == "" || c.Symptom(nil) != gate.SessionFailed {
			return nil
		}
		a.cause, a.strength, a.says = "certs/handshake-stalls", gate.Told, "the secure session fails: "+h.Error
	}
	r := gate.Reading{
		Gate:     gate.Session,
		Cause:    a.cause,
		Strength: a.strength,
		Because:  scene.FactIDs(c.Handshake),
		Vantage:  c.Handshake.Vantage,
		Summary:  a.says + t.Seen(),
		Values: v.Place(
			t,
			catalogue.Values{
				"server":      v.Answering(t),
				"authorities": cmp.Or(strings.Join(h.Authorities, ", "), "it names none"),
			},
		),
	}
	if nothingInCommon[h.Alert] && !t.OwnTry {
		offered(v, w, t, &r)
	}
	if r.Harmless { // the client's own library comes further than this program
		return []gate.Reading{r, {Gate: gate.Session, Because: r.Because, Vantage: r.Vantage, Summary: r.Summary}}
	}
	if r.Cause != "certs/wrong-default" {
		return []gate.Reading{r}
	}
	if shown, ok := nameless(v, w, t); ok && servedLeaf(shown) != nil {
		r.Strength, r.Because = gate.Read, gate.Union(r.Because, scene.FactIDs(shown.Handshake))
		r.Summary = fmt.Sprintf(
			"the server has no certificate for %s (alert %d); to clients that indicate no name it shows %s",
			t.Target.Name,
			h.Alert,
			nameOf(servedLeaf(shown)),
		) + t.Seen()
	}
	return []gate.Reading{r}
}

// chainReadings judges the certificates that were shown.
func chainReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, c scene.Climb) []gate.Reading {
	chain := ParseChain(c.Handshake.Handshake.Chain)
	if len(chain) == 0 {
		return nil
	}
	leaf := chain[0]
	base := gate.Reading{
		Gate:    gate.Session,
		Reach:   gate.Unchecked,
		Because: scene.FactIDs(c.Handshake),
		Vantage: c.Handshake.Vantage,
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
			gate.Reading{Gate: gate.Session, Because: scene.FactIDs(c.Handshake, c.Trust),
				Vantage: c.Handshake.Vantage,
				Summary: fmt.Sprintf(
					"covers %s, valid for %s more%s",
					t.Target.Name,
					plain.Span(leaf.NotAfter.Sub(v.Ask.Began)),
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
					plain.Span(now.Sub(cert.NotAfter)),
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
					plain.Span(cert.NotBefore.Sub(now)),
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
