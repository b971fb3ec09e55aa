package weigh

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestKeysThatOthersRead is a program that does not run, and whose keys others may read: it
// would not start. With one key of its own it would.
func TestKeysThatOthersRead(t *testing.T) {
	for _, c := range []struct {
		second bool // the second key is open, too
		want   string
	}{{true, "service/settings-rejected proven"}, {false, "service/stopped proven"}} {
		s := newScene(t, "ssh://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).named(tidebook).
			client(tidebook, reset).listening().
			programs("systemd", fact.Program{
				Name: "sshd", Path: "/usr/sbin/sshd", Why: "settings", Settings: "/etc/ssh/sshd_config",
				Ports: []uint16{22},
				Units: []fact.Unit{{Name: "ssh.service", Load: "loaded", Active: "inactive", Sub: "dead",
					Enabled: "enabled"}},
				Private: []fact.PrivateFile{{Path: "/etc/ssh/ssh_host_rsa_key", Mode: "0644", Open: true},
					{Path: "/etc/ssh/ssh_host_ed25519_key", Mode: "0600", Open: c.second}},
			})
		got := s.weigh()
		if c.second {
			for i := range s.set.Facts {
				if p := s.set.Facts[i].Service; p != nil {
					p.Programs[0].Units = nil
				}
			}
			got = s.weigh()
		}
		expect(t, got, c.want)
		if c.second && (len(got.Causes[0].Remedies) == 0 ||
			got.Causes[0].Remedies[0].Command != "chmod 600 /etc/ssh/ssh_host_rsa_key") {
			t.Errorf("%+v", got.Causes[0].Remedies)
		}
	}
}

// TestOpenedSince is a server that was looked at before all ports of its card were open, and
// a client that finds them open now: it was starting then, and is not hung.
func TestOpenedSince(t *testing.T) {
	s := carded(t, fact.Card{Ports: []uint16{80, 8090, 8091}}, connected, answered(fact.Reply{Ending: fact.Stalled,
		TookMS: 9000}))
	s.programs("systemd", fact.Program{Name: "nginx", Path: "/usr/sbin/nginx", Why: "card",
		Processes: []fact.Process{{PID: 4121, State: "S", Since: began.Add(-time.Minute)}}})
	other := fact.Target{Name: s.ask.Endpoint.Host, Addr: s.target(tidebook).Addr, Port: 8091, Scheme: "tcp",
		Security: fact.Plain}
	s.climb("v1", other, connected)
	s.set.Facts[len(s.set.Facts)-1].At = began.Add(20 * time.Second)
	got := s.weigh()
	for _, c := range got.Causes {
		if c.ID == "service/hung" {
			t.Errorf("%s: %s", c.ID, c.Summary)
		}
	}
	if !strings.Contains(dump(got), "service/starting") {
		t.Error(dump(got))
	}
}

// TestReasonOfCard is a session that does not come up, and a line of the server's log to
// which the card gives a meaning.
func TestReasonOfCard(t *testing.T) {
	for line, want := range map[string][]string{
		"SEVERE ledger of keys: unexpected end": {"certs/store-unreadable likely"}, "INFO started": nil,
	} {
		s := newScene(t, "https://tidebook.varzea.example/").holds("v1", gauge).holds("v2", tidebook).named(tidebook).
			client(tidebook, connected, shook(fact.Handshake{Ending: fact.ResetMid})).
			listening(listener("0.0.0.0", 443, "consoled"))
		s.set.Ask.Card = &fact.Card{Name: "console", Reasons: []fact.Reason{
			{Log: "ledger of keys: unexpected end", Cause: "certs/store-unreadable",
				Says: "the key store is cut short"}}}
		s.programs("systemd", fact.Program{Name: "consoled", Path: "/opt/consoled", Why: "card",
			Processes: []fact.Process{{PID: 4121, State: "S"}},
			Logs:      []fact.LogFile{{Path: "/var/log/console.log", Lines: []string{line}}}})
		var have []string
		for _, c := range s.weigh().Blocking() {
			if strings.HasPrefix(c.ID, "certs/") {
				have = append(have, c.ID+" "+string(c.Certainty))
			}
		}
		if fmt.Sprint(have) != fmt.Sprint(want) {
			t.Errorf("%q: %v, want %v: %s", line, have, want, dump(s.weigh()))
		}
	}
}

// TestSaysOfClient compares the message of a client with what a try came to.
func TestSaysOfClient(t *testing.T) {
	blocked := trail.Trail{Outcome: trail.OutcomeFault, Causes: []trail.Cause{{
		ID: "ports/none-listening", Blocking: true, Certainty: trail.Proven}}}
	for _, c := range []struct {
		text string
		t    trail.Trail
		fits string
	}{
		{"", blocked, ""},
		{"Connection refused", blocked, trail.FitsSame},
		{"certificate has expired", blocked, trail.FitsOther},
		{"Connection refused", trail.Trail{Outcome: trail.OutcomeClear}, trail.FitsWorks},
		{"the tide is out", blocked, trail.FitsUnknown},
	} {
		got := saysOf(c.text, c.t)
		if (got == nil) != (c.fits == "") || got != nil && got.Fits != c.fits {
			t.Errorf("%q: %+v, want %s", c.text, got, c.fits)
		}
	}
}
