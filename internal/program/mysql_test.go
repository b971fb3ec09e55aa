package program

import (
	"net/netip"
	"testing"

	"uakari/internal/filter"
)

// TestAccountHosts is the hosts of database accounts, by the manual.
func TestAccountHosts(t *testing.T) {
	for pattern, want := range map[string]filter.Tri{
		"": filter.Yes, "%": filter.Yes, "10.20.7.31": filter.Yes, "10.20.7.%": filter.Yes, "10.20.7.3_": filter.Yes,
		"10.20.7.0/255.255.255.0": filter.Yes,
		"10.20.0.0/16":            filter.Yes, "10.20.9.%": filter.No, "10.20.7.32": filter.No, "localhost": filter.No,
		"fd20::%":                 filter.No,
		"gauge-07.varzea.example": filter.Unknown, "%.varzea.example": filter.Unknown,
	} {
		if got := MySQLHost(pattern, netip.MustParseAddr("10.20.7.31")); got != want {
			t.Errorf("%q: %v, want %v", pattern, got, want)
		}
	}
}
