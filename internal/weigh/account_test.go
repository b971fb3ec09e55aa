package weigh

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/trail"
)

// ssh is a client that reaches a server over SSH, with an account to try and
// what the server says of it.
func sshAs(t *testing.T, account fact.Account, login *fact.Login) *scenario {
	s := newScene(t, "ssh://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).named(tidebook).
		client(tidebook, connected, greeted(fact.Done, "ssh", "", ""),
			func(f *fact.Fact) { f.HostKey = &fact.HostKey{State: "known", Type: "ssh-ed25519"} },
			answered(fact.Reply{Ending: fact.Done, Protocol: "ssh"})).
		listening(listener("0.0.0.0", 22, "sshd"))
	s.ask.Account, s.set.Ask.Account = "gauge", "gauge"
	account.Name = "gauge"
	s.add("v2", fact.LookService, fact.Target{Port: 22, Scheme: "ssh"},
		func(f *fact.Fact) { f.Service = &fact.Service{} })
	s.add(
		"v2",
		fact.LookAccount,
		fact.Target{Account: "gauge", Scheme: "ssh", Port: 22},
		func(f *fact.Fact) { f.Account = &account },
	)
	if login == nil {
		return s
	}
	target := s.target(tidebook)
	target.Account = "gauge"
	login.Account = "gauge"
	return s.add("v1", fact.LookLogin, target, func(f *fact.Fact) { f.Login = login })
}

// TestAccountReasons is why a try was refused, by the state of the account.
func TestAccountReasons(t *testing.T) {
	password := func() *fact.Login {
		return &fact.Login{Outcome: fact.LoginRefused, Mechanism: "password", Offered: []string{"password"}}
	}
	key := func() *fact.Login {
		return &fact.Login{Outcome: fact.LoginRefused, Mechanism: "publickey", Key: "SHA256:mine"}
	}
	known := fact.Account{Known: true, Shadow: true, Shell: "/bin/sh", UID: "1000"}
	with := func(edit func(*fact.Account)) fact.Account {
		a := known
		edit(&a)
		return a
	}
	for name, c := range map[string]struct {
		account fact.Account
		login   *fact.Login
		want    string
	}{
		"nothing is known of why":  {known, password(), "login/rejected likely"},
		"there is no such account": {fact.Account{}, password(), "login/unknown-account proven"},
		"there may be one elsewhere": {fact.Account{Others: []string{"sss"}}, password(),
			"login/unknown-account likely"},
		"its password is locked": {with(func(a *fact.Account) { a.Locked = true }), password(),
			"login/locked proven"},
		"a locked password and a key": {with(func(a *fact.Account) {
			a.Locked, a.Keys = true,
				[]string{"SHA256:mine"}
		}), key(), "login/rejected likely"},
		"it has no password": {with(func(a *fact.Account) { a.NoSecret = true }), password(),
			"login/mechanism-off proven"},
		"it ended": {with(func(a *fact.Account) { a.Ends = began.Add(-time.Hour) }), password(),
			"login/account-expired proven"},
		"it ends tomorrow": {with(func(a *fact.Account) { a.Ends = began.Add(24 * time.Hour) }), password(),
			"login/rejected likely"},
		"logins are shut": {with(func(a *fact.Account) { a.ClosedBy = "/etc/nologin" }), password(),
			"login/closed-for-all proven"},
		"shut, but not for root": {with(func(a *fact.Account) { a.ClosedBy, a.UID = "/etc/nologin", "0" }),
			password(), "login/rejected likely"},
		"no file of keys": {with(func(a *fact.Account) {
			a.KeysWrong = "there is no " +
				"/home/gauge/.ssh/authorized_keys"
		}), key(), "login/key-refused proven"},
		"a file that others write": {with(func(a *fact.Account) {
			a.KeysWrong = "/home/gauge may be written by " +
				"others"
		}), key(), "login/key-too-open proven"},
		"another key": {with(func(a *fact.Account) { a.Keys = []string{"SHA256:other"} }), key(),
			"login/key-refused proven"},
		"keys from elsewhere too": {with(func(a *fact.Account) {
			a.Keys, a.KeysElse = []string{"SHA256:other"},
				"/usr/bin/keys"
		}), key(),
			"login/key-refused likely"},
		"too many failures": {with(func(a *fact.Account) { a.Deny, a.Failures = 3, 3 }), nil,
			"login/locked proven"},
	} {
		t.Run(name, func(t *testing.T) {
			got := sshAs(t, c.account, c.login).weigh()
			expect(t, got, c.want)
			if len(got.Causes[0].Remedies) == 0 {
				t.Error("no remedy")
			}
		})
	}
}

// TestAccountsOfWindows is why a try was refused by a server that runs Windows, whose
// accounts are the host's.
func TestAccountsOfWindows(t *testing.T) {
	known := fact.Account{Known: true, Shadow: true}
	for name, c := range map[string]struct {
		system, endpoint string
		account          fact.Account
		policies         []fact.Policy
		code             string
		want, words      string
	}{
		"nothing says why": {"windows", "smb", known, nil, "C000006D", "login/rejected likely", ""},
		"it is switched off": {"windows", "smb", fact.Account{Known: true, Shadow: true, Disabled: true}, nil,
			"C000006D", "login/disabled proven", "switched off"},
		"the same account on another system": {"linux", "smb", fact.Account{Known: true, Shadow: true, Disabled: true},
			nil, "C000006D", "login/rejected likely", ""},
		"it may not log on so": {"windows", "smb", fact.Account{Known: true, Shadow: true,
			Rights: []string{"SeInteractiveLogonRight"}}, nil, "C000006D", "login/no-right proven",
			"SeNetworkLogonRight"},
		"it is denied to log on so": {"windows", "smb", fact.Account{Known: true, Shadow: true,
			Rights: []string{"SeNetworkLogonRight", "SeDenyNetworkLogonRight"}}, nil,
			"C000006D", "login/no-right proven", "denies"},
		"it may": {"windows", "smb", fact.Account{Known: true, Shadow: true, Rights: []string{"SeNetworkLogonRight"}},
			nil, "C000006D", "login/rejected likely", ""},
		"the host takes no NTLM": {"windows", "smb", fact.Account{RefusesNTLM: true, Others: []string{"the domain"}},
			nil, "C000006D", "login/mechanism-off proven", "RestrictReceivingNTLMTraffic"},
		"its web management too": {"windows", "winrm", fact.Account{Known: true, Shadow: true, Disabled: true}, nil,
			"401", "login/disabled proven", "switched off"},
		"a directory that wants it signed": {"windows", "ldap", fact.Account{}, []fact.Policy{{
			Place: `HKLM\SYSTEM\CurrentControlSet\Services\NTDS\Parameters\LDAPServerIntegrity`, Value: "2"}}, "8",
			"login/mechanism-off proven", "LDAPServerIntegrity = 2"},
		"a directory whose policy is another": {"windows", "ldap", fact.Account{}, []fact.Policy{{
			Place: `HKLM\SYSTEM\CurrentControlSet\Services\NTDS\Parameters\LdapEnforceChannelBinding`, Value: "2"}},
			"8", "login/mechanism-off proven", ""},
	} {
		t.Run(name, func(t *testing.T) {
			s := newScene(t, c.endpoint+"://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).
				named(tidebook)
			s.set.Vantages[1].System = c.system
			s.ask.Account, s.set.Ask.Account = "gauge", "gauge"
			wire := protocol.Spoken(c.endpoint).Name
			s.client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: wire, Refused: true}))
			port := s.ask.Endpoint.Port
			s.listening(listener("0.0.0.0", port, "System"))
			s.add("v2", fact.LookService, fact.Target{Port: port, Scheme: c.endpoint},
				func(f *fact.Fact) { f.Service = &fact.Service{} })
			account := c.account
			account.Name = "gauge"
			s.add("v2", fact.LookAccount, fact.Target{Account: "gauge", Scheme: c.endpoint, Port: port},
				func(f *fact.Fact) { f.Account = &account })
			s.add("v2", fact.LookIdentity, fact.Target{},
				func(f *fact.Fact) { f.Identity = &fact.Identity{System: c.system, Policies: c.policies} })
			target := s.target(tidebook)
			target.Account = "gauge"
			s.add("v1", fact.LookLogin, target, func(f *fact.Fact) {
				f.Login = &fact.Login{Outcome: fact.LoginRefused, Mechanism: "NTLM", Account: "gauge", Code: c.code}
			})
			got := s.weigh()
			expect(t, got, c.want)
			text := got.Causes[0].Summary
			if !strings.Contains(text, c.words) || c.words == "" && strings.Contains(text, "HKLM") {
				t.Errorf("no %q in %s", c.words, text)
			}
		})
	}
}

