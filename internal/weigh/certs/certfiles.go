package certs

import (
	"cmp"
	"crypto/x509"
	"encoding/base64"
	"fmt"
	"maps"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// FileReadings reads the certificates and keys that the service's
// settings name, against what it serves.
func FileReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if t.Server == "" || t.Target.Security == fact.Plain || v.Protocol.HostKeys {
		return nil
	}
	w.Add(
		scene.Want{
			Look:   fact.LookCertFiles,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Port: t.Target.Port},
			Gate:   gate.Session,
		},
	)
	var readings []gate.Reading
	for _, f := range v.Facts(t.Server, fact.LookCertFiles) {
		if f.CertFiles == nil {
			continue
		}
		served := servedLeaf(t.Sessions)
		mine := pairsFor(v, t, f.CertFiles.Pairs)
		for _, p := range f.CertFiles.Pairs {
			ours := slices.ContainsFunc(mine, func(m fact.CertPair) bool { return m.Place == p.Place })
			if r, ok := brokenPair(v, t, f, p, ours, served); ok {
				readings = append(readings, r)
				break
			}
		}
		readings = append(readings, unserved(v, w, t, f, mine)...)
		if r, ok := notReloaded(v, t, f, mine, served); ok {
			readings = append(readings, r)
		}
	}
	return readings
}

// unserved reads the certificate that a service will show, where no session got
// so far: what is wrong with it shows once what is in the way is fixed.
func unserved(v *scene.Scene, w *scene.Wants, t *scene.Try, f *fact.Fact, mine []fact.CertPair) []gate.Reading {
	if servedLeaf(t.Sessions) != nil || t.Symptom == gate.NotTried || !verifies(v, t) {
		return nil
	}
	chosen, lacks := v.Chosen(v.ProgramsAt(t.Server))
	// Whoever holds the port now may have taken it from the one that is set to serve this name.
	usurped := !slices.ContainsFunc(mine, func(p fact.CertPair) bool {
		return chosen != nil && ownSettings(v, chosen.Name, p.Program)
	})
	// What answers TLS at all may have another than one that is not set for this name; and of a
	// pair that is of no use, which of the two is replaced nobody knows.
	forName := usurped || t.Sessions.Handshake != nil && t.Sessions.Handshake.Handshake.Alert != 0
	mine = slices.DeleteFunc(slices.Clone(mine), func(p fact.CertPair) bool {
		return len(p.Chain) == 0 || chosen == nil || p.Wrong != "" || p.Belongs != nil && !*p.Belongs ||
			forName && !slices.Contains(p.Names, t.Target.Name) || !usurped && !ownSettings(v, chosen.Name, p.Program)
	})
	if last := len(mine) - 1; last > 0 &&
		!slices.ContainsFunc(mine, func(p fact.CertPair) bool { return len(p.Names)+len(p.Ports) > 0 }) {
		mine = mine[last:] // settings that are for the whole program: the last one counts
	}
	if chosen == nil || len(mine) == 0 ||
		slices.ContainsFunc(mine, func(p fact.CertPair) bool { return p.Cert != mine[0].Cert }) {
		return nil // which one it will show is not known
	}
	chain := ParseChain(mine[0].Chain)
	if len(chain) == 0 {
		return nil
	}
	leaf := chain[0]
	base := gate.Reading{
		Gate:     gate.Session,
		Strength: gate.Read,
		Reach:    gate.Further,
		Because:  scene.FactIDs(f),
		Vantage:  t.Server,
		Lacks:    lacks,
		Values: v.Place(
			t,
			catalogue.Values{
				"server":  v.Host(t.Server),
				"subject": nameOf(leaf),
				"issuer":  nameOfName(leaf.Issuer),
				"cert":    mine[0].Cert,
				"order":   served(chain),
			},
		),
	}
	var readings []gate.Reading
	shut := func(cause, summary string, short ...gate.Lack) {
		r := base
		r.Cause, r.Summary = cause, fmt.Sprintf("in %s, %s", mine[0].Cert, summary)
		r.Lacks = append(slices.Clone(base.Lacks), short...)
		readings = append(readings, r)
	}
	judgeTime(v, w, t, scene.Climb{}, chain, shut)
	if missing := uncovered(v, t, leaf); missing != "" {
		shut(
			"certs/name-not-covered",
			fmt.Sprintf("the certificate does not cover %s; it names %s", missing, named(leaf)),
		)
	}
	trust := clientRoots(v, w, t, chain)
	switch {
	case trust != nil:
		base.Because = gate.Union(base.Because, scene.FactIDs(trust))
		base.Values["store"], base.Values["root"] = trust.Trust.Source, anchorOf(chain)
		judgeTrust(v, scene.Climb{Trust: trust}, chain, shut)
	case selfSigned(leaf):
		shut("certs/self-signed", fmt.Sprintf("the certificate %s is signed by itself", nameOf(leaf)),
			gate.Lack{Guard: gate.AllRead, Why: "whether the client trusts it was not seen"})
	}
	if r, ok := wantsOne(v, w, t, mine[0].Program, trust, base); ok {
		readings = append(readings, r)
	}
	if r, ok := tooOld(v, w, mine[0], base); ok {
		readings = append(readings, r)
	}
	for _, r := range strengthReadings(v, w, t, chain, base) {
		r.Summary = fmt.Sprintf("in %s, %s", mine[0].Cert, r.Summary)
		r.Lacks = append(slices.Clone(base.Lacks), r.Lacks...)
		readings = append(readings, r)
	}
	return readings
}

