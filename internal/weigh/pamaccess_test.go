package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/program"
)

// TestPAMAccess is which rule keeps an account out.
func TestPAMAccess(t *testing.T) {
	for rules, want := range map[string]string{
		"":                                        "",
		"+:gauge:10.20.7.0/24\n-:ALL:ALL":         "",
		"+:gauge:10.20.9.0/24\n-:ALL:ALL":         "login/no-right line 2",
		"-:gauge:10.20.7.":                        "login/not-from-here line 1",
		"-:ALL EXCEPT root gauge:ALL":             "",
		"-:ALL EXCEPT root:ALL EXCEPT LOCAL":      "login/not-from-here line 1",
		"-:(stations):10.20.0.0/255.255.0.0":      "login/not-from-here line 1",
		"-:stations:10.20.7.31":                   "login/not-from-here line 1",
		"-:(desks):ALL":                           "",
		"-:@net:ALL\n-:ALL:ALL":                   "",
		"-:ALL:desk-01.varzea.example\n-:ALL:ALL": "",
		"nonsense\n-:ALL:tty1\n-:ALL:LOCAL":       "",
		"-:gauge:fd20::/16":                       "",
	} {
		a := &fact.Account{Name: "gauge", Groups: []string{"stations"}, AccessFile: "access.conf"}
		for i, line := range strings.Split(rules, "\n") {
			a.AccessRules = append(a.AccessRules, fact.Line{Number: i + 1, Text: line})
		}
		cause, text := program.PAMReason(a, netip.MustParseAddr("10.20.7.31"))
		got := cause
		if cause != "" {
			_, rest, _ := strings.Cut(text, ", ")
			number, _, _ := strings.Cut(rest, " (")
			got += " " + number
		}
		if got != want {
			t.Errorf("%q: %q, want %q", rules, got, want)
		}
	}
}
