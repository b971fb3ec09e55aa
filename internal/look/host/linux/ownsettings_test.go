//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
)

// TestCalledAs ties a unit to a port by what services(5) calls that.
func TestCalledAs(t *testing.T) {
	for _, c := range []struct {
		names         []string
		unit, program string
		want          bool
	}{
		{[]string{"nbd", "disk"}, "nbd-server.service", "nbd-server", true},
		{[]string{"bacula-fd"}, "bacula-fd.service", "bacula-fd", true},
		{[]string{"tide"}, "harbour-tide-server.service", "tided", true},
		{[]string{"domain"}, "named.service", "named", false},
		{[]string{"http", "www"}, "httpd.service", "httpd", true},
		{[]string{"rsync"}, "rsyslog.service", "rsyslogd", false},
		{[]string{"ah"}, "ah-far.service", "other", false},
		{[]string{"tide"}, "tide@one.service", "gauge", true},
		{nil, "tide.service", "tide", false},
	} {
		if got := calledAs(c.names, c.unit, c.program); got != c.want {
			t.Errorf("%v, %s, %s: %v", c.names, c.unit, c.program, got)
		}
	}
}

// TestUnitEnvironment reads the variables of a unit, as its command has them.
func TestUnitEnvironment(t *testing.T) {
	dir := t.TempDir()
	own := filepath.Join(dir, "tide.table")
	given := filepath.Join(dir, "environment")
	for path, text := range map[string]string{own: "port 9102\n",
		given: "# a comment\nCONFIG=\"" + own + "\"\nOPTIONS='-v -q'\n"} {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	p := properties{"Environment": []string{"WIDE=1"}, "EnvironmentFiles": [][]any{{given, true},
		{dir + "/none", true}}}
	if got := p.environment(); got["CONFIG"] != own || got["WIDE"] != "1" || got["OPTIONS"] != "-v -q" {
		t.Errorf("%v", got)
	}
	files := settingsOfUnit("tide.service", p, []string{"/usr/sbin/tide-fd", "-c", "$CONFIG", "$OPTIONS",
		"-x=${CONFIG}"}, map[string][]string{
		"tide-fd.conf": {given}, "other.conf": {dir + "/none"},
	})
	if !slices.Equal(files, []string{own, given}) {
		t.Errorf("%v", files)
	}
}
