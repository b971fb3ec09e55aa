package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/program"
)

// TestHBAFirst is which line of PostgreSQL's list decides over an account.
func TestHBAFirst(t *testing.T) {
	const list = `# kept by the office
local all all peer
hostssl tides heron 10.20.0.0/16 cert
host "tides",floods gauge 10.20.7.0/24 scram-sha-256 # the stations
host all gauge 10.20.7.0 255.255.255.0 md5
host all all 10.20.9.9 reject
host all +crew 10.20.0.0/16 md5
host all all all trust`
	file := &fact.AccessFile{}
	for i, line := range strings.Split(list, "\n") {
		file.Lines = append(file.Lines, fact.Line{Number: i + 1, Text: line})
	}
	for _, c := range []struct {
		database, account, source string
		encrypted                 bool
		line                      int // 0: it cannot be told
	}{
		{"tides", "gauge", "10.20.7.31", false, 4}, {"rain", "gauge", "10.20.7.31", false, 5},
		{"rain", "gauge", "10.20.9.9", false, 6},
		{"tides", "heron", "10.20.7.31", true, 3}, {"tides", "heron", "10.20.7.31", false, 0},
		{"rain", "ana", "192.0.2.1", false, 8}, {"rain", "ana", "10.20.1.1", false, 0},
	} {
		lines, ok := program.HBALines(file, c.encrypted)
		if !ok {
			t.Fatal("the list is not read")
		}
		got, found := program.HBAFirst(lines, c.database, c.account, netip.MustParseAddr(c.source))
		if found != (c.line != 0) || got.Number != c.line {
			t.Errorf("%+v: line %d, %v", c, got.Number, found)
		}
	}
	if _, ok := program.HBALines(&fact.AccessFile{Lines: []fact.Line{{Number: 1, Text: "include more.conf"}}},
		false); ok {
		t.Error("what is included elsewhere is passed over")
	}
}
