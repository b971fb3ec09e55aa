package weigh

import (
	"crypto/x509"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// failsToStart is the programs that do not start at all while any certificate
// of theirs is of no use. The others run on, without TLS.
var failsToStart = []string{"nginx", "apache2", "haproxy", "postgres", "slapd", "redis-server", "mosquitto"}

// certFileReadings reads the certificates and keys that the service's
// settings name, against what it serves.
func (v *view) certFileReadings(w *wants, t *try) []Reading {
	if t.server == "" || t.target.Security == fact.Plain || v.scheme.Wire == "ssh" {
		return nil
	}
	w.add(Want{Look: fact.LookCertFiles, At: fact.Server, On: t.server, Target: fact.Target{Port: t.target.Port}, Gate: Session})
	var readings []Reading
	for _, f := range v.facts(t.server, fact.LookCertFiles) {
		if f.CertFiles == nil {
			continue
		}
		served := servedLeaf(t.sessions)
		mine := v.pairsFor(t, f.CertFiles.Pairs)
		for _, p := range f.CertFiles.Pairs {
			ours := slices.ContainsFunc(mine, func(m fact.CertPair) bool { return m.Place == p.Place })
			if r, ok := v.brokenPair(t, f, p, ours, served); ok {
				readings = append(readings, r)
				break
			}
		}
		if r, ok := v.notReloaded(t, f, mine, served); ok {
			readings = append(readings, r)
		}
	}
	return readings
}

// servedLeaf is the certificate that a climb was shown; nil for none.
func servedLeaf(c climb) *x509.Certificate {
	if c.handshake == nil {
		return nil
	}
	if chain := parseChain(c.handshake.Handshake.Chain); len(chain) > 0 {
		return chain[0]
	}
	return nil
}

// pairsFor is the certificates that the settings give to this name and port,
// as far as they say.
func (v *view) pairsFor(t *try, pairs []fact.CertPair) []fact.CertPair {
	var named, rest []fact.CertPair
	for _, p := range pairs {
		switch {
		case len(p.Ports) > 0 && !slices.Contains(p.Ports, t.target.Port):
		case slices.Contains(p.Names, t.target.Name):
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
func (v *view) brokenPair(t *try, f *fact.Fact, p fact.CertPair, ours bool, served *x509.Certificate) (Reading, bool) {
	r := Reading{Gate: Session, Because: factIDs(f), Vantage: t.server,
		Values: v.place(t, values{"cert": p.Cert, "key": p.Key, "place": p.Place, "program": p.Program, "server": v.host(t.server)})}
	switch {
	case p.Belongs != nil && !*p.Belongs:
		r.Cause = "certs/key-mismatch"
		r.Summary = fmt.Sprintf("the key %s does not belong to the certificate %s (%s)", p.Key, p.Cert, p.Place)
	case p.Wrong != "":
		r.Cause = "certs/store-unreadable"
		r.Summary = fmt.Sprintf("%s cannot use its certificate (%s): %s", p.Program, p.Place, p.Wrong)
		r.Values["trouble"] = p.Wrong
	default:
		return Reading{}, false
	}
	chosen, short := v.chosen(v.programsAt(t.server))
	r.Short = slices.Clone(short)
	if u := mainUnit(chosen); u != nil {
		r.Values["unit"] = u.Name
	}
	runs := len(v.ours(t, v.taking(t))) > 0 || t.climb.past(Listener)
	switch {
	case served != nil:
		r.Harmless, r.Apart = true, true
		r.Summary += "; it serves what it loaded before, and will not after a restart"
	case runs && !ours:
		return Reading{}, false
	case runs:
		r.Shows = []Symptom{SessionFailed, ClientFirstClosed, ServerFirstClosed, ClientFirstSilent, OtherProtocol}
	case chosen == nil || !slices.Contains(failsToStart, p.Program) || !sameProgram(chosen.Name, p.Program):
		return Reading{}, false
	default:
		r.Gate = Listener
		if !v.confirmed(t) {
			r.Short = append(r.Short, notConfirmed)
		}
	}
	return r, true
}

func sameProgram(a, b string) bool {
	return a == b || a == "httpd" && b == "apache2" || a == "mysqld" && b == "mariadbd"
}

// notReloaded reads a service that serves another certificate than lies in the
// file that it is set to.
func (v *view) notReloaded(t *try, f *fact.Fact, pairs []fact.CertPair, served *x509.Certificate) (Reading, bool) {
	if served == nil || len(pairs) != 1 || len(pairs[0].Chain) == 0 || t.server == "" {
		return Reading{}, false
	}
	p := pairs[0]
	onDisk, err := x509.ParseCertificate(p.Chain[0])
	if err != nil || onDisk.Equal(served) {
		return Reading{}, false
	}
	// Only a file that changed after the service read its settings can be
	// newer than what it serves; else another setting, or a front, answers.
	if v.readBy(t, p.Changed) == "" || p.Changed.IsZero() {
		return Reading{}, false
	}
	better := !v.ask.Began.After(onDisk.NotAfter) && !v.ask.Began.Before(onDisk.NotBefore) && covers(onDisk, t.target.Name)
	worse := v.ask.Began.After(served.NotAfter) || !covers(served, t.target.Name)
	r := Reading{Gate: Session, Cause: "certs/not-reloaded", Apart: true, Because: factIDs(t.sessions.handshake, f), Vantage: t.server, Harmless: !better || !worse || !v.verifies(t),
		Summary: fmt.Sprintf("%s serves a certificate until %s, and the file it is set to, %s, has held another, until %s, for %s", p.Program,
			served.NotAfter.UTC().Format("2006-01-02"), p.Cert, onDisk.NotAfter.UTC().Format("2006-01-02"), span(v.ask.Began.Sub(p.Changed))),
		Values: v.place(t, values{"cert": p.Cert, "program": p.Program, "server": v.host(t.server)})}
	if u := mainUnit(firstProgram(v, t)); u != nil {
		r.Values["unit"] = strings.TrimSuffix(u.Name, ".socket")
	}
	return r, true
}

func firstProgram(v *view, t *try) *fact.Program {
	p, _ := v.chosen(v.programsAt(t.server))
	return p
}
