package weigh

import (
	"slices"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestOpened is lists and sheets that let more in than before.
func TestOpened(t *testing.T) {
	with := func(path string, lines ...string) fact.Set {
		s := newScene(t, web).holds("v2", tidebook)
		var list []fact.Line
		for i, text := range lines {
			list = append(list, fact.Line{Number: i + 1, Text: text})
		}
		s.add(
			"v2",
			fact.LookAccess,
			fact.Target{Port: 80},
			func(f *fact.Fact) {
				kind := ""
				if path == "/etc/depths.allow" {
					kind = "list"
				}
				f.Access = &fact.Access{Files: []fact.AccessFile{{Path: path, Kind: kind, Lines: list}}}
			},
		)
		return s.set
	}
	for _, c := range []struct{ path, was, is, want string }{
		{"/etc/postgresql/pg_hba.conf", "host all all 10.20.0.0/16 scram-sha-256",
			"host all all 0.0.0.0/0 scram-sha-256", "lets everybody in"},
		{"/etc/postgresql/pg_hba.conf", "host all all 10.20.0.0/16 scram-sha-256",
			"host  all  all 10.20.0.0/16   scram-sha-256", ""},
		{"/etc/postgresql/pg_hba.conf", "host all all 10.20.0.0/16 scram-sha-256",
			"host tides gauge 10.20.7.31/32 scram-sha-256", ""},
		{"/etc/postgresql/pg_hba.conf", "host all all 10.20.0.0/16 scram-sha-256", "host all all 10.20.0.0/16 trust",
			"lets everybody in"},
		{"/etc/postgresql/pg_hba.conf", "host all all 10.20.0.0/16 reject", "host all all 0.0.0.0/0 reject", ""},
		{"/etc/nginx/nginx.conf", "deny all", "allow all", "lets everybody in"},
		{"/etc/nginx/nginx.conf", "allow all", "deny all", ""},
		{"/etc/nginx/nginx.conf", "allow 10.20.9.0/24", "allow 10.20.7.31", ""},
		{"/etc/hosts.allow", "sshd: 10.20.9.0/24", "sshd: ALL", "lets everybody in"},
		{"/etc/hosts.allow", "sshd: 10.20.9.0/24", "sshd: 10.20.7.31", ""},
		{"/etc/depths.allow", "10.20.9.0/24", "0.0.0.0/0", "lets everybody in"},
		{"/etc/depths.allow", "10.20.9.0/24", "10.20.7.31", ""},
	} {
		got := strings.Join(Wider(with(c.path, c.was), with(c.path, c.is)), "; ")
		if (got == "") != (c.want == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s, %q for %q: %q", c.path, c.is, c.was, got)
		}
	}
	if got := Wider(newScene(t, web).set, with("/etc/nginx/nginx.conf", "allow all")); len(got) != 0 {
		t.Errorf("what nobody read then: %q", got)
	}
	sheet := func(change func(*fact.Sheet)) fact.Set {
		s := fact.Sheet{
			Name:   "office",
			Layers: []fact.Layer{{Name: "edge", Otherwise: "deny"}},
			SignIn: &fact.SignIn{Rules: []fact.SignInRule{{Name: "programs", Do: "refuse"},
				{Name: "people", Do: "allow"}}},
		}
		if change != nil {
			change(&s)
		}
		return fact.Set{Ask: fact.Ask{Sheets: []fact.Sheet{s}}}
	}
	for want, change := range map[string]func(*fact.Sheet){
		"":                      nil,
		"the layer edge is off": func(s *fact.Sheet) { s.Layers[0].Off = true },
		"allows what no rule":   func(s *fact.Sheet) { s.Layers[0].Otherwise = "allow" },
		"rule programs is off":  func(s *fact.Sheet) { s.SignIn.Rules[0].Off = true },
	} {
		got := strings.Join(Wider(sheet(nil), sheet(change)), "; ")
		if (got == "") != (want == "") || !strings.Contains(got, want) {
			t.Errorf("%q: %q", want, got)
		}
	}
	if got := Wider(sheet(nil), sheet(func(s *fact.Sheet) { s.SignIn.Rules[1].Off = true })); len(got) != 0 {
		t.Errorf("an allow that is off: %q", got)
	}
}

// TestLoosened is settings that check less than before, and those that do not.
func TestLoosened(t *testing.T) {
	for _, c := range []struct {
		key, was, now string
		want          bool
	}{
		{"ssl_verify_client", "on", "off", true}, {"ssl_verify_client", "off", "on", false},
		{"tls.verify", "true", "false", true},
		{"TLSVerifyClient", "demand", "never", false}, {"verify_server", "yes", "no", true},
		{"PasswordAuthentication", "yes", "no", false},
		{"skip_certs", "false", "true", true}, {"insecure", "no", "yes", true}, {"listen", "on", "off", false},
		{"selinux/enforce", "1", "0", true}, {"selinux/enforce", "0", "1", false},
		{"security.authorization", "enabled", "disabled", true},
	} {
		if got := loosened(c.key, c.was, c.now); got != c.want {
			t.Errorf("%s from %s to %s: %v", c.key, c.was, c.now, got)
		}
	}
	with := func(says, enforced string) fact.Set {
		s := newScene(t, web).holds("v2", tidebook)
		s.add("v2", fact.LookService, fact.Target{}, func(f *fact.Fact) {
			f.Service = &fact.Service{Programs: []fact.Program{{Name: "nginx",
				Files: []fact.SettingsFile{{Path: "/etc/nginx/a", Says: []string{says}}}}}}
		})
		s.add("v2", fact.LookKernel, fact.Target{}, func(f *fact.Fact) {
			f.Kernel = &fact.Kernel{Settings: map[string]string{fact.PolicyEnforced: enforced}}
		})
		return s.set
	}
	got := Wider(with("server.ssl_verify_client = on", "1"), with("server.ssl_verify_client = off", "0"))
	want := []string{
		"tidebook: /etc/nginx/a: server.ssl_verify_client = off, was on: it checks less",
		"tidebook: selinux/enforce = 0, was 1: it checks less",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
}
