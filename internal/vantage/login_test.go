package vantage

import (
	"strings"
	"testing"
)

// TestJumpsSeeNoSecret gives the secret and the key to the last host alone.
func TestJumpsSeeNoSecret(t *testing.T) {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("USERPROFILE", t.TempDir())
	t.Setenv("SSH_AUTH_SOCK", "")
	for _, c := range []struct {
		login Login
		last  bool
		ways  int
		want  string // the error, where there is no way
	}{
		{Login{Secret: "Slackwater-5"}, true, 1, ""},
		{Login{Secret: "Slackwater-5"}, false, 0, "nothing to log in with on the way"},
		{Login{}, true, 0, "nothing to log in with: "},
		{Login{Identity: "/nowhere/key"}, true, 0, "/nowhere/key"},
		{Login{Identity: "/nowhere/key"}, false, 0, "nothing to log in with on the way"},
	} {
		s := &SSH{login: c.login}
		config, done, err := s.config(t.Context(), place{alias: "ledger", user: "ana"}, c.last)
		done()
		switch {
		case c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%+v, last %v: %v; expected %q", c.login, c.last, err, c.want)
		case c.want == "" && (err != nil || len(config.Auth) != c.ways):
			t.Errorf("%+v, last %v: %v", c.login, c.last, err)
		}
	}
}
