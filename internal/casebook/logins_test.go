package casebook

import (
	"testing"
	"time"
)

// TestLogins counts rejected tries: of this account at this server, of the last ten
// minutes, since it was accepted last.
func TestLogins(t *testing.T) {
	l, now := LoginsIn(t.TempDir()), time.Date(2026, 12, 1, 3, 0, 0, 0, time.UTC)
	check := func(account string, want int, many bool) {
		t.Helper()
		if got, tooMany, err := l.Refused("ledger:5432", account, now); got != want || tooMany != many || err != nil {
			t.Errorf("%s: %d, %v, %v; want %d, %v", account, got, tooMany, err, want, many)
		}
	}
	add := func(account string, accepted bool, ago time.Duration) {
		t.Helper()
		if err := l.Add("ledger:5432", account, accepted, now.Add(-ago)); err != nil {
			t.Fatal(err)
		}
	}
	check("gauge", 0, false)
	add("gauge", false, 11*time.Minute)
	add("gauge", false, 3*time.Minute)
	add("ana", false, 2*time.Minute)
	check("gauge", 1, false)
	add("gauge", true, time.Minute)
	check("gauge", 0, false)
	for range mostRefused {
		add("gauge", false, time.Second)
	}
	check("gauge", mostRefused, true)
	check("ana", 1, false)
}
