package weigh

import (
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestRejectedAtOne has an account that is rejected at one address of a name, while the
// other one answers: that is a "No" for the account, and no bad address.
func TestRejectedAtOne(t *testing.T) {
	const other = "10.20.0.15"
	s := newScene(t, web).holds("v1", gauge).named(tidebook, other)
	s.set.Ask.Account = "gauge"
	s.client(tidebook, connected, replied(401)).client(other, connected, replied(401))
	target := s.target(tidebook)
	target.Account = "gauge"
	s.add("v1", fact.LookLogin, target, func(f *fact.Fact) {
		f.Login = &fact.Login{Account: "gauge", Outcome: fact.LoginRefused, Mechanism: "basic", Code: "401"}
	})
	got := s.weigh()
	expect(t, got, "login/rejected likely")
	expectDoubts(t, got)
	if got.Verdict() != trail.NotAccepted || got.Outcome != trail.OutcomeFault {
		t.Errorf("%s: %s", got.Outcome, got.Headline("gauge-07", "tidebook"))
	}
}

// TestWithheld has an account that was asked for and not presented: never "Yes".
func TestWithheld(t *testing.T) {
	s := newScene(t, web).holds("v1", gauge).named(tidebook)
	s.set.Ask.Account, s.set.Ask.Withhold = "gauge", "it was tried in this run"
	s.client(tidebook, connected, replied(401))
	got := s.weigh()
	if got.Verdict() != trail.PartTried || got.Reached != trail.Unknown || s.wants(fact.LookLogin, fact.Client) {
		t.Errorf("%s %s: %s", got.Outcome, got.Reached, got.Headline("gauge-07", "tidebook"))
	}
}
