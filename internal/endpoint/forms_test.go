package endpoint

import (
	"strings"
	"testing"
)

// TestForms reads endpoints as other programs write them.
func TestForms(t *testing.T) {
	for text, want := range map[string]string{
		`\\ledger\tides\2026`:            "smb ledger 445 /tides/2026",
		`//ledger/tides`:                 "smb ledger 445 /tides",
		"ledger,1434":                    "mssql ledger 1434 ",
		"tcp:ledger.varzea.example,1433": "mssql ledger.varzea.example 1433 ",
		"Server=tcp:ledger,1500;Database=tides;Integrated Security=true":     "mssql ledger 1500 /tides",
		"Data Source=ledger;Initial Catalog=tides":                           "mssql ledger 1433 /tides",
		"Driver={PostgreSQL Unicode};Server=ledger;Port=5433;Database=tides": "postgres ledger 5433 /tides",
		"Driver={MariaDB ODBC 3.1};Server=ledger;Database=tides":             "mysql ledger 3306 /tides",
		"Host=ledger;Port=5432;Database=tides;Username=ana":                  "postgres ledger 5432 /tides",
		"host=ledger port=5432 dbname=tides user=ana":                        "postgres ledger 5432 /tides",
		"jdbc:postgresql://ledger:5433/tides":                                "postgres ledger 5433 /tides",
		"jdbc:mariadb://ledger/tides":                                        "mysql ledger 3306 /tides",
		"jdbc:sqlserver://ledger:1433;databaseName=tides":                    "mssql ledger 1433 /tides",
		"ldap://ledger.varzea.example/CN=Gauge,DC=varzea": "ldap ledger.varzea.example 389 " +
			"/CN=Gauge,DC=varzea",
		"https://tidebook.varzea.example/?a=b": "https tidebook.varzea.example 443 /?a=b",
	} {
		e, err := Parse(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if got := e.Scheme + " " + HostPort(e.Host, e.Port) + " " + e.Path; strings.Replace(got, ":", " ", 1) != want {
			t.Errorf("%s: %q, expected %q", text, got, want)
		}
	}
	for text, want := range map[string]string{
		`ledger\tides`:                    "uakari trace mssql-browser://ledger/tides",
		`Server=ledger\tides`:             "uakari trace mssql-browser://ledger/tides",
		"DSN=tides":                       "a data source by its name",
		"Database=tides;Trusted=yes":      "without a server",
		"Server=ledger;Password=Gannet-2": "no secret on the command line",
		"host=ledger password=Gannet-2":   "no secret on the command line",
		"jdbc:oracle:thin:@ledger:1521:x": "without a host",
		"jdbc:tide://ledger/x":            "unknown scheme",
	} {
		_, err := Parse(text)
		if err == nil || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "Gannet") {
			t.Errorf("%s: %v, expected %q", text, err, want)
		}
	}
}
