package test

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

const radiusSettings = `prefix = %[1]s
logdir = %[1]s
raddbdir = %[1]s
run_dir = %[1]s
hostname_lookups = no
libdir = /usr/lib/freeradius
log {
  destination = files
  file = %[1]s/radius.log
  auth = yes
}
security {
  max_attributes = 200
  reject_delay = 0
  status_server = yes
}
client stations {
  ipaddr = %[2]s
  secret = harbour9
}
modules {
  pap {
  }
  files {
    filename = %[1]s/users
  }
}
server default {
  listen {
    type = auth
    ipaddr = 10.20.0.14
    port = 1812
  }
  authorize {
    files
    pap
  }
  authenticate {
    Auth-Type PAP {
      pap
    }
  }
}
`

// TestRADIUS asks a server that checks logins for others: its status, and one account.
func TestRADIUS(t *testing.T) {
	t.Parallel()
	server := needs(t, "freeradius", "/usr/sbin/freeradius")[0]
	l := newLab(t)
	dir := t.TempDir()
	os.Chmod(dir, 0o755)
	users := write(t, filepath.Join(dir, "users"),
		"gauge Cleartext-Password := \"tide7\"\n  Reply-Message = \"up the tide\"\n")
	os.Chmod(users, 0o640)
	write(t, filepath.Join(dir, "dictionary"), "$INCLUDE /usr/share/freeradius/dictionary\n")
	run := func(client string) (stop func()) {
		os.Remove(filepath.Join(dir, "radius.log"))
		write(t, filepath.Join(dir, "radiusd.conf"), fmt.Sprintf(radiusSettings, dir, client))
		words := append(enter(l.server), server, "-f", "-d", dir)
		cmd := exec.Command(words[0], words[1:]...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		stop = func() { cmd.Process.Kill(); cmd.Wait() }
		t.Cleanup(stop)
		for range 100 {
			text, _ := os.ReadFile(filepath.Join(dir, "radius.log"))
			if strings.Contains(string(text), "Ready to process requests") {
				return stop
			}
			time.Sleep(50 * time.Millisecond)
		}
		text, _ := os.ReadFile(filepath.Join(dir, "radius.log"))
		t.Fatalf("it does not start: %s", text)
		return stop
	}
	secret := func(name, value string) string { return "file:" + write(t, filepath.Join(t.TempDir(), name), value) }
	shared, wrong, own, other := secret("shared", "harbour9"), secret("wrong", "pier"), secret("own", "tide7"),
		secret("other", "ebb")
	const endpoint = "radius://10.20.0.14"
	for name, c := range map[string]struct {
		client string // that the server knows
		flags  []string
		want   []string
		holds  string
	}{
		"its status": {"10.20.7.31", []string{"--shared-secret", shared}, nil, "the status of 10.20.0.14:1812"},
		"an account": {"10.20.7.31", []string{"--shared-secret", shared, "--user", "gauge", "--secret", own}, nil,
			"gauge is accepted, by PAP"},
		"its secret is wrong": {"10.20.7.31", []string{"--shared-secret", shared, "--user", "gauge", "--secret",
			other},
			[]string{"login/wrong-secret"}, "does not match"},
		"nothing is shared": {"10.20.7.31", []string{"--user", "gauge", "--secret", own}, nil, "--shared-secret"},
		"another is shared": {"10.20.7.31", []string{"--shared-secret", wrong}, []string{"login/wrong-secret"},
			"Shared secret is incorrect"},
		"it does not know the client": {"10.20.7.99", []string{"--shared-secret", shared},
			[]string{"rules/not-on-list"}, "unknown client"},
	} {
		t.Run(name, func(t *testing.T) {
			stop := run(c.client)
			defer stop()
			judged := traced(t, enter(l.client),
				append(append([]string{"--wait", "2s", "--in", "server=" + l.server}, c.flags...), endpoint)...)
			list := judged.Blocking()
			if len(c.want) == 0 && len(list) > 0 && list[0].Certainty != trail.Possible ||
				len(c.want) > 0 && (len(list) != 1 || list[0].ID != c.want[0] || list[0].Certainty == trail.Possible) {
				t.Errorf("want %v\n%s", c.want, dump(judged))
			}
			if all, err := json.Marshal(judged); err != nil || !strings.Contains(string(all), c.holds) {
				t.Errorf("it does not say %q, %v\n%s", c.holds, err, dump(judged))
			}
			for _, canary := range []string{"harbour9", "tide7"} {
				if text, err := json.Marshal(judged); err != nil || strings.Contains(string(text), canary) {
					t.Errorf("%v, %q is in what it says", err, canary)
				}
			}
		})
	}
}
