package tell

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

func TestServiceRecordsAreTold(t *testing.T) {
	service := func(target string, port uint16, ends ...fact.ConnectOutcome) ServiceView {
		s := ServiceView{
			Record:   "_ldap._tcp.varzea.example",
			Resolver: "10.20.7.53:53",
			Outcome:  string(fact.Addressed),
			Target:   target,
			Port:     port,
		}
		for _, end := range ends {
			s.Tried = append(s.Tried, ServiceTry{netip.MustParseAddr("10.20.0.14"), end})
		}
		return s
	}
	gone := ServiceView{Record: "_ldap._tcp.varzea.example", Resolver: "10.20.7.53:53",
		Outcome: string(fact.NoSuchName)}
	silent := gone
	silent.Outcome = "silent"
	for _, c := range []struct {
		name     string
		services []ServiceView
		first    string
		line     string
	}{
		{"_ldap._tcp.varzea.example", []ServiceView{gone}, "_ldap._tcp.varzea.example leads to no server here.",
			"no such name"},
		{"_ldap._tcp.varzea.example", []ServiceView{silent}, "Not known: where _ldap._tcp.varzea.example leads;",
			"no answer"},
		{"_ldap._tcp.varzea.example", []ServiceView{service("", 0)},
			"_ldap._tcp.varzea.example leads to no server here.", "says that there is no such service"},
		{"varzea.example", []ServiceView{service("ledger", 389, fact.Silent), service("gauge", 389, fact.Connected)},
			"varzea.example does not resolve here; _ldap._tcp.varzea.example leads to",
			"gauge:389 (priority 0, weight 0): 10.20.0.14 takes connections"},
		{"_ldap._tcp.varzea.example", []ServiceView{service("ledger", 389, "")},
			"_ldap._tcp.varzea.example leads to ledger:389, which", "10.20.0.14 was not tried"},
		{"_ldap._tcp.varzea.example", []ServiceView{service("ledger", 389, fact.Reset)},
			"_ldap._tcp.varzea.example leads to ledger:389, which takes no connection from", "10.20.0.14 refuses"},
		{"_ldap._tcp.varzea.example", []ServiceView{service("led\x1b[2Jger", 389)},
			"_ldap._tcp.varzea.example leads to led", "does not resolve here"},
		{"xn--mar-dma.example", nil, "Not known: what maré.example (xn--mar-dma.example in DNS) resolves to; no",
			""},
	} {
		n := NameViews{Name: c.name, Agree: true, Services: c.services}
		if strings.HasPrefix(c.name, "xn--") {
			n.Unicode = "maré.example"
		}
		text := Names(n, false)
		if !strings.HasPrefix(text, c.first) || !strings.Contains(text, c.line) {
			t.Errorf("expected %q and %q in\n%s", c.first, c.line, text)
		}
		if strings.Contains(text, "\x1b") {
			t.Errorf("control characters of a record reach the terminal: %q", text)
		}
	}
}
