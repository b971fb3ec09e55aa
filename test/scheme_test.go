package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// TestSchemes asks real servers their own question, in the clear and over TLS,
// and misses each of them first.
func TestSchemes(t *testing.T) {
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"localhost"}},
		m.cert,
		m.key,
	)
	certificate, private := pemOf(leaf), keyPEM(t, key)
	dovecot := func(listener string, ssl string) func(dir string, port int) (string, []string) {
		return func(dir string, port int) (string, []string) {
			return fmt.Sprintf(
					"base_dir = %[1]s/run\nstate_dir = %[1]s/state\nlog_path = %[1]s/log\nprotocols = pop3\nssl = "+
						"yes\nssl_cert = <%[1]s/cert.pem\nssl_key = <%[1]s/key.pem\nmail_location = "+
						"maildir:%[1]s/mail\n"+
						"passdb {\n  driver = passwd-file\n  args = %[1]s/users\n}\nuserdb {\n  driver = static\n  "+
						"args = uid=nobody gid=nogroup home=%[1]s/mail\n}\n"+
						"service pop3-login {\n  inet_listener pop3 {\n    port = 0\n  }\n  inet_listener pop3s {\n "+
						"   port = 0\n  }\n  inet_listener %[2]s {\n    address = 127.0.0.1\n    port = "+
						"%[3]d\n%[4]s  }\n}\n",
					dir,
					listener,
					port,
					ssl,
				), []string{
					"-F",
					"-c",
					dir + "/conf",
				}
		}
	}
	mosquitto := func(more string) func(dir string, port int) (string, []string) {
		return func(dir string, port int) (string, []string) {
			if more != "" {
				more = fmt.Sprintf("certfile %[1]s/cert.pem\nkeyfile %[1]s/key.pem\n", dir)
			}
			tool := needs(t, "mosquitto", "/usr/bin/mosquitto_passwd")[0]
			must(t, "", tool, "-b", "-c", dir+"/accounts", "gauge", "tide7")
			return fmt.Sprintf(
					"listener %d 127.0.0.1\nallow_anonymous true\npassword_file %s/accounts\nuser root\n%s",
					port,
					dir,
					more,
				), []string{
					"-c",
					dir + "/conf",
				}
		}
	}
	for _, c := range []struct {
		scheme, pkg, program string
		settings             func(dir string, port int) (conf string, args []string)
		// account is one that has the secret tide7; "": the server keeps none.
		account string
	}{
		{"rediss", "redis-server", "/usr/bin/redis-server", func(dir string, port int) (string, []string) {
			return fmt.Sprintf("bind 127.0.0.1\nport 0\ntls-port %[2]d\ntls-cert-file %[1]s/cert.pem\ntls-key-file "+
				"%[1]s/key.pem\ntls-ca-cert-file %[1]s/cert.pem\ntls-auth-clients no\nsave \"\"\ndir %[1]s\n", dir,
				port), []string{dir + "/conf"}
		}, ""},
		{"mqtt", "mosquitto", "/usr/sbin/mosquitto", mosquitto(""), "gauge"},
		{"mqtts", "mosquitto", "/usr/sbin/mosquitto", mosquitto("tls"), "gauge"},
		{"ftp", "vsftpd", "/usr/sbin/vsftpd", func(dir string, port int) (string, []string) {
			return fmt.Sprintf("listen=YES\nlisten_address=127.0.0.1\nlisten_port=%[2]d\nbackground=NO\nanonymous_enable=YES\nsecure_chroot_dir=%[1]s\nssl_enable=YES\nallow_anon_ssl=YES\nrsa_cert_file=%[1]s/cert.pem\nrsa_private_key_file=%[1]s/key.pem\n", dir, port), []string{dir + "/conf"}
		}, "anonymous"},
		{"pop3", "dovecot-pop3d", "/usr/sbin/dovecot", dovecot("pop3", ""), "gauge"},
		{"pop3s", "dovecot-pop3d", "/usr/sbin/dovecot", dovecot("pop3s", "    ssl = yes\n"), "gauge"},
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
			for name, text := range map[string]string{"conf": conf, "cert.pem": certificate, "key.pem": private,
				"users": "gauge:{PLAIN}tide7:::::\n"} {
				write(t, filepath.Join(dir, name), text)
			}
			if err := os.Chmod(filepath.Join(dir, "users"), 0o644); err != nil {
				t.Fatal(err)
			}
			asked := []string{"--trust", root, "--card", cardFor(t, program),
				fmt.Sprintf("%s://localhost:%d", c.scheme, port)}
			missed := traced(t, nil, asked...)
			if missed.Reached != trail.No || rung(missed, trail.Ports).State == trail.Clear {
				t.Errorf("nothing runs: %s", dump(missed))
			}
			if err := errors.Join(os.Mkdir(filepath.Join(dir, "mail"), 0o777),
				os.Chmod(filepath.Join(dir, "mail"), 0o777)); err != nil {
				t.Fatal(err)
			}
			start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, append([]string{program}, args...)...)
			well := traced(t, nil, asked...)
			if well.Outcome != trail.OutcomeClear || well.Reached != trail.Yes ||
				rung(well, trail.Answer).State != trail.Clear {
				t.Errorf("it runs: %s", dump(well))
			}
			if secured := c.scheme != "mqtt"; secured && rung(well, trail.Certs).State != trail.Clear {
				t.Errorf("its session: %s", dump(well))
			}
			if c.account == "" {
				return
			}
			right, wrong := write(t, filepath.Join(dir, "right"), "tide7"),
				write(t, filepath.Join(dir, "wrong"), "canary-7f3a")
			asked = append(asked, "--in-the-clear")
			let := traced(t, nil, append(asked, "--user", c.account, "--secret", "file:"+right)...)
			if let.Outcome != trail.OutcomeClear || rung(let, trail.Login).State != trail.Clear {
				t.Errorf("the right secret: %s", dump(let))
			}
			other := c.account
			if other == "anonymous" { // whose secret is any
				other = "nobody-here"
			}
			kept := traced(t, nil, append(asked, "--user", other, "--secret", "file:"+wrong)...)
			if kept.Outcome != trail.OutcomeFault || rung(kept, trail.Login).State != trail.Fault ||
				strings.Contains(dump(kept), "canary") {
				t.Errorf("the wrong secret: %s", dump(kept))
			}
		})
	}
}

