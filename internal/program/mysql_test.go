package program

import (
	"net/netip"
	"testing"

	"uakari/internal/fact"
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

// TestMySQLRights is what an account may, by what its database tells of it.
func TestMySQLRights(t *testing.T) {
	f := fact.AccessFile{Kind: fact.ListMySQLRights}
	for i, text := range []string{"database tides", "database tide_book", "locked heron@%", "roles ana@%",
		`grant gauge@% tide\_%`, "grant root@localhost *", "grant relay@10.20.7.% tides", "grant PUBLIC@ shared"} {
		f.Lines = append(f.Lines, fact.Line{Number: i + 1, Text: text})
	}
	for _, c := range []struct {
		account, database string
		want              MySQLRights
	}{
		{"gauge@%", "tide_book", MySQLRights{Granted: true, Database: true}},
		{"gauge@%", "tides", MySQLRights{Database: true}},
		{"gauge@%", "tide_none", MySQLRights{Granted: true}},
		{"root@localhost", "none", MySQLRights{Granted: true}},
		{"relay@10.20.7.%", "tides", MySQLRights{Granted: true, Database: true}},
		{"relay@%", "tides", MySQLRights{Database: true}},
		{"heron@%", "shared", MySQLRights{Locked: true, Granted: true}},
		{"heron@%", "tides", MySQLRights{Locked: true, Database: true}},
		{"ana@%", "tides", MySQLRights{Roles: true, Database: true}},
	} {
		if got := MySQLRightsOf(f, c.account, c.database); got != c.want {
			t.Errorf("%s on %s: %+v, want %+v", c.account, c.database, got, c.want)
		}
	}
}
