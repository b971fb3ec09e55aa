package weigh

import (
	"testing"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// signing is a client that reaches a server and is refused as svc-tide.
func signing(t *testing.T, code, text string) *scenario {
	s := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, connected, replied(401))
	s.ask.Account, s.set.Ask.Account = "svc-tide", "svc-tide"
	target := s.target(tidebook)
	target.Account = "svc-tide"
	return s.add("v1", fact.LookLogin, target, func(f *fact.Fact) {
		f.Login = &fact.Login{
			Account:   "svc-tide",
			Outcome:   fact.LoginRefused,
			Mechanism: "basic",
			Code:      code,
			Text:      text,
			TookMS:    20,
		}
	})
}

// TestLoginScenes is whole scenes: the account gate alone decides.
func TestLoginScenes(t *testing.T) {
	signing(t, "401", "Unauthorized").check("refused", "login/rejected likely")
	signing(t, "403", "Forbidden").check("forbidden", "login/no-right likely")
	for outcome, want := range map[fact.LoginOutcome]trail.State{fact.LoginAccepted: trail.Clear,
		fact.LoginFailed: trail.Unseen, fact.LoginWithheld: trail.Unseen} {
		s := signing(t, "", "")
		s.set.Facts[len(s.set.Facts)-1].Login.Outcome = outcome
		s.check(string(outcome))
		expectRungs(t, s.weigh(), map[trail.Rung]trail.State{trail.Login: want})
	}
}
