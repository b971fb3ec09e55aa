package weigh

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/sheet"
	"uakari/internal/trail"
	"uakari/internal/weigh/login"
)

const policies = `format: uakari.sheet/1
name: office
groups:
  stations: [10.20.7.0/24]
sign-in:
  accounts: {ana: [admins], rui: [desks], upload: [programs]}
  admins: admins
  services: programs
  rules:
    - {name: emergency, do: allow, who: [admins], endpoints: [pier.varzea.example]}
    - {name: stations upload, do: allow, who: [programs], from: [stations], endpoints: ["tidebook.varzea.example:443"]}
    - {name: no programs elsewhere, do: refuse, who: [programs]}
    - {name: at night, do: refuse, except: [admins], hours: "22:00-05:00"}
    - {name: weekend, do: refuse, who: [desks], days: "sat,sun"}
    - {name: outside, do: require, require: second-factor, not-from: [stations]}
`

func policySheet(t *testing.T, text string) *fact.Sheet {
	t.Helper()
	s, err := sheet.Parse("office.yaml", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// TestPolicyMends is what lets an account in under the policies' own order.
func TestPolicyMends(t *testing.T) {
	for name, c := range map[string]struct{ rules, want string }{
		"a deny comes first": {"    - {name: programs, do: refuse, who: [programs]}\n    - {name: all, do: " +
			"allow, who: [upload]}\n",
			"place before rule 1 (programs): {name: let upload in, do: allow, who: [upload], from: [10.20.7.31]"},
		"left out of it": {"    - {name: programs, do: refuse, who: [programs]}\n",
			"leave upload out of rule 1 (programs): except: [upload]"},
		"every administrator": {"    - {name: nobody, do: refuse, who: [all]}\n",
			"leave the administrators out of rule 1 (nobody) first (except: [admins])"},
		"no rule lets it in": {"  otherwise: refuse\n", "add to the sign-in rules: {name: let upload in"},
		"two refuse one by one": {"    - {name: one, do: refuse, who: [upload]}\n    - {name: two, do: refuse, who: " +
			"[programs]}\n", "place before rule 1 (one)"},
	} {
		rules := "  rules:\n" + c.rules
		if strings.HasPrefix(c.rules, "  otherwise") {
			rules = c.rules + "  rules:\n    - {name: people, do: allow, who: [admins]}\n"
		}
		s := carded(t, fact.Card{}, connected, replied(200))
		s.set.Ask.Card, s.set.Ask.Account = nil, "upload"
		s.set.Ask.Sheets = []fact.Sheet{
			*policySheet(t, "format: uakari.sheet/1\nname: office\nsign-in:\n  accounts: {ana: [admins], upload: "+
				"[programs]}\n  admins: admins\n"+rules),
		}
		got := s.sends("v1", tidebook, gauge, "").weigh()
		var remedies []string
		for _, cause := range got.Causes {
			for _, r := range cause.Remedies {
				remedies = append(remedies, r.Do)
			}
		}
		if !strings.Contains(strings.Join(remedies, "\n"), c.want) {
			t.Errorf("%s: %q lacks %q\n%s", name, remedies, c.want, summaries(got.Causes))
		}
	}
}

// TestSignIn is tries against ordered rules, and what decides.
func TestSignIn(t *testing.T) {
	s := policySheet(t, policies)
	noon, night, sunday := time.Date(
		2026,
		11,
		23,
		12,
		0,
		0,
		0,
		time.UTC,
	), time.Date(
		2026,
		11,
		23,
		23,
		30,
		0,
		0,
		time.UTC,
	), time.Date(
		2026,
		11,
		22,
		12,
		0,
		0,
		0,
		time.UTC,
	)
	for _, c := range []struct {
		account, from, host string
		port                uint16
		at                  time.Time
		do                  string
		rule                int
		unsure              string
	}{
		{"ana", "192.0.2.7", "pier.varzea.example", 22, noon, "allow", 1, ""},
		{"ana", "192.0.2.7", "tidebook.varzea.example", 443, noon, "require", 6, ""},
		{"ana", "10.20.7.31", "tidebook.varzea.example", 443, night, "allow", 0, ""},
		{"upload", "10.20.7.31", "tidebook.varzea.example", 443, noon, "allow", 2, ""},
		{"upload", "10.20.7.31", "tidebook.varzea.example", 8443, noon, "refuse", 3, ""},
		{"upload", "", "tidebook.varzea.example", 443, noon, "refuse", 3, "rule 2 (stations upload) may apply"},
		{"rui", "10.20.7.31", "tidebook.varzea.example", 443, night, "refuse", 4, ""},
		{"rui", "10.20.7.31", "tidebook.varzea.example", 443, sunday, "refuse", 5, ""},
		{"rui", "10.20.7.31", "tidebook.varzea.example", 443, noon, "allow", 0, ""},
	} {
		try := login.SignInTry{Account: c.account, Host: c.host, Port: c.port, At: c.at}
		if c.from != "" {
			try.From = netip.MustParseAddr(c.from)
		}
		v := login.JudgeSignIn(s, try)
		if v.Do != c.do || v.Rule != c.rule || !strings.HasPrefix(v.Unsure, c.unsure) || c.unsure == "" &&
			v.Unsure != "" {
			t.Errorf("%s from %s at %s:%d: %+v", c.account, c.from, c.host, c.port, v)
		}
	}
}

// TestSignInDoubts is policies that are odd in themselves.
func TestSignInDoubts(t *testing.T) {
	if d := login.SignInDoubts(policySheet(t, policies), began); len(d) != 0 {
		t.Errorf("%q", d)
	}
	shut := policySheet(t, strings.Replace(policies, "  rules:\n", "  rules:\n    - {name: closed, do: refuse}\n", 1))
	if d := login.SignInDoubts(shut, began); len(d) != 1 ||
		!strings.Contains(d[0], "rule 1 (closed) shuts out every administrator") {
		t.Errorf("%q", d)
	}
	factor := policySheet(
		t,
		strings.Replace(policies, "  rules:\n", "  rules:\n    - {name: all, do: require, require: second-factor}\n",
			1),
	)
	if d := login.SignInDoubts(factor, began); len(d) != 1 ||
		!strings.Contains(d[0], "asks the program account upload for a second factor") {
		t.Errorf("%q", d)
	}
}

// TestPolicyReading is a policy that refuses the account of a trace.
func TestPolicyReading(t *testing.T) {
	at := func(account, text string) *scenario {
		s := newScene(t, "https://tidebook.varzea.example/")
		s.set.Ask.Account, s.set.Ask.Sheets = account, []fact.Sheet{*policySheet(t, text)}
		s.ask = s.set.Ask
		return s.holds("v1", gauge).named(tidebook).client(tidebook, connected)
	}
	got := at("upload", strings.Replace(policies, "10.20.7.0/24", "10.99.0.0/16", 1)).weigh()
	found := false
	for _, c := range got.Causes {
		found = found ||
			c.ID == "login/policy-blocks" && c.Rung == trail.Login &&
				strings.Contains(c.Summary, "rule 3 (no programs elsewhere)")
	}
	if !found {
		t.Error(dump(got))
	}
}
