package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"uakari/internal/trail"
)

// TestSchemes asks real servers their own question, in the clear and over TLS,
// and misses each of them first.
func TestSchemes(t *testing.T) {
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	leaf, key := m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"localhost"}}, m.cert, m.key)
	certificate, private := pemOf(leaf), keyPEM(t, key)
	dovecot := func(listener string, ssl string) func(dir string, port int) (string, []string) {
		return func(dir string, port int) (string, []string) {
			return fmt.Sprintf("base_dir = %[1]s/run\nstate_dir = %[1]s/state\nlog_path = %[1]s/log\nprotocols = pop3\nssl = yes\nssl_cert = <%[1]s/cert.pem\nssl_key = <%[1]s/key.pem\nmail_location = maildir:%[1]s/mail\n"+
				"passdb {\n  driver = passwd-file\n  args = %[1]s/users\n}\nuserdb {\n  driver = static\n  args = uid=mail gid=mail home=%[1]s/mail\n}\n"+
				"service pop3-login {\n  inet_listener pop3 {\n    port = 0\n  }\n  inet_listener pop3s {\n    port = 0\n  }\n  inet_listener %[2]s {\n    address = 127.0.0.1\n    port = %[3]d\n%[4]s  }\n}\n", dir, listener, port, ssl), []string{"-F", "-c", dir + "/conf"}
		}
	}
	mosquitto := func(more string) func(dir string, port int) (string, []string) {
		return func(dir string, port int) (string, []string) {
			if more != "" {
				more = fmt.Sprintf("certfile %[1]s/cert.pem\nkeyfile %[1]s/key.pem\n", dir)
			}
			return fmt.Sprintf("listener %d 127.0.0.1\nallow_anonymous true\nuser root\n%s", port, more), []string{"-c", dir + "/conf"}
		}
	}
	for _, c := range []struct {
		scheme, pkg, program string
		settings             func(dir string, port int) (conf string, args []string)
	}{
		{"rediss", "redis-server", "/usr/bin/redis-server", func(dir string, port int) (string, []string) {
			return fmt.Sprintf("bind 127.0.0.1\nport 0\ntls-port %[2]d\ntls-cert-file %[1]s/cert.pem\ntls-key-file %[1]s/key.pem\ntls-ca-cert-file %[1]s/cert.pem\ntls-auth-clients no\nsave \"\"\ndir %[1]s\n", dir, port), []string{dir + "/conf"}
		}},
		{"mqtt", "mosquitto", "/usr/sbin/mosquitto", mosquitto("")},
		{"mqtts", "mosquitto", "/usr/sbin/mosquitto", mosquitto("tls")},
		{"ftp", "vsftpd", "/usr/sbin/vsftpd", func(dir string, port int) (string, []string) {
			return fmt.Sprintf("listen=YES\nlisten_address=127.0.0.1\nlisten_port=%[2]d\nbackground=NO\nanonymous_enable=YES\nsecure_chroot_dir=%[1]s\nssl_enable=YES\nrsa_cert_file=%[1]s/cert.pem\nrsa_private_key_file=%[1]s/key.pem\n", dir, port), []string{dir + "/conf"}
		}},
		{"pop3", "dovecot-pop3d", "/usr/sbin/dovecot", dovecot("pop3", "")},
		{"pop3s", "dovecot-pop3d", "/usr/sbin/dovecot", dovecot("pop3s", "    ssl = yes\n")},
	} {
		t.Run(c.scheme, func(t *testing.T) {
			t.Parallel()
			program := needs(t, c.pkg, c.program)[0]
			dir, err := os.MkdirTemp("/var/tmp", "uakari-scheme") // its path must be short, for sockets
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { os.RemoveAll(dir) })
			if err := os.Chmod(dir, 0o755); err != nil {
				t.Fatal(err)
			}
			port := freePort(t)
			conf, args := c.settings(dir, port)
			for name, text := range map[string]string{"conf": conf, "cert.pem": certificate, "key.pem": private, "users": ""} {
				write(t, filepath.Join(dir, name), text)
			}
			if err := os.Chmod(filepath.Join(dir, "users"), 0o644); err != nil {
				t.Fatal(err)
			}
			asked := []string{"--trust", root, "--card", cardFor(t, program), fmt.Sprintf("%s://localhost:%d", c.scheme, port)}
			missed := traced(t, nil, asked...)
			if missed.Reached != trail.No || rung(missed, trail.Ports).State == trail.Clear {
				t.Errorf("nothing runs: %s", dump(missed))
			}
			start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, append([]string{program}, args...)...)
			well := traced(t, nil, asked...)
			if well.Outcome != trail.OutcomeClear || well.Reached != trail.Yes || rung(well, trail.Answer).State != trail.Clear {
				t.Errorf("it runs: %s", dump(well))
			}
			if secured := c.scheme != "mqtt"; secured && rung(well, trail.Certs).State != trail.Clear {
				t.Errorf("its session: %s", dump(well))
			}
		})
	}
}
