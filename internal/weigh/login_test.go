package weigh

import (
	"testing"
	"time"

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

// TestModules is what the modules of PAM say of a refusal, in a log that was read after
// the try, or in one that tells of an earlier try alone.
func TestModules(t *testing.T) {
	mailbox := func(again int, lines ...string) *scenario {
		s := newScene(t, "imap://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).named(tidebook).
			client(tidebook, connected, greeted(fact.Done, "imap", "", ""),
				answered(fact.Reply{Ending: fact.Done, Protocol: "imap"})).
			listening(listener("0.0.0.0", 143, "dovecot"))
		s.ask.Account, s.set.Ask.Account = "ana", "ana"
		p := fact.Program{Name: "dovecot", Path: "/usr/sbin/dovecot", Why: "holder",
			Processes: []fact.Process{{PID: 2215, State: "S"}}}
		if again == 0 {
			p.Logs = []fact.LogFile{{Path: "/var/log/mail.log", Lines: lines}}
		}
		s.programs("systemd", p)
		target := s.target(tidebook)
		target.Account = "ana"
		s.add("v1", fact.LookLogin, target, func(f *fact.Fact) {
			f.Login = &fact.Login{Account: "ana", Outcome: fact.LoginRefused, Mechanism: "LOGIN",
				Code: "AUTHENTICATIONFAILED"}
		})
		if again > 0 {
			p.Logs = []fact.LogFile{{Path: "/var/log/mail.log", Lines: lines}}
			s.add("v2", fact.LookService, fact.Target{Port: 143, Scheme: "imap", Again: again}, func(f *fact.Fact) {
				f.Service = &fact.Service{Manager: "systemd", Programs: []fact.Program{p}}
				f.At = began.Add(time.Minute)
			})
		}
		return s
	}
	const (
		vague   = "auth: pam(ana,10.20.7.31): pam_authenticate() failed: Authentication failure (Password mismatch?)"
		ended   = "pam_unix(dovecot:account): account ana has expired (account expired)"
		unknown = "pam_unix(dovecot:auth): check pass; user unknown"
		failure = "pam_unix(dovecot:auth): authentication failure; logname= uid=0 tty=dovecot ruser=ana rhost=10.20.7.31"
		welcome = "imap-login: Login: user=<ana>, method=PLAIN, rip=10.20.7.31"
	)
	mailbox(1, ended).check("the account ended", "login/account-expired proven")
	mailbox(1, unknown, failure, vague).check("there is no such account", "login/unknown-account proven")
	mailbox(1, vague).check("it does not say what it was", "login/wrong-secret likely")
	mailbox(0, ended).check("an earlier try tells", "login/account-expired likely")
	mailbox(0, unknown, failure, vague).check("an earlier try, of nobody", "login/unknown-account likely")
	mailbox(0, vague).check("an earlier try says no more than this one", "login/rejected likely")
	mailbox(0, ended, welcome).check("and was let in since", "login/rejected likely")
}
