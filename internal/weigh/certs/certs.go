// Package certs judges the rung "certs": certificates, keys and what both sides offer in
// TLS, as presented and as in the server's files; host keys of SSH.
package certs

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
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
	if r, ok := logReading(v, w, t); ok {
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
			Gate:     gate.Session,
			Strength: gate.Read,
			Reach:    gate.Unchecked,
			Because:  scene.FactIDs(c.Handshake),
			Vantage:  c.Handshake.Vantage,
			Values:   v.Place(t, catalogue.Values{"server": v.Answering(t)}),
		}
		if list := versionReadings(v, w, t, c, base); len(list) > 0 {
			return append(readings, list...)
		}
		return append(
			readings,
			gate.Reading{Gate: gate.Session,
				Strength: gate.Read, Because: scene.FactIDs(c.Handshake), Vantage: c.Handshake.Vantage,
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
	if tried && !speaks(c, other) && c.Reply != nil && c.Reply.Reply.Status != 0 {
		return gate.Reading{Gate: gate.Room, Strength: gate.Read, Because: c.IDs(), Vantage: v.Client,
			Summary: fmt.Sprintf("it is not hung: what is short and not encrypted it answers with %d", c.Reply.Reply.Status),
		}, true
	}
	if !tried || !speaks(c, other) || other == fact.Plain && heardTLS(t.Climb) {
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate: gate.Session, Cause: "certs/server-speaks-plain",
		Strength: gate.Read, Because: append(t.Climb.IDs(), c.IDs()...),
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
	if other == fact.Plain {
		if there, by, ok := encrypted(v, w, t); ok {
			r.Instead, r.Because = &there, gate.Union(r.Because, by.IDs())
			r.Summary += fmt.Sprintf("; port %d of the same program does", there.Port)
			r.Values["tls"] = t.Target.Scheme + "://" + endpoint.HostPort(t.Target.Name, there.Port)
			return r, true
		}
		if !c.Symptom(v.Own()).Good() { // to give encryption up would help nobody
			return r, true
		}
	}
	if right, ok := schemeWith(v.Scheme, other); ok {
		r.Values["right"] = right.Name + "://" + endpoint.HostPort(t.Target.Name, t.Target.Port)
	}
	return r, true
}

// held is the listening sockets of a host whose owners any of its looks saw.
func held(v *scene.Scene, at string) []fact.Listener {
	var list []fact.Listener
	for _, f := range v.Facts(at, fact.LookListeners) {
		if f.Listeners == nil {
			continue
		}
		for _, l := range f.Listeners.All {
			same := func(o fact.Listener) bool { return o.Port == l.Port && o.Addr == l.Addr && o.Inode == l.Inode }
			if l.PID != 0 && !slices.ContainsFunc(list, same) {
				list = append(list, l)
			}
		}
	}
	return list
}

// mostEncrypted bounds how many other ports of a program are asked for TLS.
const mostEncrypted = 3

// encrypted finds another port of the program that holds the target's, where the session that
// the client wants comes up, with a certificate that the client takes.
func encrypted(v *scene.Scene, w *scene.Wants, t *scene.Try) (fact.Target, scene.Climb, bool) {
	_, list := v.Listeners(t.Server)
	if t.Server == "" || list == nil {
		return fact.Target{}, scene.Climb{}, false
	}
	w.Add(scene.Want{Look: fact.LookListeners, At: fact.Server, On: t.Server, Gate: gate.Session})
	ours := v.Ours(t, list.On(v.Ask.Endpoint.Transport, t.Target.Port))
	tried := 0
	for _, l := range held(v, t.Server) {
		takes, certain := l.Takes(t.Target.Addr)
		same := slices.ContainsFunc(ours, func(o fact.Listener) bool {
			return l.PID != 0 && o.PID == l.PID || l.Unit != "" && o.Unit == l.Unit
		})
		if l.Port == t.Target.Port || !takes || !certain || !same || tried == mostEncrypted {
			continue
		}
		tried++
		there := t.Target
		there.Port = l.Port
		w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: there, Gate: gate.Session})
		if c, ok := v.ClimbAt(v.Client, there); ok && speaks(c, fact.TLS) && c.Symptom(v.Own()).Good() {
			return there, c, true
		}
	}
	return fact.Target{}, scene.Climb{}, false
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
		Gate: gate.Session, Cause: "certs/server-speaks-plain", Strength: gate.Read, Reach: gate.Unchecked,
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
				Gate:     gate.Session,
				Cause:    "certs/handshake-stalls",
				Strength: gate.Read,
				Because:  scene.FactIDs(c.Handshake),
				Vantage:  c.Handshake.Vantage,
				Shows:    []gate.Symptom{gate.ClientFirstSilent, gate.ServerFirstSilent},
				Summary:  "the server begins the secure session, and then nothing more comes" + t.Seen(),
				Values:   v.Place(t, catalogue.Values{"server": v.Answering(t)}),
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
		return []gate.Reading{r, {Gate: gate.Session,
			Strength: gate.Read, Because: r.Because, Vantage: r.Vantage, Summary: r.Summary}}
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
