package weigh

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"math/big"
	"net"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// issued is a certificate and its key.
type issued struct {
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

const day = 24 * time.Hour

// issue makes a certificate; with no issuer it signs itself.
func issue(t *testing.T, by *issued, name string, ca bool, edit func(*x509.Certificate)) *issued {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(int64(len(name))), Subject: pkix.Name{CommonName: name},
		NotBefore: began.Add(-30 * day), NotAfter: began.Add(60 * day), IsCA: ca, BasicConstraintsValid: ca}
	if !ca {
		c.DNSNames = []string{name}
	}
	if edit != nil {
		edit(c)
	}
	parent, signer := c, key
	if by != nil {
		parent, signer = by.cert, by.key
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, signer)
	if err != nil {
		t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	return &issued{cert, key}
}

func chainOf(list ...*issued) [][]byte {
	var chain [][]byte
	for _, c := range list {
		chain = append(chain, c.cert.Raw)
	}
	return chain
}

func TestCertificates(t *testing.T) {
	const name = "tidebook.varzea.example"
	root := issue(t, nil, "Varzea Root", true, nil)
	middle := issue(t, root, "Varzea Stations", true, nil)
	leaf := issue(t, middle, name, false, nil)
	alone := issue(t, nil, name, false, nil)
	stranger := issue(t, nil, "Another Root", true, nil)
	strange := issue(t, stranger, name, false, nil)
	oldMiddle := issue(t, root, "Old Stations", true, func(c *x509.Certificate) { c.NotAfter = began.Add(-day) })
	ended := func(c *x509.Certificate) { c.NotAfter = began.Add(-6 * day) }
	for _, c := range []struct {
		what  string
		chain [][]byte
		want  []string
	}{
		{"good", chainOf(leaf, middle), nil},
		{"good, with the root sent too", chainOf(leaf, middle, root), nil},
		{"good, in the wrong order: a doubt", chainOf(leaf, root, middle), nil},
		{"good, and ends soon: a doubt", chainOf(issue(t, middle, name, false,
			func(c *x509.Certificate) { c.NotAfter = began.Add(9 * day) }), middle), nil},
		{"for clients only", chainOf(issue(t, middle, name, false,
			func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth} }), middle),
			[]string{"certs/wrong-purpose proven"}},
		{"signed by itself", chainOf(alone), []string{"certs/self-signed proven"}},
		{"intermediate left out", chainOf(leaf), []string{"certs/missing-intermediate proven"}},
		{"a root that is not trusted, sent", chainOf(strange, stranger), []string{"certs/unknown-issuer proven"}},
		{"expired", chainOf(issue(t, middle, name, false, ended), middle), []string{"certs/expired proven"}},
		{"an expired intermediate", chainOf(issue(t, oldMiddle, name, false, nil), oldMiddle),
			[]string{"certs/expired proven"}},
		{"not valid yet", chainOf(issue(t, middle, name, false,
			func(c *x509.Certificate) { c.NotBefore = began.Add(day) }), middle),
			[]string{"certs/not-yet-valid proven"}},
		{"another name", chainOf(issue(t, middle, "ledger.varzea.example", false, nil), middle),
			[]string{"certs/name-not-covered proven"}},
		{"a common name does not count", chainOf(issue(t, middle, name, false,
			func(c *x509.Certificate) { c.DNSNames = nil }), middle), []string{"certs/name-not-covered proven"}},
		{"a wildcard", chainOf(issue(t, middle, "*.varzea.example", false, nil), middle), nil},
		{"a wildcard stands for one label", chainOf(issue(t, middle, "*.example", false, nil), middle),
			[]string{"certs/name-not-covered proven"}},
		{"two faults of one certificate", chainOf(issue(t, middle, "ledger.varzea.example", false, ended), middle),
			[]string{"certs/expired proven", "certs/name-not-covered proven"}},
	} {
		t.Run(c.what, func(t *testing.T) {
			got := newScene(t, secure).holds("v1", gauge).named(tidebook).
				client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Version: "TLS 1.3",
					Chain: c.chain}), trusting(root.cert.Raw), replied(200)).
				weigh()
			expect(t, got, c.want...)
			state, reached := trail.Clear, trail.Yes
			if c.want != nil {
				state, reached = trail.Fault, trail.No
			}
			if strings.HasSuffix(c.what, "a doubt") {
				state = trail.Doubt
			}
			expectRungs(t, got, map[trail.Rung]trail.State{"certs": state, "answer": "clear"})
			if got.Reached != reached {
				t.Errorf("reached %s, want %s", got.Reached, reached)
			}
		})
	}

	expiredChain := chainOf(issue(t, middle, name, false, ended), middle)
	handshake := shook(fact.Handshake{Ending: fact.Done, Chain: expiredChain})
	t.Run("one clock alone is not enough", func(t *testing.T) {
		got := newScene(
			t,
			"tls://tidebook.varzea.example:8443",
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, handshake, trusting(root.cert.Raw)).
			weigh()
		expect(t, got, "certs/expired likely")
	})
	t.Run("two clocks that differ", func(t *testing.T) {
		early := answered(fact.Reply{Ending: fact.Done, Protocol: "http", Status: 200, Date: began.Add(-20 * day)})
		got := newScene(
			t,
			secure,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, handshake, trusting(root.cert.Raw), early).
			weigh()
		expect(t, got, "certs/clock-wrong likely")
	})
	t.Run("trust that was not read proves nothing", func(t *testing.T) {
		got := newScene(
			t,
			secure,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Chain: chainOf(alone)}), replied(200)).
			weigh()
		expect(t, got)
		expectRungs(t, got, map[trail.Rung]trail.State{"certs": "unseen"})
	})
	t.Run("an address is covered only as an address", func(t *testing.T) {
		byAddress := func(c *x509.Certificate) { c.IPAddresses = []net.IP{net.ParseIP(tidebook)} }
		for edit, want := range map[bool][]string{true: nil, false: {"certs/name-not-covered proven"}} {
			change := byAddress
			if !edit {
				change = nil
			}
			chain := chainOf(issue(t, middle, tidebook, false, change), middle)
			got := newScene(
				t,
				"https://"+tidebook+"/",
			).holds("v1", gauge).
				client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Chain: chain}),
					trusting(root.cert.Raw), replied(200)).
				weigh()
			expect(t, got, want...)
		}
	})
	t.Run("a card's aliases must be covered too", func(t *testing.T) {
		s := newScene(
			t,
			secure,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Chain: chainOf(leaf, middle)}),
				trusting(root.cert.Raw), replied(200))
		s.set.Ask.Card = &fact.Card{Name: "tidebook", Aliases: []string{"readings.varzea.example"}}
		expect(t, s.weigh(), "certs/name-not-covered proven")
	})
	t.Run("clients of databases do not look", func(t *testing.T) {
		got := newScene(
			t,
			"postgres://tidebook.varzea.example",
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected,
				func(f *fact.Fact) { f.Upgrade = &fact.Upgrade{Ending: fact.Done, Offered: true} },
				shook(
					fact.Handshake{Ending: fact.Done, Chain: chainOf(alone)},
				), trusting(), answered(fact.Reply{Ending: fact.Done, Protocol: "postgres", Refused: true})).
			weigh()
		expect(t, got)
		expectRungs(t, got, map[trail.Rung]trail.State{"certs": "clear", "answer": "clear"})
	})
	t.Run("unless they are told to", func(t *testing.T) {
		got := newScene(
			t,
			"postgres://tidebook.varzea.example/?sslmode=verify-full",
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected,
				func(f *fact.Fact) { f.Upgrade = &fact.Upgrade{Ending: fact.Done, Offered: false} },
				answered(fact.Reply{Ending: fact.Done, Protocol: "postgres", Refused: true})).
			weigh()
		expect(t, got, "certs/server-speaks-plain proven")
	})
}