// TestShutByPolicy is a server of Windows that its own setting keeps from listening.
func TestShutByPolicy(t *testing.T) {
	s := newScene(t, "rdp://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).named(tidebook).
		client(tidebook, reset).listening(listener("0.0.0.0", 445, "System"))
	s.set.Vantages[1].System = "windows"
	s.add("v2", fact.LookIdentity, fact.Target{}, func(f *fact.Fact) {
		f.Identity = &fact.Identity{System: "windows", Policies: []fact.Policy{
			{Place: `HKLM\SYSTEM\CurrentControlSet\Control\Terminal Server\fDenyTSConnections`, Value: "1"}}}
	})
	got := s.weigh()
	expect(t, got, "ports/none-listening proven")
	if !strings.Contains(got.Causes[0].Summary, "takes no remote desktops") {
		t.Error(got.Causes[0].Summary)
	}
}

// TestLastTry withholds the try that would lock the account, and asks for the
// state of the account before any.
func TestLastTry(t *testing.T) {
	last := sshAs(t, fact.Account{Known: true, Deny: 3, Failures: 2}, nil)
	if last.wants(fact.LookLogin, fact.Client) {
		t.Error("the last try that is left is wanted")
	}
	expectRungs(t, last.weigh(), map[trail.Rung]trail.State{"login": trail.Unseen})
	if !sshAs(t, fact.Account{Known: true, Deny: 3, Failures: 1}, nil).wants(fact.LookLogin, fact.Client) {
		t.Error("a try is not wanted though two are left")
	}
	early := newScene(
		t,
		"redis://tidebook.varzea.example",
	).holds("v1", gauge).
		named(tidebook).
		client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "redis", Refused: true}))
	early.ask.Account, early.set.Ask.Account = "gauge", "gauge"
	if early.wants(fact.LookLogin, fact.Client) {
		t.Error("a try is wanted before it is known whose server that is")
	}
	s := newScene(t, "ssh://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).named(tidebook).
		client(tidebook, connected, greeted(fact.Done, "ssh", "", ""),
			answered(fact.Reply{Ending: fact.Done, Protocol: "ssh"}))
	s.ask.Account, s.set.Ask.Account = "gauge", "gauge"
	if s.wants(fact.LookLogin, fact.Client) || !s.wants(fact.LookAccount, fact.Server) {
		t.Error("the account is tried before its state is known")
	}
}

