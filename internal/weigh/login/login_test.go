package login

import (
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// TestLoginCodes is what the word of each protocol means, and how sure that
// is from the word alone.
func TestLoginCodes(t *testing.T) {
	for _, c := range []struct{ wire, code, text, want string }{
		{"postgres", "28P01", "password authentication failed", "login/rejected likely"},
		{"postgres", "28000", "no pg_hba.conf entry for host", "login/not-from-here proven"},
		{"postgres", "28000", `role "svc-tide" is not permitted to log in`, "login/disabled proven"},
		{"postgres", "3D000", "database does not exist", "login/no-such-resource proven"},
		{"postgres", "53300", "too many connections for role", "login/too-many-sessions proven"},
		{"postgres", "XX000", "something else", "login/rejected likely"},
		{"ldap", "49", "data 775, v1", "login/locked proven"},
		{"ldap", "49", "data 532, v1", "login/secret-expired proven"},
		{"ldap", "49", "", "login/rejected likely"},
		{"ldap", "8", "", "login/mechanism-off proven"},
		{"http", "401", "", "login/rejected likely"},
		{"http", "403", "", "login/no-right likely"},
		{"redis", "WRONGPASS", "invalid", "login/rejected likely"},
		{"redis", "ERR", "AUTH called without any password configured", "login/mechanism-off proven"},
		{"smtp", "535 5.7.8", "no", "login/rejected likely"},
		{"smtp", "534 5.7.9", "too weak", "login/mechanism-off proven"},
		{"imap", "EXPIRED", "", "login/secret-expired proven"},
		{"imap", "UNAVAILABLE", "", "login/directory-down proven"},
		{"imap", "SOMETHING", "", "login/rejected likely"},
	} {
		cause, strength := "login/rejected", gate.Vague
		for _, known := range protocol.Of(c.wire).Codes {
			if codeIs(known.Code, c.code) && strings.Contains(c.text, known.Text) {
				cause, strength = known.Cause, strengths[known.Sure]
				break
			}
		}
		if got := cause + " " + string(gate.Reading{Strength: strength}.Certainty()); got != c.want {
			t.Errorf("%s %s %q: %s, want %s", c.wire, c.code, c.text, got, c.want)
		}
	}
}

var began = time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)

// TestLinesOfTry sees that only lines of this try count: written since it
// began, and naming its account or following one that does.
func TestLinesOfTry(t *testing.T) {
	const login = "Failed password for svc-tide from 10.20.7.31"
	line := func(after time.Duration, text string) fact.LogLine {
		return fact.LogLine{At: began.Add(after), Text: text}
	}
	for _, c := range []struct {
		name  string
		lines []fact.LogLine
		want  int
	}{
		{"its own", []fact.LogLine{line(0, login)}, 1},
		{"an hour ago", []fact.LogLine{line(-time.Hour, login)}, 0},
		{"another account", []fact.LogLine{line(0, "Failed password for svc-other")}, 0},
		{"what follows it", []fact.LogLine{line(0, "Connection of svc-tide"), line(0, "because of that")}, 2},
		{"what went before it", []fact.LogLine{line(0, "about somebody"), line(0, login)}, 1},
		{"long after it", []fact.LogLine{line(0, login), line(0, "a"), line(0, "b"), line(0, "c"), line(0, "d")}, 3},
		{"without a time", []fact.LogLine{{Text: login}}, 0},
	} {
		tried := &fact.Fact{At: began, Login: &fact.Login{Account: "svc-tide"}}
		service := &fact.Fact{Service: &fact.Service{Programs: []fact.Program{{Units: []fact.Unit{{Log: c.lines}}}}}}
		v := &scene.Scene{}
		if got := linesOfTry(v, &scene.Try{}, service, tried); len(got) != c.want {
			t.Errorf("%s: %q, want %d lines", c.name, got, c.want)
		}
	}
}