// TestHostKeys is an SSH server's key against what this user knows.
func TestHostKeys(t *testing.T) {
	for state, want := range map[string][]string{"known": nil, "changed": {"certs/host-key-changed proven"},
		"revoked": {"certs/host-key-changed proven"}, "unknown": nil, "other-type": nil} {
		s := newScene(
			t,
			shell,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, greeted(fact.Done, "ssh", "", ""),
				func(f *fact.Fact) {
					f.HostKey = &fact.HostKey{
						Type:        "ssh-ed25519",
						Fingerprint: "SHA256:x",
						State:       state,
						Known:       []string{"/root/.ssh/known_hosts:4: ssh-ed25519"},
					}
				}, answered(fact.Reply{Ending: fact.Done, Protocol: "ssh"}))
		s.check(state, want...)
		rung := map[bool]trail.State{true: trail.Doubt, false: trail.Clear}[state == "unknown" ||
			state == "other-type"]
		if want != nil {
			rung = trail.Fault
		}
		expectRungs(t, s.weigh(), map[trail.Rung]trail.State{"certs": rung})
	}
}

// TestClientCertificate is a server that wants one and gets none.
func TestClientCertificate(t *testing.T) {
	const name = "tidebook.varzea.example"
	root := issue(t, nil, "Varzea Root", true, nil)
	leaf := issue(t, root, name, false, nil)
	shake := shook(
		fact.Handshake{
			Ending:      fact.Done,
			Version:     "TLS 1.3",
			Chain:       chainOf(leaf, root),
			Wanted:      true,
			Authorities: []string{"CN=Varzea Root"},
		},
	)
	for _, c := range []struct {
		reply step
		want  []string
	}{
		{replied(200), nil},
		{replied(400), []string{"certs/client-cert-wanted likely"}},
		{answered(fact.Reply{Ending: fact.Closed, Protocol: "http"}), []string{"certs/client-cert-wanted proven"}},
	} {
		s := newScene(
			t,
			secure,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, shake, trusting(root.cert.Raw), c.reply)
		s.check("wanted", c.want...)
	}
}