// TestBehindLogin is what keeps an accepted account from working.
func TestBehindLogin(t *testing.T) {
	accepted := func() *fact.Login { return &fact.Login{Outcome: fact.LoginAccepted, Mechanism: "password"} }
	expect(t, sshAs(t, fact.Account{Known: true, Shadow: true}, accepted()).weigh())
	expect(t, sshAs(t, fact.Account{Known: true, MustChange: true}, accepted()).weigh(), "login/must-change proven")
	expect(
		t,
		sshAs(t, fact.Account{Known: true, SecretEnds: began.Add(-time.Hour)}, accepted()).weigh(),
		"login/secret-expired proven",
	)
	expect(
		t,
		sshAs(t, fact.Account{Known: true, ShellWrong: "/usr/sbin/nologin"}, accepted()).weigh(),
		"login/disabled likely",
	)
	s := sshAs(t, fact.Account{Known: true, Groups: []string{"desks"}}, accepted())
	s.set.Ask.Card = &fact.Card{Account: &fact.CardAccount{Groups: []string{"desks", "stations"}}}
	expect(t, s.weigh(), "login/missing-group proven")
	yes, no := true, false
	for _, c := range []struct {
		stored fact.StoredSecret
		want   []string
	}{
		{fact.StoredSecret{Place: "/root/.netrc:3", Same: &no}, []string{"login/saved-secret proven"}},
		{fact.StoredSecret{Place: "/root/.netrc:3", Same: &yes}, nil},
		{fact.StoredSecret{Place: "/root/.netrc:3", Same: &no, Account: "another"}, nil},
		{fact.StoredSecret{Place: "/root/.netrc:3"}, nil},
	} {
		s := sshAs(t, fact.Account{Known: true}, accepted())
		target := s.target(tidebook)
		target.Account = "gauge"
		s.add(
			"v1",
			fact.LookStored,
			target,
			func(f *fact.Fact) { f.Stored = &fact.Stored{List: []fact.StoredSecret{c.stored}} },
		)
		expect(t, s.weigh(), c.want...)
	}
}

