package program

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

func TestPostfixRefuses(t *testing.T) {
	lines := func(text string) []fact.Line {
		var list []fact.Line
		for i, l := range strings.Split(text, "\n") {
			list = append(list, fact.Line{Number: i + 1, Text: l})
		}
		return list
	}
	for _, c := range []struct{ main, table, want string }{
		{"smtpd_client_restrictions = check_client_access cidr:/t", "10.20.7.0/24 REJECT no gauges",
			"10.20.7.0/24 REJECT no gauges"},
		{"smtpd_client_restrictions =\n permit_mynetworks,\n check_client_access cidr:/t", "10.20.7.0/24 550 no", ""},
		// whose nets are its own was not said
		{"mynetworks = 127.0.0.0/8 [::1]/128\nsmtpd_client_restrictions = permit_mynetworks, check_client_access " +
			"cidr:/t", "10.20.7.0/24 550 no", "10.20.7.0/24 550 no"},
		{"mynetworks = 10.20.0.0/16\nsmtpd_client_restrictions = permit_mynetworks, reject", "", ""},
		{"mynetworks = 127.0.0.0/8\nsmtpd_client_restrictions = permit_mynetworks reject", "",
			"permit_mynetworks reject"},
		{"smtpd_client_restrictions = check_client_access cidr:/t, reject", "10.20.7.31 OK", ""},
		{"smtpd_client_restrictions = check_client_access cidr:/t", "10.20.9.0/24 REJECT", ""},
		{"smtpd_client_restrictions = check_client_access hash:/h, reject", "", ""},
		{"smtpd_client_restrictions = reject_unknown_client_hostname, reject", "", ""},
		{"smtpd_client_restrictions = reject\nsmtpd_client_restrictions =", "", ""},
	} {
		_, got := PostfixRefuses(
			[]fact.AccessFile{
				{Path: "/m", Kind: "postfix", Lines: lines(c.main)},
				{Path: "/t", Kind: "postfix-table", Lines: lines(c.table)},
			},
			netip.MustParseAddr("10.20.7.31"),
		)
		if got != c.want {
			t.Errorf("%q with %q: %q, want %q", c.main, c.table, got, c.want)
		}
	}
	if got := PostfixTables("smtpd_client_restrictions = check_client_access cidr:/t,\n check_client_access " +
		"cidr:/u\n"); strings.Join(
		got,
		" ",
	) != "/t /u" {
		t.Errorf("%q", got)
	}
}
