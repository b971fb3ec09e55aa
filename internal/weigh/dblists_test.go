package weigh

import (
	"net/netip"
	"testing"

	"uakari/internal/fact"
)

// TestAccountsOfDatabase is a database that turns a host away in its greeting,
// and the accounts that it has.
func TestAccountsOfDatabase(t *testing.T) {
	for _, c := range []struct {
		name     string
		accounts []string
		want     string
	}{
		{"none may come", []string{"root@localhost", "svc-tide@10.20.9.%"}, "rules/not-on-list proven"},
		{"one may, by a name", []string{"root@localhost", "svc-tide@gauge-07.varzea.example"},
			"answer/source-refused proven"},
		{"one may", []string{"root@localhost", "svc-tide@10.20.7.%"}, "answer/source-refused proven"},
	} {
		s := newScene(t, "mysql://10.20.0.14").holds("v1", gauge).holds("v2", tidebook).
			client(tidebook, func(f *fact.Fact) {
				f.Connect = &fact.Connect{Outcome: fact.Connected, Local: netip.MustParseAddrPort(gauge + ":40001")}
			}, greeted(fact.Done, "mysql", "Host '10.20.7.31' is not allowed to connect", "1130")).
			listening(listener("0.0.0.0", 3306, "mariadbd")).sends("v1", tidebook, gauge, "")
		s.add("v2", fact.LookAccess, fact.Target{Port: 3306}, func(f *fact.Fact) {
			file := fact.AccessFile{Path: "the accounts of the database", Kind: "mysql", Changed: began}
			for i, a := range c.accounts {
				file.Lines = append(file.Lines, fact.Line{Number: i + 1, Text: a})
			}
			f.Access = &fact.Access{Files: []fact.AccessFile{file}}
		})
		s.check(c.name, c.want)
	}
}
