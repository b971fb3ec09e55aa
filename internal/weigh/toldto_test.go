package weigh

import (
	"crypto/x509"
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestToldTo is a client whose own programs are sent to another place than the
// endpoint, and what answers where.
func TestToldTo(t *testing.T) {
	well := []step{
		connected,
		greeted(fact.Done, "ssh", "", ""),
		func(f *fact.Fact) { f.HostKey = &fact.HostKey{State: "known", Type: "ssh-ed25519"} },
		answered(fact.Reply{Ending: fact.Done, Protocol: "ssh"}),
	}
	at := func(host string, port uint16) fact.Target {
		return fact.Target{
			Name:     host,
			Addr:     netip.MustParseAddr(host),
			Port:     port,
			Scheme:   "ssh",
			Security: fact.Plain,
			Apart:    true,
		}
	}
	for name, c := range map[string]struct {
		told  fact.Told
		here  []step // what the endpoint says
		there []step // what the other place says; nil: it was not tried
		to    fact.Target
		want  string
		doubt string
	}{
		"nothing else": {fact.Told{By: "ssh"}, well, nil, fact.Target{}, "", ""},
		"another port, shut": {fact.Told{By: "ssh", Port: 2222, PortAt: "x:1"}, well, []step{reset},
			at(tidebook, 2222), "settings/wrong-port likely", ""},
		"another port, open too": {fact.Told{By: "ssh", Port: 2222, PortAt: "x:1"}, well, well, at(tidebook, 2222),
			"", ""},
		"another port, not tried": {fact.Told{By: "ssh", Port: 2222, PortAt: "x:1"}, well, nil, fact.Target{}, "", ""},
		"another host, shut": {fact.Told{By: "ssh", Host: "10.20.0.66", HostAt: "x:2"}, well, []step{silent},
			at("10.20.0.66", 22), "settings/wrong-host likely", ""},
		"a jump host, shut": {fact.Told{By: "ssh", Jump: "10.20.0.9", JumpAt: "x:3"}, well, []step{reset},
			at("10.20.0.9", 22), "settings/proxy-in-the-way proven", ""},
		"a jump host, open": {fact.Told{By: "ssh", Jump: "10.20.0.9", JumpAt: "x:3"}, well, well,
			at("10.20.0.9", 22), "", ""},
		"only by default": {fact.Told{By: "programs", Host: "10.20.0.66", HostAt: "PGHOST", Only: true}, well,
			nil, fact.Target{}, "", "settings/wrong-host"},
	} {
		s := newScene(t, "ssh://"+tidebook).holds("v1", gauge).client(tidebook, c.here...)
		s.set.Vantages = s.set.Vantages[:1]
		s.add(
			"v1",
			fact.LookTold,
			fact.Target{Name: tidebook, Addr: netip.MustParseAddr(tidebook), Port: 22, Scheme: "ssh"},
			func(f *fact.Fact) { f.Told = &c.told },
		)
		if c.there != nil {
			to := c.to
			if to.Addr == netip.MustParseAddr(tidebook) {
				to.Name = tidebook
			}
			s.climb("v1", to, c.there...)
		}
		got, doubt := "", ""
		for _, cause := range s.weigh().Causes {
			if cause.Blocking {
				got = cause.ID + " " + string(cause.Certainty)
			} else {
				doubt = cause.ID
			}
		}
		if got != c.want || doubt != c.doubt {
			t.Errorf("%s: %q, doubt %q; want %q, doubt %q", name, got, doubt, c.want, c.doubt)
		}
	}
}

// TestToldToProven is the proof: the server's own listeners and addresses were
// read, and what the settings name is none of them.
func TestToldToProven(t *testing.T) {
	for name, c := range map[string]struct {
		told fact.Told
		to   string
		port uint16
		want string
	}{
		"a port that nothing holds": {fact.Told{By: "ssh", Port: 2222, PortAt: "x:1"}, tidebook, 2222,
			"settings/wrong-port proven"},
		"a port that something holds": {fact.Told{By: "ssh", Port: 2200, PortAt: "x:1"}, tidebook, 2200,
			"settings/wrong-port likely"},
		"an address of another host": {fact.Told{By: "ssh", Host: "10.20.0.66", HostAt: "x:2"}, "10.20.0.66", 22,
			"settings/wrong-host proven"},
		"an address of the server too": {fact.Told{By: "ssh", Host: "10.20.0.15", HostAt: "x:2"}, "10.20.0.15", 22,
			"settings/wrong-host likely"},
	} {
		s := newScene(t, "ssh://"+tidebook).holds("v1", gauge).holds("v2", tidebook, "10.20.0.15").
			client(tidebook, connected, greeted(fact.Done, "ssh", "", ""),
				func(f *fact.Fact) { f.HostKey = &fact.HostKey{State: "known", Type: "ssh-ed25519"} },
				answered(fact.Reply{Ending: fact.Done, Protocol: "ssh"})).
			listening(listener("0.0.0.0", 22, "sshd"), listener("0.0.0.0", 2200, "sshd"))
		s.add(
			"v1",
			fact.LookTold,
			fact.Target{Name: tidebook, Addr: netip.MustParseAddr(tidebook), Port: 22, Scheme: "ssh"},
			func(f *fact.Fact) { f.Told = &c.told },
		)
		s.climb(
			"v1",
			fact.Target{
				Name:     c.to,
				Addr:     netip.MustParseAddr(c.to),
				Port:     c.port,
				Scheme:   "ssh",
				Security: fact.Plain,
				Apart:    true,
			},
			reset,
		)
		s.check(name, c.want)
	}
}

// TestRights is rights that an accepted account lacks, by its own session.
func TestRights(t *testing.T) {
	for name, c := range map[string]struct {
		lacks fact.LackingRight
		want  string
		says  string
	}{
		"none on the table": {fact.LackingRight{Right: fact.Right{May: "select", On: "readings.levels"},
			Level: "table readings.levels"}, "login/no-right proven", "lacks SELECT on the table readings.levels"},
		"not into its schema": {fact.LackingRight{Right: fact.Right{May: "select", On: "readings.levels"},
			Level: "schema readings"}, "login/no-right proven",
			"lacks USAGE on the schema readings, through which it must go for SELECT"},
		"there is none": {fact.LackingRight{Right: fact.Right{May: "select", On: "readings.snow"},
			Level: "table readings.snow", Absent: true}, "login/no-such-resource proven",
			"there is no table readings.snow"},
		"nobody can tell": {fact.LackingRight{Right: fact.Right{May: "select", On: "readings.levels"},
			Level: "table readings.levels", Unknown: "timeout"}, "", ""},
	} {
		s := keeping(
			t,
			"postgres://tidebook.varzea.example/tides?sslmode=disable",
			nil,
			&fact.Login{Outcome: fact.LoginAccepted, Mechanism: "SCRAM-SHA-256", Lacks: []fact.LackingRight{c.lacks}},
		)
		if c.want == "" {
			s.check(name)
			continue
		}
		s.check(name, c.want)
		if cause := s.weigh().Causes[0]; !strings.Contains(cause.Summary, c.says) ||
			!c.lacks.Absent && !strings.HasPrefix(cause.Remedies[0].Command, "psql -d tides -c 'GRANT ") {
			t.Errorf("%s: %q, %+v", name, cause.Summary, cause.Remedies)
		}
	}
}

// TestSentCertificates is a client that presents a certificate which the server
// does not take, and why, as far as that can be seen.
func TestSentCertificates(t *testing.T) {
	root, stranger := issue(t, nil, "Varzea Root", true, nil), issue(t, nil, "Another Root", true, nil)
	leaf := issue(t, root, "tidebook.varzea.example", false, nil)
	clients := func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }
	good, strange := issue(t, root, "gauge", false, clients), issue(t, stranger, "gauge", false, clients)
	ended := issue(t, root, "gauge", false, func(c *x509.Certificate) { clients(c); c.NotAfter = began.Add(-day) })
	store := &fact.ClientStore{Program: "nginx", Path: "/etc/nginx/clients.pem", Roots: chainOf(root)}
	for name, c := range map[string]struct {
		sent  [][]byte
		alert int
		takes []string
		store *fact.ClientStore
		want  string
		says  string
	}{
		"none, and one is wanted": {nil, 116, []string{"CN=Varzea Root"}, nil, "certs/client-cert-wanted proven",
			"it takes those of CN=Varzea Root"},
		"of another authority": {chainOf(strange), 48, []string{"CN=Varzea Root"}, nil,
			"certs/client-cert-refused proven", `it is of "Another Root"`},
		"its store has another": {chainOf(strange), 48, nil, store, "certs/client-cert-refused proven",
			`lacks "Another Root"`},
		"its store has it": {chainOf(good), 46, nil, store, "certs/client-cert-refused proven",
			"nothing that was seen of it says why"},
		"it ended": {chainOf(ended), 45, nil, store, "certs/client-cert-refused proven",
			"it expired 1 day ago"},
		"an alert of something else": {chainOf(good), 70, nil, nil, "certs/no-common-version likely", ""},
	} {
		s := newScene(t, secure).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, connected,
			shook(
				fact.Handshake{
					Ending:      fact.Closed,
					Alert:       c.alert,
					Wanted:      true,
					Sent:        c.sent,
					Authorities: c.takes,
					Chain:       chainOf(leaf),
				},
			), trusting(root.cert.Raw))
		if c.store != nil {
			s.add(
				"v2",
				fact.LookCertFiles,
				fact.Target{Port: s.set.Ask.Endpoint.Port},
				func(f *fact.Fact) { f.CertFiles = &fact.CertFiles{Stores: []fact.ClientStore{*c.store}} },
			)
		}
		found := trail.Cause{}
		for _, cause := range s.weigh().Causes {
			if cause.ID+" "+string(cause.Certainty) == c.want {
				found = cause
			}
		}
		if found.ID == "" || !strings.Contains(found.Summary, c.says) {
			t.Errorf("%s: %s, want %s with %q", name, summaries(s.weigh().Causes), c.want, c.says)
		}
	}
	// An answer without an alert may have any reason, unless something speaks
	// against the certificate.
	for name, c := range map[string]struct {
		sent  [][]byte
		reply fact.Reply
		want  bool
	}{
		"forbidden, and it is well": {chainOf(good), fact.Reply{Ending: fact.Done, Protocol: "http", Status: 403},
			false},
		"closed, and it is well": {chainOf(good), fact.Reply{Ending: fact.Closed, Protocol: "http"}, false},
		"closed, and it ended":   {chainOf(ended), fact.Reply{Ending: fact.Closed, Protocol: "http"}, true},
		"none, and it wants a login": {nil, fact.Reply{Ending: fact.Done, Protocol: "http", Status: 401, Refused: true,
			Ways: []string{"basic"}}, false},
		"none, and it says why": {nil, fact.Reply{Ending: fact.Done, Protocol: "http", Status: 400,
			Text: "No required SSL certificate was sent"}, true},
	} {
		got := newScene(t, secure).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, connected,
			shook(
				fact.Handshake{Ending: fact.Done, Version: "TLS 1.3", Wanted: true, Sent: c.sent,
					Chain: chainOf(leaf)},
			), trusting(root.cert.Raw), answered(c.reply)).
			weigh()
		if found := strings.Contains(summaries(got.Causes), "certs/client-cert-"); found != c.want {
			t.Errorf("%s: %s", name, summaries(got.Causes))
		}
	}
}
