package weigh

import (
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
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
		cause, most := "login/rejected", trail.Likely
		for _, known := range loginCodes[c.wire] {
			if codeIs(known.code, c.code) && strings.Contains(c.text, known.text) {
				cause, most = known.cause, known.most
				break
			}
		}
		if most == "" {
			most = trail.Proven
		}
		if got := cause + " " + string(most); got != c.want {
			t.Errorf("%s %s %q: %s, want %s", c.wire, c.code, c.text, got, c.want)
		}
	}
}

// signing is a client that reaches a server and is refused as svc-tide.
func signing(t *testing.T, code, text string) *scene {
	s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, connected, replied(401))
	s.ask.Account, s.set.Ask.Account = "svc-tide", "svc-tide"
	target := s.target(tidebook)
	target.Account = "svc-tide"
	return s.add("v1", fact.LookLogin, target, func(f *fact.Fact) {
		f.Login = &fact.Login{Account: "svc-tide", Outcome: fact.LoginRefused, Mechanism: "basic", Code: code, Text: text, TookMS: 20}
	})
}

// TestLoginScenes is whole scenes: the account gate alone decides.
func TestLoginScenes(t *testing.T) {
	signing(t, "401", "Unauthorized").check("refused", "login/rejected likely")
	signing(t, "403", "Forbidden").check("forbidden", "login/no-right likely")
	for outcome, want := range map[fact.LoginOutcome]trail.State{fact.LoginAccepted: trail.Clear, fact.LoginFailed: trail.Unseen, fact.LoginWithheld: trail.Unseen} {
		s := signing(t, "", "")
		s.set.Facts[len(s.set.Facts)-1].Login.Outcome = outcome
		s.check(string(outcome))
		expectRungs(t, s.weigh(), map[trail.Rung]trail.State{trail.Login: want})
	}
}

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
		s := newScene(t, web)
		tried := &fact.Fact{At: began, Login: &fact.Login{Account: "svc-tide"}}
		service := &fact.Fact{Service: &fact.Service{Programs: []fact.Program{{Units: []fact.Unit{{Log: c.lines}}}}}}
		v := &view{set: s.set}
		if got := v.linesOfTry(&try{}, service, tried); len(got) != c.want {
			t.Errorf("%s: %q, want %d lines", c.name, got, c.want)
		}
	}
}

// TestExcepted is the list of hosts that a proxy is not used for.
func TestExcepted(t *testing.T) {
	for _, c := range []struct {
		list, host string
		want       bool
	}{
		{"", "tidebook.varzea.example", false}, {"*", "tidebook.varzea.example", true}, {"varzea.example", "tidebook.varzea.example", true},
		{".varzea.example", "tidebook.varzea.example", true}, {"*.varzea.example", "tidebook.varzea.example", true}, {"zea.example", "tidebook.varzea.example", false},
		{"tidebook.varzea.example:443", "tidebook.varzea.example", true}, {"tidebook.varzea.example:80", "tidebook.varzea.example", false},
		{"localhost, VARZEA.example.", "tidebook.varzea.example.", true}, {"10.20.0.0/16", "10.20.0.14", true}, {"10.20.0.14", "10.20.0.14", true}, {"10.20.0.1", "10.20.0.14", false},
		{"[2001:db8::1]", "2001:db8::1", true}, {"varzea.example", "10.20.0.14", false},
	} {
		if got := excepted(c.list, c.host, 443); got != c.want {
			t.Errorf("%q, %s: %v", c.list, c.host, got)
		}
	}
}