// TestTickets compares a ticket's key with those of the service's host.
func TestTickets(t *testing.T) {
	const service = "postgres/ledger.varzea.example@VARZEA.EXAMPLE"
	of := func(service string, table fact.KeyTable) trail.Trail {
		s := newScene(
			t,
			"kerberos://tidebook.varzea.example/postgres/ledger.varzea.example",
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "krb5", Refused: true}))
		s.ask.Account, s.set.Ask.Account = "gauge", "gauge"
		target := s.target(tidebook)
		target.Account = "gauge"
		s.add("v1", fact.LookLogin, target, func(f *fact.Fact) {
			f.Login = &fact.Login{
				Account:   "gauge",
				Outcome:   fact.LoginAccepted,
				Mechanism: "encrypted timestamp",
				Ticket:    &fact.Ticket{Service: service, Version: 3, Encryption: 18},
			}
		})
		s.add(
			"v2",
			fact.LookKeyTable,
			fact.Target{},
			func(f *fact.Fact) { f.KeyTable = &table },
		)
		return s.weigh()
	}
	scenario := func(entries ...fact.KeyEntry) trail.Trail {
		return of(service, fact.KeyTable{Path: "/etc/krb5.keytab", Entries: entries})
	}
	expect(t, scenario(fact.KeyEntry{Principal: service, Version: 3, Encryption: 18}))
	expect(t, scenario(fact.KeyEntry{Principal: service, Version: 2, Encryption: 18}), "login/key-version proven")
	expect(t, scenario(fact.KeyEntry{Principal: service, Version: 3, Encryption: 23}), "login/key-version proven")
	expect(t, scenario(fact.KeyEntry{Principal: "host/tidebook@VARZEA.EXAMPLE", Version: 1, Encryption: 18}))
	expect(t, scenario())
	none := fact.KeyTable{Path: "/etc/krb5.keytab", Absent: true}
	expect(t, of("host/tidebook.varzea.example@VARZEA.EXAMPLE", none), "login/key-version proven")
	expect(t, of("host/ledger.varzea.example@VARZEA.EXAMPLE", none))
	expect(t, of("postgres/tidebook.varzea.example@VARZEA.EXAMPLE", none)) // it may have its own
}

