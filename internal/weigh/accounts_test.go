package weigh

import (
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// keeping is a client of a database, with what the database keeps of its
// account and how the one try ended.
func keeping(t *testing.T, input string, a *fact.Accounts, login *fact.Login) *scenario {
	s := newScene(t, input).holds("v1", gauge).holds("v2", tidebook).named(tidebook).
		client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "postgres", Refused: true}))
	s.ask.Account, s.set.Ask.Account = "gauge", "gauge"
	if a != nil {
		s.add(
			"v2",
			fact.LookAccounts,
			fact.Target{Port: s.set.Ask.Endpoint.Port, Account: "gauge"},
			func(f *fact.Fact) { f.Accounts = a },
		)
	}
	if login == nil {
		return s
	}
	target := s.target(tidebook)
	target.Account = "gauge"
	login.Account = "gauge"
	return s.add("v1", fact.LookLogin, target, func(f *fact.Fact) { f.Login = login })
}

// TestKeptAccounts is why a try was refused, by what the database keeps.
func TestKeptAccounts(t *testing.T) {
	const tides = "postgres://tidebook.varzea.example/tides?sslmode=disable"
	refused := func(mechanism string) *fact.Login {
		return &fact.Login{
			Outcome:   fact.LoginRefused,
			Mechanism: mechanism,
			Code:      "28P01",
			Text:      "password authentication failed",
		}
	}
	with := func(edit func(*fact.ServiceAccount)) *fact.Accounts {
		s := fact.ServiceAccount{Name: "gauge", Secret: "scram-sha-256"}
		edit(&s)
		return &fact.Accounts{
			Program:   "postgres",
			List:      []fact.ServiceAccount{s},
			Databases: []fact.Database{{Name: "tides"}},
		}
	}
	well := with(func(*fact.ServiceAccount) {})
	past := began.Add(-time.Hour)
	withheld := &fact.Login{Outcome: fact.LoginWithheld, Text: "no secret was given"}
	for name, c := range map[string]struct {
		accounts *fact.Accounts
		login    *fact.Login
		want     string
	}{
		"nobody was asked": {nil, refused("SCRAM-SHA-256"), "login/rejected likely"},
		"it is well":       {well, refused("SCRAM-SHA-256"), "login/wrong-secret likely"},
		"it is not there": {&fact.Accounts{Of: "gauge"}, refused("SCRAM-SHA-256"),
			"login/unknown-account proven"},
		"another one was asked for": {&fact.Accounts{Of: "heron"}, refused("SCRAM-SHA-256"),
			"login/rejected likely"},
		"there may be changes since": {&fact.Accounts{Else: "changes"}, refused("SCRAM-SHA-256"),
			"login/unknown-account likely"},
		"it may not sign in": {with(func(s *fact.ServiceAccount) { s.NoLogin = true }), refused("md5"),
			"login/disabled proven"},
		"its secret ended": {with(func(s *fact.ServiceAccount) { s.SecretEnds = past }), refused("md5"),
			"login/secret-expired proven"},
		"its secret ends later": {with(func(s *fact.ServiceAccount) { s.SecretEnds = began.Add(time.Hour) }),
			refused("md5"), "login/wrong-secret likely"},
		"it has none": {with(func(s *fact.ServiceAccount) { s.Secret = "none" }), refused("md5"),
			"login/wrong-secret proven"},
		"kept in a way that is not asked": {with(func(s *fact.ServiceAccount) { s.Secret = "md5" }),
			refused("SCRAM-SHA-256"), "login/mechanism-off proven"},
		"kept so, and asked so": {with(func(s *fact.ServiceAccount) { s.Secret = "md5" }), refused("md5"),
			"login/wrong-secret likely"},
		"barred from it": {with(func(s *fact.ServiceAccount) { s.Barred = []string{"tides"} }),
			withheld, "login/no-right proven"},
		"barred from another": {with(func(s *fact.ServiceAccount) { s.Barred = []string{"floods"} }),
			withheld, ""},
		"locked, and not tried": {with(func(s *fact.ServiceAccount) { s.Locked = true }), nil,
			"login/locked proven"},
		"no sessions left": {with(func(s *fact.ServiceAccount) { s.Limit, s.Sessions = 2, 2 }),
			withheld, "login/too-many-sessions proven"},
		"no limit for its administrator": {with(func(s *fact.ServiceAccount) {
			s.Limit, s.Sessions, s.Admin = 2, 2,
				true
		}), withheld, ""},
		"barred, and a wrong secret": {with(func(s *fact.ServiceAccount) { s.Barred = []string{"tides"} }),
			refused("SCRAM-SHA-256"), "login/wrong-secret likely, login/no-right proven"},
		"its secret ended, not asked for": {with(func(s *fact.ServiceAccount) { s.SecretEnds = past }),
			refused("certificate"), "login/rejected likely"},
		"a contradiction": {with(func(s *fact.ServiceAccount) { s.NoLogin = true }),
			&fact.Login{Outcome: fact.LoginAccepted, Mechanism: "md5"}, ""},
		"no database of that name": {&fact.Accounts{List: well.List,
			Databases: []fact.Database{{Name: "floods"}}}, withheld, "login/no-such-resource proven"},
		"a database that is shut": {&fact.Accounts{List: well.List,
			Databases: []fact.Database{{Name: "tides", Closed: true}}}, withheld, "login/closed-for-all proven"},
	} {
		s := keeping(t, tides, c.accounts, c.login)
		if c.want == "" {
			s.check(name)
		} else {
			s.check(name, strings.Split(c.want, ", ")...)
		}
	}
	// One failure before the last: it is not tried.
	s := keeping(
		t,
		"ldap://tidebook.varzea.example",
		with(func(s *fact.ServiceAccount) { s.Deny, s.Failures = 3, 2 }),
		nil,
	)
	if s.wants(fact.LookLogin, fact.Client) {
		t.Error("the last failure is used up")
	}
	expectRungs(t, s.weigh(), map[trail.Rung]trail.State{trail.Login: trail.Unseen})
}
