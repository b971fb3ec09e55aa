package weigh

import (
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestPolicy is a session that this program can make, or cannot, by what the
// client's own library speaks.
func TestPolicy(t *testing.T) {
	root := issue(t, nil, "Varzea Root", true, nil)
	leaf := issue(t, root, "tidebook.varzea.example", false, nil)
	const gcm, cbc = 0xc02b, 0xc009
	openssl := fact.Library{Name: "OpenSSL 3", Sure: true, Min: "TLS 1.2", Level: 2, Suites: []uint16{gcm}}
	with := func(edit func(*fact.Library)) *fact.Library {
		l := openssl
		edit(&l)
		return &l
	}
	came := func(version string, suite uint16) fact.Handshake {
		return fact.Handshake{Ending: fact.Done, Version: version, Suite: suite, Chain: chainOf(leaf)}
	}
	failed := fact.Handshake{Ending: fact.Malformed, Alert: 40, Error: "it fails"}
	takes := func(own string, wide ...string) []fact.Offer {
		var list []fact.Offer
		for _, v := range wide {
			list = append(list, fact.Offer{Version: v, Cipher: "TLS_X"})
		}
		if own != "" {
			list = append(list, fact.Offer{Version: own, Cipher: "TLS_Y", Own: true})
		}
		return list
	}
	for name, c := range map[string]struct {
		library *fact.Library
		h       fact.Handshake
		offers  []fact.Offer
		card    *fact.Card
		want    string
		doubt   bool
	}{
		"well": {&openssl, came("TLS 1.3", 0x1301), nil, nil, "", false},
		"older than it speaks": {with(func(l *fact.Library) { l.Min = "TLS 1.3" }), came("TLS 1.2", gcm),
			nil, nil, "certs/no-common-version proven", false},
		"of another program, perhaps": {with(func(l *fact.Library) { l.Min, l.Sure = "TLS 1.3", false }),
			came("TLS 1.2", gcm), nil, nil, "certs/no-common-version likely", false},
		"not all of it was read": {with(func(l *fact.Library) { l.Min, l.Unread = "TLS 1.3", "x" }),
			came("TLS 1.2", gcm), nil, nil, "certs/no-common-version likely", false},
		"nothing was read, and old": {nil, came("TLS 1.1", cbc), nil, nil, "certs/no-common-version likely",
			false},
		"it lets old ones in": {with(func(l *fact.Library) { l.Min, l.Suites = "TLS 1.0", []uint16{cbc} }),
			came("TLS 1.1", cbc), nil, nil, "", false},
		"newer than it speaks": {with(func(l *fact.Library) { l.Max = "TLS 1.2" }), came("TLS 1.3", 0x1301),
			takes("", "TLS 1.3"), nil, "certs/no-common-version proven", false},
		"newer, and older too": {with(func(l *fact.Library) { l.Max = "TLS 1.2" }), came("TLS 1.3", 0x1301),
			takes("TLS 1.2", "TLS 1.3", "TLS 1.2"), nil, "", false},
		"a suite that it does not have": {&openssl, came("TLS 1.2", cbc), takes("", "TLS 1.2"), nil,
			"certs/no-common-cipher proven", false},
		"that one, and others": {&openssl, came("TLS 1.2", cbc), takes("TLS 1.2", "TLS 1.2"), nil, "",
			false},
		"nobody asked what it takes": {&openssl, came("TLS 1.2", cbc), nil, nil, "", false},
		"the card says versions": {&openssl, came("TLS 1.2", gcm), nil,
			&fact.Card{ClientTLS: []string{"TLS 1.3"}}, "certs/no-common-version proven", false},
		"refused, and it would not be": {&openssl, failed, takes("TLS 1.2", "TLS 1.2"), nil,
			"certs/no-common-cipher proven", true},
		"refused, as it would be": {&openssl, failed, takes("", "TLS 1.2"), nil,
			"certs/no-common-cipher proven", false},
		"refused, and not all is known": {with(func(l *fact.Library) { l.Name, l.Suites = "Go", nil }), failed,
			takes("", "TLS 1.2"), nil, "certs/no-common-cipher likely", false},
		"the key is short for its level": {with(func(l *fact.Library) { l.Level = 4 }), came("TLS 1.3", 0x1301), nil,
			nil, "certs/weak proven", false},
	} {
		s := newScene(
			t,
			secure,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, shook(c.h), trusting(root.cert.Raw), replied(200))
		if c.h.Alert != 0 {
			s = newScene(t, secure).holds("v1", gauge).named(tidebook).client(tidebook, connected, shook(c.h))
		}
		s.set.Ask.Card = c.card
		if c.library != nil {
			s.add("v1", fact.LookLibrary, fact.Target{}, func(f *fact.Fact) { f.Library = c.library })
		}
		if c.offers != nil {
			s.add("v1", fact.LookOffers, s.target(tidebook),
				func(f *fact.Fact) { f.Offers = &fact.Offers{List: c.offers} })
		}
		got := ""
		for _, cause := range s.weigh().Causes {
			if strings.HasPrefix(cause.ID, "certs/") && cause.Blocking == !c.doubt {
				got = strings.TrimSpace(got + " " + cause.ID + " " + string(cause.Certainty))
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// TestBesideStore is a store that a card names, and the system's beside it.
func TestBesideStore(t *testing.T) {
	root, other := issue(t, nil, "Varzea Root", true, nil), issue(t, nil, "Another Root", true, nil)
	leaf := issue(t, root, "tidebook.varzea.example", false, nil)
	s := newScene(t, secure).holds("v1", gauge).named(tidebook).client(tidebook, connected,
		shook(fact.Handshake{Ending: fact.Done, Version: "TLS 1.3", Chain: chainOf(leaf, root)}),
		trusting(other.cert.Raw),
		func(f *fact.Fact) {
			f.Trust = &fact.Trust{Source: "/etc/ssl/roots", Count: 9, Roots: [][]byte{root.cert.Raw}, Beside: true}
		}, replied(200))
	causes := s.weigh().Causes
	if len(causes) != 1 || causes[0].ID != "certs/unknown-issuer" ||
		!strings.Contains(causes[0].Summary, "programs that go by /etc/ssl/roots take it") {
		t.Errorf("%s", summaries(causes))
	}
}