// tooOld reads settings by which a service speaks only versions of TLS that the client's
// library does not.
func tooOld(v *scene.Scene, w *scene.Wants, p fact.CertPair, base gate.Reading) (gate.Reading, bool) {
	policy, newest := policyOf(v, w), ""
	for word := range strings.FieldsSeq(p.Versions) {
		version, known := versionWords[strings.ToLower(strings.TrimPrefix(word, "+"))]
		if !known {
			return gate.Reading{}, false // all but some, or words of another kind
		}
		newest = max(newest, version)
	}
	if newest == "" || policy.l.Min == "" || newest >= policy.l.Min {
		return gate.Reading{}, false
	}
	r := policy.reading(base, "certs/no-common-version", fmt.Sprintf(
		"%s is set to speak %s at most (%s), and %s wants %s", p.Program, newest, p.Versions, policy.who, policy.l.Min,
	))
	r.Lacks = append(slices.Concat(base.Lacks, r.Lacks), settingAlone)
	return r, true
}

// settingAlone keeps from proof what only a settings file says: a file that others include may
// hold for another site of the same program.
var settingAlone = gate.Lack{Guard: gate.AllRead, Why: "it was read from settings alone; for which of the program's " +
	"sites they hold, a session would show"}

// versionWords is how settings name versions of TLS.
var versionWords = map[string]string{
	"sslv2": "SSL 2.0", "sslv3": "SSL 3.0", "tlsv1": "TLS 1.0", "tlsv1.0": "TLS 1.0", "tlsv1.1": "TLS 1.1",
	"tlsv1.2": "TLS 1.2", "tlsv1.3": "TLS 1.3",
}

// wantsOne reads settings by which a client must present a certificate, where this one has
// none to present.
func wantsOne(
	v *scene.Scene, w *scene.Wants, t *scene.Try, program string, trust *fact.Fact, base gate.Reading,
) (gate.Reading, bool) {
	f, store := clientStore(v, w, t)
	if trust == nil || trust.Trust.Presents || store == nil || !store.Demands || store.Program != program {
		return gate.Reading{}, false
	}
	r := base
	r.Lacks = append(slices.Clone(base.Lacks), settingAlone)
	r.Cause, r.Because = "certs/client-cert-wanted", gate.Union(base.Because, scene.FactIDs(f))
	r.Summary = fmt.Sprintf("%s demands a certificate of its clients (%s), and this client has none to present",
		store.Program, store.Place)
	names := []string{}
	for _, root := range ParseChain(store.Roots) {
		names = append(names, nameOf(root))
	}
	r.Values = maps.Clone(base.Values)
	r.Values["authorities"] = cmp.Or(strings.Join(names, ", "), "those in "+store.Path)
	return r, true
}

// clientRoots is the roots of the client that could vouch for a chain which nobody was
// shown yet.
func clientRoots(v *scene.Scene, w *scene.Wants, t *scene.Try, chain []*x509.Certificate) *fact.Fact {
	var names []string
	for _, c := range chain {
		for _, name := range [][]byte{c.RawIssuer, c.RawSubject} {
			if text := base64.StdEncoding.EncodeToString(name); !slices.Contains(names, text) {
				names = append(names, text)
			}
		}
	}
	at := fact.Target{Trust: t.Target.Trust, Issuers: strings.Join(names, ",")}
	w.Add(scene.Want{Look: fact.LookTrust, At: fact.Client, Target: at, Gate: gate.Session})
	for _, f := range v.Facts(v.Client, fact.LookTrust) {
		if f.Trust != nil && f.Order.Target == at {
			return f
		}
	}
	return nil
}

// servedLeaf is the certificate that a climb was shown; nil for none.
func servedLeaf(c scene.Climb) *x509.Certificate {
	if c.Handshake == nil {
		return nil
	}
	if chain := ParseChain(c.Handshake.Handshake.Chain); len(chain) > 0 {
		return chain[0]
	}
	return nil
}

// pairsFor is the certificates that the settings give to this name and port,
// as far as they say.
func pairsFor(v *scene.Scene, t *scene.Try, pairs []fact.CertPair) []fact.CertPair {
	var named, rest []fact.CertPair
	for _, p := range pairs {
		switch {
		case len(p.Ports) > 0 && !slices.Contains(p.Ports, t.Target.Port):
		case slices.Contains(p.Names, t.Target.Name):
			named = append(named, p)
		default:
			rest = append(rest, p)
		}
	}
	if len(named) > 0 {
		return named
	}
	return rest
}

