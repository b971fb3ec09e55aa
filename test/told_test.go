package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestToldElsewhere gives a user's own programs settings that send them to
// another place than the endpoint.
func TestToldElsewhere(t *testing.T) {
	t.Parallel()
	found := needs(t, "openssh-server openssh-client", "/usr/sbin/sshd", "/usr/bin/ssh-keygen")
	dir, port, other := shortDir(t), freePort(t), freePort(t)
	must(t, "", "mkdir", "-p", "/run/sshd", filepath.Join(dir, ".ssh"))
	must(t, "", found[1], "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "key"))
	conf := write(
		t,
		filepath.Join(dir, "conf"),
		fmt.Sprintf("Port %d\nListenAddress 127.0.0.1\nHostKey %s/key\nPidFile %s/pid\nUsePAM no\n", port, dir, dir),
	)
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, found[0], "-D", "-e", "-f", conf)
	hosts := write(t, filepath.Join(dir, "hosts"), "127.0.0.1 pier.varzea.example\n127.0.0.9 old.varzea.example\n")
	known := readFile(t, filepath.Join(dir, "key.pub"))
	write(t, filepath.Join(dir, ".ssh", "known_hosts"), fmt.Sprintf("[pier.varzea.example]:%d %s", port, known))
	for _, c := range []struct{ name, settings, want, says string }{
		{"nothing odd", "Host pier*\n  User ana\n", "", ""},
		{"of another host", fmt.Sprintf("Host ledger*\n  Port %d\n", other), "", ""},
		{"another port", fmt.Sprintf("Host pier*\n  Port %d\n", other), "settings/wrong-port proven", ".ssh/config:2"},
		{"an old host", "Host pier*\n  HostName old.varzea.example\n", "settings/wrong-host likely",
			"is a server's too"}, // every loopback address is
		{"a jump host that is gone", fmt.Sprintf("Host *\n  ProxyJump ana@old.varzea.example:%d\n", other),
			"settings/proxy-in-the-way proven", "through old.varzea.example"},
		{"the same by its address", fmt.Sprintf("Host pier*\n  HostName 127.0.0.1\n  Port %d\n", port), "", ""},
	} {
		write(t, filepath.Join(dir, ".ssh", "config"), c.settings)
		judged := traced(
			t,
			[]string{"env", "HOME=" + dir},
			"--hosts",
			hosts,
			"--card",
			cardFor(t, found[0]),
			fmt.Sprintf("ssh://pier.varzea.example:%d", port),
		)
		if c.want == "" {
			expect(t, judged)
			continue
		}
		expect(t, judged, c.want)
		if !strings.Contains(dump(judged), c.says) {
			t.Errorf("%s: it does not say %q\n%s", c.name, c.says, dump(judged))
		}
	}
	// The endpoint does not answer, and where the settings lead does.
	write(t, filepath.Join(dir, ".ssh", "config"), fmt.Sprintf("Host pier*\n  Port %d\n", port))
	judged := traced(
		t,
		[]string{"env", "HOME=" + dir},
		"--hosts",
		hosts,
		"--card",
		cardFor(t, found[0]),
		fmt.Sprintf("ssh://pier.varzea.example:%d", other),
	)
	if judged.Reached != trail.No ||
		!strings.Contains(dump(judged), "and that answers") && !strings.Contains(dump(judged), "settings/wrong-port") {
		t.Error(dump(judged))
	}
	// A database's programs, where they are not told a host.
	judged = traced(
		t,
		[]string{"env", "HOME=" + dir, "PGHOST=old.varzea.example", "PGPORT=7"},
		"--hosts",
		hosts,
		fmt.Sprintf("postgres://pier.varzea.example:%d/", port),
	)
	if text := dump(judged); !strings.Contains(text, "that are not told a host go to old.varzea.example:7") {
		t.Error(text)
	}
	if err := os.WriteFile(filepath.Join(dir, ".pg_service.conf"), []byte("[ledger]\nhost=old.varzea.example\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	judged = traced(
		t,
		[]string{"env", "HOME=" + dir, "PGSERVICE=ledger"},
		"--hosts",
		hosts,
		fmt.Sprintf("postgres://pier.varzea.example:%d/", port),
	)
	if text := dump(judged); !strings.Contains(text, ".pg_service.conf:2") {
		t.Error(text)
	}
}
