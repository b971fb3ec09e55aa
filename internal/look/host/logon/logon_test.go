package logon

import (
	"testing"
	"time"

	"uakari/internal/fact"
)

// TestFill tells states apart, from values of the documented form; none was taken from a
// real system.
func TestFill(t *testing.T) {
	const end = 1764111600 // 2025-11-25 23:00 UTC
	for _, c := range []struct {
		name string
		s    State
		want func(fact.Account) bool
	}{
		{"well", State{Flags: 0x201, Ends: Never, Whole: true}, func(a fact.Account) bool {
			return a.Known && a.Shadow && !a.Locked && !a.Disabled && a.Ends.IsZero() && !a.MustChange
		}},
		{"disabled", State{Flags: 0x203, Ends: Never}, func(a fact.Account) bool { return a.Disabled && !a.Locked }},
		{"locked", State{Flags: 0x211, Ends: Never}, func(a fact.Account) bool { return a.Locked }},
		{"ended", State{Flags: 0x201, Ends: end, Whole: true},
			func(a fact.Account) bool { return a.Ends.Equal(time.Unix(end, 0)) }},
		{"must change", State{Flags: 0x201, Ends: Never, Expired: 1, Whole: true},
			func(a fact.Account) bool { return a.MustChange }},
		{"of a system that says less", State{Flags: 0x201, Ends: end, Expired: 1},
			func(a fact.Account) bool { return a.Ends.IsZero() && !a.MustChange }},
	} {
		var a fact.Account
		if c.s.Fill(&a); !c.want(a) {
			t.Errorf("%s: %+v", c.name, a)
		}
	}
}

// TestLocal tells accounts of this host from those that others keep.
func TestLocal(t *testing.T) {
	for account, want := range map[string]bool{
		"gauge": true, `.\gauge`: true, `TIDEBOOK\gauge`: true, `VARZEA\gauge`: false, `\gauge`: false,
	} {
		if name, ours := Local(account, "tidebook"); name != "gauge" || ours != want {
			t.Errorf("%s: %s, %v", account, name, ours)
		}
	}
}