// TestOtherOnTheWay is a client that is shown another certificate than the
// server shows itself.
func TestOtherOnTheWay(t *testing.T) {
	const name = "tidebook.varzea.example"
	root, box := issue(t, nil, "Varzea Root", true, nil), issue(t, nil, "Inspector", true, nil)
	leaf, false_ := issue(t, root, name, false, nil), issue(t, box, name, false, nil)
	s := newScene(t, secure).holds("v1", gauge).holds("v2", tidebook).named(tidebook).
		client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Version: "TLS 1.3",
			Chain: chainOf(false_, box)}), trusting(root.cert.Raw), replied(200))
	s.climb(
		"v2",
		s.target(tidebook),
		connected,
		shook(fact.Handshake{Ending: fact.Done, Version: "TLS 1.3", Chain: chainOf(leaf)}),
		replied(200),
	)
	found := false
	for _, c := range s.weigh().Causes {
		found = found || c.ID == "certs/other-on-the-way" && c.Certainty == trail.Proven && c.Blocking
	}
	if !found {
		t.Errorf("not found: %s", summaries(s.weigh().Causes))
	}
}

// TestNothingInCommon is a server that refuses a handshake, and what it takes.
func TestNothingInCommon(t *testing.T) {
	for _, c := range []struct {
		name  string
		alert int
		list  []fact.Offer
		want  string
		says  string
	}{
		{"a suite of its own", 40, []fact.Offer{{Version: "TLS 1.3", Alert: 70},
			{Version: "TLS 1.2", Cipher: "TLS_RSA_WITH_NULL_SHA256"}}, "certs/no-common-cipher likely",
			"takes TLS 1.2 with TLS_RSA_WITH_NULL_SHA256"},
		{"only the oldest", 70, []fact.Offer{{Version: "TLS 1.0", Alert: 70}, {Version: "SSL 3.0",
			Cipher: "TLS_RSA_WITH_RC4_128_SHA"}}, "certs/no-common-version likely", "only SSL 3.0"},
		{"too weak", 71, nil, "certs/no-common-cipher likely", "alert 71"},
		{"no version", 70, nil, "certs/no-common-version likely", "alert 70"},
	} {
		s := newScene(
			t,
			"https://10.20.0.14",
		).client(tidebook, connected, shook(fact.Handshake{Ending: fact.Malformed, Alert: c.alert, Error: "it fails"}))
		if !s.wants(fact.LookOffers, fact.Client) {
			t.Errorf("%s: nobody asks what it takes", c.name)
		}
		s.add("v1", fact.LookOffers, s.target(tidebook), func(f *fact.Fact) { f.Offers = &fact.Offers{List: c.list} })
		s.check(c.name, c.want)
		if got := s.weigh().Causes[0].Summary; !strings.Contains(got, c.says) {
			t.Errorf("%s: it says %q", c.name, got)
		}
	}
}

// TestTimeServers is a certificate that is out of its time by the client's
// clock, and what the clocks say that the client is set to follow.
func TestTimeServers(t *testing.T) {
	for _, c := range []struct {
		name  string
		ahead []time.Duration
		want  string
	}{
		{"none is set", nil, "certs/expired likely"},
		{"they agree with the client", []time.Duration{time.Millisecond, -time.Second}, "certs/expired proven"},
		{"they say that the client is a year ahead", []time.Duration{-365 * 24 * time.Hour, -365 * 24 * time.Hour},
			"certs/clock-wrong proven"},
		{"they do not agree", []time.Duration{0, -365 * 24 * time.Hour}, "certs/expired likely"},
	} {
		root := issue(t, nil, "Varzea Root", true, nil)
		leaf := issue(t, root, "tidebook", false,
			func(cert *x509.Certificate) { cert.NotAfter = began.Add(-time.Hour) })
		s := newScene(t, "tls://tidebook.varzea.example:4433").named(tidebook).
			client(tidebook, connected, shook(fact.Handshake{Ending: fact.Done, Version: "TLS 1.3",
				Chain: chainOf(leaf)}), trusting(root.cert.Raw))
		s.add("v1", fact.LookClock, fact.Target{}, func(f *fact.Fact) {
			f.Clock = &fact.Clock{}
			for _, d := range c.ahead {
				f.Clock.List = append(
					f.Clock.List,
					fact.ClockSeen{Server: "clock.varzea.example", AheadMS: float64(d.Milliseconds()), WithinMS: 2},
				)
			}
		})
		var have []string
		for _, cause := range s.weigh().Causes {
			if cause.ID == "certs/expired" || cause.ID == "certs/clock-wrong" {
				have = append(have, cause.ID+" "+string(cause.Certainty))
			}
		}
		if len(have) != 1 || have[0] != c.want {
			t.Errorf("%s: %q, want %q", c.name, have, c.want)
		}
	}
}
