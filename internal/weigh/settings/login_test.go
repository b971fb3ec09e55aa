package settings

import (
	"testing"
)

// TestExcepted is the list of hosts that a proxy is not used for.
func TestExcepted(t *testing.T) {
	for _, c := range []struct {
		list, host string
		want       bool
	}{
		{"", "tidebook.varzea.example", false}, {"*", "tidebook.varzea.example", true},
		{"varzea.example", "tidebook.varzea.example", true},
		{".varzea.example", "tidebook.varzea.example", true}, {"*.varzea.example", "tidebook.varzea.example", true},
		{"zea.example", "tidebook.varzea.example", false},
		{"tidebook.varzea.example:443", "tidebook.varzea.example", true},
		{"tidebook.varzea.example:80", "tidebook.varzea.example", false},
		{"localhost, VARZEA.example.", "tidebook.varzea.example.", true}, {"10.20.0.0/16", "10.20.0.14", true},
		{"10.20.0.14", "10.20.0.14", true}, {"10.20.0.1", "10.20.0.14", false},
		{"[2001:db8::1]", "2001:db8::1", true}, {"varzea.example", "10.20.0.14", false},
	} {
		if got := excepted(c.list, c.host, 443); got != c.want {
			t.Errorf("%q, %s: %v", c.list, c.host, got)
		}
	}
}