// TestScreensProxiesAndHealth asks real servers of three protocols, and signs
// in where they take an account.
func TestScreensProxiesAndHealth(t *testing.T) {
	t.Parallel()
	dir := shortDir(t)
	right, wrong := write(t, filepath.Join(dir, "right"), "tide7"), write(t, filepath.Join(dir, "wrong"), "canary")
	check := func(want string, outcome trail.Outcome, args ...string) {
		t.Helper()
		judged := traced(t, nil, args...)
		var list []string
		if want != "" {
			list = []string{want}
		}
		expect(t, judged, list...)
		if judged.Outcome != outcome {
			t.Errorf("outcome %s, want %s\n%s", judged.Outcome, outcome, dump(judged))
		}
	}

	screens := needs(t, "tigervnc-standalone-server tigervnc-tools", "/usr/bin/Xtigervnc", "/usr/bin/vncpasswd")
	out := must(t, "tide7\n", screens[1], "-f")
	shown, secret := freePort(t), write(t, filepath.Join(dir, "secret"), out)
	start(
		t,
		fmt.Sprintf("127.0.0.1:%d", shown),
		nil,
		screens[0],
		fmt.Sprintf(":%d", shown),
		"-rfbport",
		fmt.Sprint(shown),
		"-localhost",
		"-PasswordFile",
		secret,
		"-SecurityTypes",
		"VncAuth",
		"-geometry",
		"320x200",
		"-depth",
		"24",
		"-nolisten",
		"unix",
	)
	screen := fmt.Sprintf("vnc://127.0.0.1:%d", shown)
	check("", trail.OutcomeClear, screen)
	check("", trail.OutcomeClear, "--secret", "file:"+right, screen)
	check("login/rejected likely", trail.OutcomeFault, "--secret", "file:"+wrong, screen)

	store := needs(t, "etcd-server", "/usr/bin/etcd")[0]
	client, peer := freePort(t), freePort(t)
	start(
		t,
		fmt.Sprintf("127.0.0.1:%d", client),
		nil,
		store,
		"--data-dir",
		filepath.Join(dir, "etcd"),
		"--listen-client-urls",
		fmt.Sprintf("http://127.0.0.1:%d", client),
		"--advertise-client-urls",
		fmt.Sprintf("http://127.0.0.1:%d", client),
		"--listen-peer-urls",
		fmt.Sprintf("http://127.0.0.1:%d", peer),
		"--initial-advertise-peer-urls",
		fmt.Sprintf("http://127.0.0.1:%d", peer),
		"--initial-cluster",
		fmt.Sprintf("default=http://127.0.0.1:%d", peer),
	)
	time.Sleep(time.Second)
	check("", trail.OutcomeClear, fmt.Sprintf("grpc://127.0.0.1:%d", client))
	check("answer/error-status proven", trail.OutcomeFault, fmt.Sprintf("grpc://127.0.0.1:%d/tides.Readings", client))

	gateway := needs(t, "tinyproxy-bin", "/usr/bin/tinyproxy")[0]
	for _, account := range []string{"", "BasicAuth gauge tide7\n"} {
		port := freePort(t)
		conf := write(
			t,
			filepath.Join(dir, "proxy.conf"),
			fmt.Sprintf(
				"Port %d\nListen 127.0.0.1\nTimeout 5\nLogFile \"%s/proxy.log\"\nAllow 127.0.0.1\nConnectPort %d\n%s",
				port,
				dir,
				shown,
				account,
			),
		)
		start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, gateway, "-d", "-c", conf)
		through := fmt.Sprintf("proxy://127.0.0.1:%d/127.0.0.1:%d", port, shown)
		if account != "" {
			check("", trail.OutcomeClear, "--in-the-clear", "--user", "gauge", "--secret", "file:"+right, through)
			check(
				"login/rejected likely",
				trail.OutcomeFault,
				"--in-the-clear",
				"--user",
				"gauge",
				"--secret",
				"file:"+wrong,
				through,
			)
			continue
		}
		check("", trail.OutcomeClear, through)
		check(
			"answer/source-refused proven",
			trail.OutcomeFault,
			fmt.Sprintf("proxy://127.0.0.1:%d/127.0.0.1:%d", port, client),
		)
	}
}