// TestPathRight is a web server that may not read a file, by its log and the
// path's own rights.
func TestPathRight(t *testing.T) {
	const file = "/srv/tides/today.txt"
	scenario := func(line, user string, right *fact.PathRight) trail.Trail {
		s := newScene(
			t,
			"http://tidebook.varzea.example/tides/today.txt",
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "http",
				Asked: "GET /tides/today.txt", Status: 403, Date: began})).
			listening(listener("0.0.0.0", 80, "nginx"))
		p := nginxUp
		p.Processes = []fact.Process{{PID: 1, State: "S", User: "root"}, {PID: 2, State: "S", User: user}}
		p.Logs = []fact.LogFile{{Path: "/var/log/nginx/error.log", Lines: []string{line}}}
		s.add(
			"v2",
			fact.LookService,
			fact.Target{Port: 80, Scheme: "http", Again: 1},
			func(f *fact.Fact) { f.Service = &fact.Service{Programs: []fact.Program{p}} },
		)
		if right != nil {
			s.add("v2", fact.LookPathRight, fact.Target{Account: user, Path: file},
				func(f *fact.Fact) { f.PathRight = right })
		}
		return s.weigh()
	}
	denied := `[error] open() "` + file + `" failed (13: Permission denied), request: "GET /tides/today.txt HTTP/1.1"`
	right := &fact.PathRight{
		User:  "www-data",
		Path:  file,
		Level: "/srv/tides",
		Why:   "www-data may not enter /srv/tides",
		Mode:  "0700",
		Grant: "o+x",
	}
	expect(t, scenario(denied, "www-data", right), "login/path-right proven")
	// A list of addresses gives the same answer, and none was read.
	expect(t, scenario(denied, "www-data", nil), "answer/error-status likely")
	expect(t, scenario(denied, "root", right), "answer/error-status likely")
	expect(t, scenario("[error] something else", "www-data", right), "answer/error-status likely")
	expect(t, scenario(strings.ReplaceAll(denied, "today", "yesterday"), "www-data", right),
		"answer/error-status likely")
}

// TestReverse is a list that lets a client in by name, whose address does not
// lead back to it.
func TestReverse(t *testing.T) {
	wrapped := []string{"sshd"}
	scenario := func(text string, back *fact.Reverse) trail.Trail {
		s := newScene(t, "ssh://tidebook.varzea.example").holds("v1", gauge).holds("v2", tidebook).named(tidebook).
			client(tidebook, func(f *fact.Fact) {
				f.Connect = &fact.Connect{Outcome: fact.Connected, Local: netip.MustParseAddrPort(gauge + ":40000")}
			}, greeted(fact.Closed, "", "", "")).listening(listener("0.0.0.0", 22, "sshd"))
		s.add("v2", fact.LookAccess, fact.Target{Port: 22}, func(f *fact.Fact) {
			f.Access = &fact.Access{
				Wrapped: wrapped,
				Files: []fact.AccessFile{
					{Path: "/etc/hosts.allow", Kind: "hosts.allow", Lines: []fact.Line{{Number: 3, Text: text}}},
				},
			}
		})
		if back != nil {
			s.add("v2", fact.LookReverse, fact.Target{Addr: netip.MustParseAddr(gauge)},
				func(f *fact.Fact) { f.Reverse = back })
		}
		return s.weigh()
	}
	const line = "sshd: gauge-07.varzea.example"
	expect(t, scenario(line, &fact.Reverse{}), "names/reverse-differs proven")
	expect(
		t,
		scenario(line, &fact.Reverse{Names: []string{"gauge-07.varzea.example"}}),
		"names/reverse-differs proven",
	) // which does not lead back
	expect(
		t,
		scenario(line, &fact.Reverse{Names: []string{"gauge-07.varzea.example"},
			Back: []string{"gauge-07.varzea.example"}}),
	)
	expect(t, scenario("sshd: gauge-08.varzea.example", &fact.Reverse{}))
	expect(t, scenario(line, nil))
	expect(t, scenario(line+": deny", &fact.Reverse{})) // who is named so is kept out
	wrapped = nil
	expect(t, scenario(line, &fact.Reverse{})) // nobody reads that list
}
