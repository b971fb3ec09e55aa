package test

import (
	"path/filepath"
	"strings"
	"testing"
)

// TestLoginReasons lets a real sshd refuse accounts, each for its own reason,
// which only its log tells.
func TestLoginReasons(t *testing.T) {
	h, key := sshHost(t)
	h.do("useradd -m -s /bin/sh gauge; echo gauge:tide7 | chpasswd; useradd -m -s /bin/sh ended; echo ended:tide7 | chpasswd; usermod -e 2020-01-01 ended; " +
		"useradd -m -s /bin/sh barred; echo barred:tide7 | chpasswd; printf 'PasswordAuthentication yes\\nKbdInteractiveAuthentication no\\nUsePAM yes\\nDenyUsers barred\\n' > /etc/ssh/sshd_config.d/x.conf; systemctl restart ssh; sleep 1")
	right := write(t, filepath.Join(t.TempDir(), "right"), "tide7")
	wrong := write(t, filepath.Join(t.TempDir(), "wrong"), "canary-7f3a")
	for _, c := range []struct{ user, secret, want string }{
		{"gauge", right, ""},
		{"gauge", wrong, "login/wrong-secret likely"},
		{"nobody-here", wrong, "login/unknown-account proven"},
		{"ended", right, "login/account-expired proven"},
		{"barred", right, "login/no-right proven"},
	} {
		h.t = t
		// The looks log in with the key, the one try with the password.
		judged := traced(t, enter(h.client), "--at", "root@10.20.0.14", "--identity", key, "--user", c.user, "--secret", "file:"+c.secret, "ssh://10.20.0.14")
		if c.want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, c.want)
		}
		if strings.Contains(dump(judged), "canary-7f3a") {
			t.Error("the secret is told")
		}
	}
}
