package weigh

import (
	"net/netip"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/program"
)

// TestSSHSettings is the lists of sshd, by its manual.
func TestSSHSettings(t *testing.T) {
	const drop = "AllowUsers gauge@10.20.9.*"
	for _, c := range []struct {
		name, main, included string
		account              string
		groups               []string
		mechanism            string
		want                 string // cause, and whether something is not known
	}{
		{"nothing is said", "PermitRootLogin yes", "", "gauge", nil, "password", ""},
		{"on the list", "AllowUsers tidebook gauge", "", "gauge", nil, "password", ""},
		{"not on the list", "AllowUsers tidebook", "", "gauge", nil, "password", "login/no-right"},
		{"on a later line of the list", "AllowUsers tidebook\nAllowUsers gau*", "", "gauge", nil, "password", ""},
		{"from elsewhere", "AllowUsers gauge@10.20.9.0/24", "", "gauge", nil, "password", "login/not-from-here"},
		{"from here, by a net", "AllowUsers gauge@10.20.7.0/24", "", "gauge", nil, "password", ""},
		{"from here, by a pattern", "AllowUsers gauge@10.20.7.*", "", "gauge", nil, "password", ""},
		{"shut out", "DenyUsers gauge\nAllowUsers gauge", "", "gauge", nil, "password", "login/no-right"},
		{"shut out from elsewhere", "DenyUsers gauge@10.20.9.*", "", "gauge", nil, "password", ""},
		{"a group is missing", "AllowGroups tide harbour", "", "gauge", []string{"gauge"}, "password",
			"login/missing-group"},
		{"a group is there", "AllowGroups tide harbour", "", "gauge", []string{"gauge", "harbour"}, "password", ""},
		{"groups are not known", "AllowGroups tide", "", "gauge", nil, "password", ""},
		{"a group is shut out", "DenyGroups harb*", "", "gauge", []string{"harbour"}, "password", "login/no-right"},
		{"root by key alone", "PermitRootLogin prohibit-password", "", "root", nil, "password", "login/mechanism-off"},
		{"root by key", "PermitRootLogin prohibit-password", "", "root", nil, "publickey", ""},
		{"no root at all", "PermitRootLogin no\nPermitRootLogin yes", "", "root", nil, "publickey", "login/no-right"},
		{"a block lets it in", "AllowUsers tidebook\nMatch Address 10.20.7.0/24\nAllowUsers gauge", "", "gauge", nil,
			"password", ""},
		{"a block shuts it out", "Match User gauge,tide*\nAllowUsers none", "", "gauge", nil, "password",
			"login/no-right"},
		{"a block of others", "Match Address 10.20.9.0/24\nDenyUsers *", "", "gauge", nil, "password", ""},
		{"a block with an exception", "Match Address *,!10.20.7.31\nDenyUsers *", "", "gauge", nil, "password", ""},
		{"a block for a group", "Match Group harbour\nDenyUsers *", "", "gauge", []string{"harbour"}, "password",
			"login/no-right"},
		{"a block for nobody knows whom", "AllowUsers tidebook\nMatch Group harbour\nAllowUsers gauge", "", "gauge",
			nil, "password", "login/no-right unknown"},
		{"a block for all", "Match All\nDenyUsers gauge", "", "gauge", nil, "password", "login/no-right"},
		{"a block ends with its file", "Include sshd_config.d/*.conf\nPermitRootLogin no",
			"Match User tidebook\nPermitRootLogin yes", "root", nil, "publickey", "login/no-right"},
		{"by a name, which nobody looks up", "AllowUsers gauge@gauge-07.varzea.example", "", "gauge", nil, "password",
			"login/not-from-here"},
		{"by a name that is looked up", "UseDNS yes\nAllowUsers gauge@gauge-07.varzea.example", "", "gauge", nil,
			"password", "login/not-from-here unknown"},
		{"a block for a name that is looked up", "UseDNS yes\nAllowUsers tidebook\nMatch Host *.example\nAllowUsers " +
			"gauge", "", "gauge", nil, "password", "login/no-right unknown"},
		{"included first", "Include /etc/ssh/sshd_config.d/*.conf\nPermitRootLogin yes", "PermitRootLogin no", "root",
			nil, "publickey", "login/no-right"},
		{"included last", "PermitRootLogin yes\nInclude sshd_config.d/*.conf", "PermitRootLogin no", "root", nil,
			"publickey", ""},
		{"included, and bound to a source", "Include sshd_config.d/*.conf", drop, "gauge", nil, "password",
			"login/not-from-here"},
		{"not included", "PermitRootLogin yes", drop, "gauge", nil, "password", ""},
		{"remarks", "#AllowUsers tidebook\nallowusers gauge # and nobody else", "", "gauge", nil, "password", ""},
	} {
		a := &fact.Access{Files: []fact.AccessFile{
			{Path: "/etc/ssh/sshd_config", Kind: "sshd", Lines: linesOf(c.main)},
			{Path: "/etc/ssh/sshd_config.d/tide.conf", Kind: "sshd", Lines: linesOf(c.included)},
		}}
		who := program.SSHLogin{Account: c.account, Groups: c.groups, Source: netip.MustParseAddr(gauge), Port: 22}
		s := program.SSHSettingsFor(a, who)
		got, text, _ := s.Refuses(who, c.mechanism)
		if len(s.Unknown) > 0 {
			got += " unknown"
		}
		if got != c.want || (text == "") != (c.want == "") {
			t.Errorf("%s: %q (%s), want %q", c.name, got, text, c.want)
		}
	}
	if program.SSHSettingsFor(&fact.Access{}, program.SSHLogin{}) != nil {
		t.Error("settings that were not read")
	}
}

// TestStoreProtectsItself is a store that turns a source away, and its settings.
func TestStoreProtectsItself(t *testing.T) {
	for _, c := range []struct{ name, settings, want string }{
		{"by default", "", "rules/not-on-list proven"},
		{"by a line", "protected-mode yes", "rules/not-on-list proven"},
		{"there is a secret", "requirepass …", "answer/source-refused proven"},
	} {
		s := newScene(t, "redis://10.20.0.14").holds("v1", gauge).holds("v2", tidebook).
			client(tidebook, func(f *fact.Fact) {
				f.Connect = &fact.Connect{Outcome: fact.Connected, Local: netip.MustParseAddrPort(gauge + ":40001")}
			}, answered(fact.Reply{Ending: fact.Done, Protocol: "redis", Code: "DENIED"})).
			listening(listener("0.0.0.0", 6379, "redis-server")).sends("v1", tidebook, gauge, "").
			programs("", fact.Program{Name: "redis-server", Path: "/usr/bin/redis-server", Why: "card",
				Processes: []fact.Process{{PID: 4121, State: "S", Since: began}},
				Units: []fact.Unit{{Name: "redis-server.service", Load: "loaded", Active: "active",
					Since: began}}})
		s.add("v2", fact.LookAccess, fact.Target{Port: 6379}, func(f *fact.Fact) {
			f.Access = &fact.Access{
				Files: []fact.AccessFile{
					{Path: "/etc/redis/redis.conf", Kind: "redis", Changed: began.Add(-1e12),
						Lines: linesOf(c.settings)},
				},
			}
		})
		s.check(c.name, c.want)
	}
}