// brokenPair reads files that the service cannot use.
func brokenPair(
	v *scene.Scene,
	t *scene.Try,
	f *fact.Fact,
	p fact.CertPair,
	ours bool,
	served *x509.Certificate,
) (gate.Reading, bool) {
	r := gate.Reading{Gate: gate.Session, Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
		Values: v.Place(
			t,
			catalogue.Values{
				"cert":    p.Cert,
				"key":     p.Key,
				"place":   p.Place,
				"program": p.Program,
				"server":  v.Host(t.Server),
			},
		)}
	switch {
	case p.Belongs != nil && !*p.Belongs:
		r.Cause = "certs/key-mismatch"
		r.Summary = fmt.Sprintf("the key %s does not belong to the certificate %s (%s)", p.Key, p.Cert, p.Place)
	case p.Wrong != "":
		r.Cause = "certs/store-unreadable"
		r.Summary = fmt.Sprintf("%s cannot use its certificate (%s): %s", p.Program, p.Place, p.Wrong)
		r.Values["trouble"] = p.Wrong
	default:
		return gate.Reading{}, false
	}
	chosen, short := v.Chosen(v.ProgramsAt(t.Server))
	r.Lacks = slices.Clone(short)
	if u := scene.MainUnit(chosen); u != nil {
		r.Values["unit"] = u.Name
	}
	runs := len(v.Ours(t, v.Taking(t))) > 0 || t.Climb.Past(gate.Listener)
	switch {
	case served != nil:
		r.Harmless, r.Reach = true, gate.Unchecked
		r.Summary += "; it serves what it loaded before, and will not after a restart"
	case runs && !ours:
		return gate.Reading{}, false
	case runs:
		r.Shows = []gate.Symptom{
			gate.SessionFailed,
			gate.ClientFirstClosed,
			gate.ServerFirstClosed,
			gate.ClientFirstSilent,
			gate.OtherProtocol,
		}
	case chosen == nil || !ownSettings(v, chosen.Name, p.Program) || !startsOnlyWith(v, chosen.Name):
		return gate.Reading{}, false
	default:
		r.Gate = gate.Listener
		if !v.Confirmed(t) {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
		}
	}
	return r, true
}

// ownSettings reports whether settings of a program are those of a process.
func ownSettings(v *scene.Scene, process, settings string) bool {
	p, ok := v.Programs.Of(process)
	return process == settings || ok && p.Runs(settings)
}

// startsOnlyWith reports whether a program does not start while a certificate of its
// settings is of no use.
func startsOnlyWith(v *scene.Scene, process string) bool {
	p, ok := v.Programs.Of(process)
	return ok && p.Settings.Strict
}

// notReloaded reads a service that serves another certificate than lies in the
// file that it is set to.
func notReloaded(
	v *scene.Scene,
	t *scene.Try,
	f *fact.Fact,
	pairs []fact.CertPair,
	served *x509.Certificate,
) (gate.Reading, bool) {
	if served == nil || len(pairs) != 1 || len(pairs[0].Chain) == 0 || t.Server == "" {
		return gate.Reading{}, false
	}
	p := pairs[0]
	onDisk, err := x509.ParseCertificate(p.Chain[0])
	if err != nil || onDisk.Equal(served) {
		return gate.Reading{}, false
	}
	// Only a file that changed after the service read its settings can be
	// newer than what it serves; else another setting, or a front, answers.
	if v.ReadBy(t, p.Changed) == "" || p.Changed.IsZero() {
		return gate.Reading{}, false
	}
	better := !v.Ask.Began.After(onDisk.NotAfter) && !v.Ask.Began.Before(onDisk.NotBefore) &&
		Covers(onDisk, t.Target.Name)
	worse := v.Ask.Began.After(served.NotAfter) || !Covers(served, t.Target.Name)
	r := gate.Reading{
		Gate:     gate.Session,
		Cause:    "certs/not-reloaded",
		Strength: gate.Read,
		Reach:    gate.Unchecked,
		Because:  scene.FactIDs(t.Sessions.Handshake, f),
		Vantage:  t.Server,
		Harmless: !better || !worse || !verifies(v, t),
		Summary: fmt.Sprintf(
			"%s serves a certificate until %s, and the file it is set to, %s, has held another, until %s, for %s",
			p.Program,
			served.NotAfter.UTC().
				Format("2006-01-02"),
			p.Cert,
			onDisk.NotAfter.UTC().Format("2006-01-02"),
			foreign.Span(v.Ask.Began.Sub(p.Changed)),
		),
		Values: v.Place(t, catalogue.Values{"cert": p.Cert, "program": p.Program, "server": v.Host(t.Server)}),
	}
	if u := scene.MainUnit(firstProgram(v, t)); u != nil {
		r.Values["unit"] = strings.TrimSuffix(u.Name, ".socket")
	}
	return r, true
}

func firstProgram(v *scene.Scene, t *scene.Try) *fact.Program {
	p, _ := v.Chosen(v.ProgramsAt(t.Server))
	return p
}
