package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// tlsServer is a real server that speaks TLS, and how it is started with a
// certificate in a folder: cert.pem, the leaf and what follows it, and key.pem.
type tlsServer struct {
	name, pkg, scheme string
	programs          []string
	start             func(t *testing.T, programs []string, dir string, port int)
}

var tlsServers = []tlsServer{
	{
		"nginx",
		"nginx-light",
		"https",
		[]string{"/usr/sbin/nginx"},
		func(t *testing.T, p []string, dir string, port int) { secureWeb(t, p[0], dir, port, "") },
	},
	{
		"OpenLDAP",
		"slapd",
		"ldap+starttls",
		[]string{"/usr/sbin/slapd"},
		func(t *testing.T, p []string, dir string, port int) {
			conf := write(
				t,
				filepath.Join(dir, "slapd.conf"),
				fmt.Sprintf(
					"include /etc/ldap/schema/core.schema\npidfile %[1]s/pid\nTLSCertificateFile "+
						"%[1]s/cert.pem\nTLSCertificateKeyFile %[1]s/key.pem\nTLSCACertificateFile %[1]s/cert.pem\n",
					dir,
				),
			)
			start(
				t,
				fmt.Sprintf("127.0.0.1:%d", port),
				nil,
				p[0],
				"-d",
				"0",
				"-f",
				conf,
				"-h",
				fmt.Sprintf("ldap://127.0.0.1:%d", port),
			)
		},
	},
	{
		"Dovecot",
		"dovecot-imapd",
		"imap+starttls",
		[]string{"/usr/sbin/dovecot"},
		func(t *testing.T, p []string, dir string, port int) {
			conf := write(
				t,
				filepath.Join(dir, "conf"),
				fmt.Sprintf(
					"base_dir = %[1]s/run\nstate_dir = %[1]s/state\nlog_path = %[1]s/log\nprotocols = imap\nssl = "+
						"yes\nssl_cert = <%[1]s/cert.pem\nssl_key = <%[1]s/key.pem\nmail_location = "+
						"maildir:%[1]s/mail\n"+
						"passdb {\n  driver = passwd-file\n  args = %[1]s/users\n}\nuserdb {\n  driver = static\n  "+
						"args = uid=mail gid=mail home=%[1]s/mail\n}\n"+
						"service imap-login {\n  inet_listener imap {\n    address = 127.0.0.1\n    port = %[2]d\n  "+
						"}\n  inet_listener imaps {\n    port = 0\n  }\n}\n",
					dir,
					port,
				),
			)
			if err := os.Chmod(write(t, filepath.Join(dir, "users"), ""), 0o644); err != nil {
				t.Fatal(err)
			}
			start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, p[0], "-F", "-c", conf)
		},
	},
	{
		"Postfix",
		"postfix",
		"submission",
		[]string{"/usr/sbin/postfix", "/usr/lib/postfix/sbin/master"},
		func(t *testing.T, p []string, dir string, port int) {
			postfix(
				t,
				p,
				dir,
				port,
				fmt.Sprintf("smtpd_tls_security_level = may\nsmtpd_tls_chain_files = %[1]s/key.pem, %[1]s/cert.pem\n",
					dir),
			)
		},
	},
	{
		"Postfix over TLS",
		"postfix",
		"smtps",
		[]string{"/usr/sbin/postfix", "/usr/lib/postfix/sbin/master"},
		func(t *testing.T, p []string, dir string, port int) {
			postfix(
				t,
				p,
				dir,
				port,
				fmt.Sprintf("smtpd_tls_wrappermode = yes\nsmtpd_tls_chain_files = %[1]s/key.pem, %[1]s/cert.pem\n",
					dir),
			)
		},
	},
	{
		"PostgreSQL",
		"postgresql",
		"postgres",
		[]string{"/usr/lib/postgresql/*/bin/initdb", "/usr/lib/postgresql/*/bin/postgres", "/usr/bin/setpriv"},
		func(t *testing.T, p []string, dir string, port int) {
			asPostgres := func(words ...string) []string {
				return append([]string{p[2], "--reuid", "postgres", "--regid", "postgres", "--clear-groups"}, words...)
			}
			data := filepath.Join(dir, "data")
			for _, words := range [][]string{{"mkdir", data}, {"chown", "-R", "postgres", dir},
				asPostgres(p[0], "-D", data, "--no-sync")} {
				if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
					t.Fatalf("%v: %v: %s", words, err, out)
				}
			}
			words := asPostgres(
				p[1],
				"-D",
				data,
				"-p",
				fmt.Sprint(port),
				"-k",
				dir,
				"-c",
				"ssl=on",
				"-c",
				"ssl_cert_file="+dir+"/cert.pem",
				"-c",
				"ssl_key_file="+dir+"/key.pem",
			)
			start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, words...)
		},
	},
	{
		"MariaDB",
		"mariadb-server",
		"mysql",
		[]string{"/usr/sbin/mariadbd", "/usr/bin/mariadb-install-db"},
		func(t *testing.T, p []string, dir string, port int) {
			conf := write(
				t,
				filepath.Join(dir, "my.cnf"),
				fmt.Sprintf(
					"[mysqld]\nuser=root\ndatadir=%[1]s/data\nsocket=%[1]s/s\nport=%[2]d\nbind-address=127.0.0.1\npid-file=%[1]s/pid\nlog_error=%[1]s/error.log\nssl_cert=%[1]s/cert.pem\nssl_key=%[1]s/key.pem\n",
					dir,
					port,
				),
			)
			if out, err := exec.Command(p[1], "--defaults-file="+conf, "--datadir="+dir+"/data",
				"--auth-root-authentication-method=normal", "--skip-test-db").CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
			start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, p[0], "--defaults-file="+conf)
		},
	},
}

// secureWeb runs a web server with the certificate of a folder, and more
// settings.
func secureWeb(t *testing.T, nginx, dir string, port int, settings string) {
	t.Helper()
	secureWebAs(t, nil, nginx, dir, port, settings)
}

// secureWebAs does so with words before its command.
func secureWebAs(t *testing.T, before []string, nginx, dir string, port int, settings string) {
	t.Helper()
	conf := webSettings(
		t,
		dir,
		fmt.Sprintf(
			"server { listen 127.0.0.1:%[2]d ssl; ssl_certificate %[1]s/cert.pem; ssl_certificate_key "+
				"%[1]s/key.pem; %[3]s return 200; }",
			dir,
			port,
			settings,
		),
	)
	start(t, fmt.Sprintf("127.0.0.1:%d", port), before, nginx, "-p", dir, "-c", conf)
}

// webSettings writes what a web server of its own needs, with its sites.
func webSettings(t *testing.T, dir, sites string) string {
	t.Helper()
	return write(
		t,
		filepath.Join(dir, "conf"),
		fmt.Sprintf(`daemon off; user root; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
%[2]s
}`, dir, sites),
	)
}

// postfix runs a mail relay in a folder, with more settings.
func postfix(t *testing.T, p []string, dir string, port int, settings string) {
	t.Helper()
	for _, sub := range []string{"spool", "data"} {
		if err := os.MkdirAll(filepath.Join(dir, sub), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if out, err := exec.Command("chown", "postfix", filepath.Join(dir, "data")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	write(
		t,
		filepath.Join(dir, "master.cf"),
		fmt.Sprintf(
			"127.0.0.1:%d inet n - n - - smtpd\ntlsmgr unix - - n 1000? 1 tlsmgr\ncleanup unix n - n - 0 "+
				"cleanup\nrewrite unix - - n - - trivial-rewrite\nanvil unix - - n - 1 anvil\nproxymap unix - - n - "+
				"- proxymap\npostlog unix-dgram n - n - 1 postlogd\n",
			port,
		),
	)
	write(
		t,
		filepath.Join(dir, "main.cf"),
		fmt.Sprintf(
			"compatibility_level = 3.6\nqueue_directory = %[1]s/spool\ndata_directory = "+
				"%[1]s/data\nmaillog_file_prefixes = /var\nmaillog_file = %[1]s/log\nmyhostname = "+
				"tidebook.varzea.example\nmydestination =\ninet_interfaces = 127.0.0.1\n"+
				"local_recipient_maps =\nalias_maps =\nalias_database =\n",
			dir,
		)+settings,
	)
	// It makes its own folders; what it thinks of their owners does not matter.
	exec.Command(p[0], "-c", dir, "check").Run()
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, p[1], "-c", dir, "-d")
	t.Cleanup(func() { exec.Command(p[0], "-c", dir, "abort").Run() }) // with all that it started
}

// TestCertificatesOfServers gives every real server certificates with faults,
// and sees each of them from the client alone.
func TestCertificatesOfServers(t *testing.T) {
	m := newMaker(t)
	other := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	middle, middleKey := m.sign(
		&x509.Certificate{
			Subject:               pkix.Name{CommonName: "Varzea Issuing"},
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign,
		},
		m.cert,
		m.key,
	)
	leaf := func(edit func(*x509.Certificate)) *x509.Certificate {
		c := &x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"localhost"}}
		if edit != nil {
			edit(c)
		}
		return c
	}
	for _, server := range tlsServers {
		t.Run(server.name, func(t *testing.T) {
			t.Parallel()
			programs := needs(t, server.pkg, server.programs...)
			for _, c := range []struct {
				fault string
				make  func() (chain, key string)
				want  []string
			}{
				{"none", func() (string, string) {
					cert, key := m.sign(leaf(nil), middle, middleKey)
					return pemOf(cert, middle), keyPEM(t, key)
				}, nil},
				{"expired, for another name, and alone", func() (string, string) {
					cert, key := m.sign(leaf(func(c *x509.Certificate) {
						c.DNSNames = []string{"ledger.varzea.example"}
						c.NotBefore, c.NotAfter = time.Now().Add(-48*time.Hour), time.Now().Add(-time.Hour)
					}), middle, middleKey)
					return pemOf(cert), keyPEM(t, key)
				}, []string{"certs/expired proven", "certs/missing-intermediate proven",
					"certs/name-not-covered proven"}},
				{"of another authority", func() (string, string) {
					cert, key := other.sign(leaf(nil), other.cert, other.key)
					return pemOf(cert, other.cert), keyPEM(t, key)
				}, []string{"certs/unknown-issuer proven"}},
			} {
				dir, err := os.MkdirTemp("/var/tmp", "uakari-tls") // its path must be short, for sockets
				if err != nil {
					t.Fatal(err)
				}
				t.Cleanup(func() { os.RemoveAll(dir) })
				if err := os.Chmod(dir, 0o755); err != nil {
					t.Fatal(err)
				}
				chain, key := c.make()
				write(t, filepath.Join(dir, "cert.pem"), chain)
				if err := os.Chmod(write(t, filepath.Join(dir, "key.pem"), key), 0o600); err != nil {
					t.Fatal(err)
				}
				port := freePort(t)
				server.start(t, programs, dir, port)
				endpoint := fmt.Sprintf("%s://localhost:%d", server.scheme, port)
				endpoint += map[string]string{"postgres": "/tides?sslmode=verify-full",
					"mysql": "/?ssl-mode=VERIFY_IDENTITY"}[server.scheme]
				judged := traced(
					t,
					nil,
					"--hosts",
					write(t, filepath.Join(dir, "hosts"), "127.0.0.1 localhost\n"),
					"--trust",
					root,
					endpoint,
				)
				var have []string
				for _, cause := range judged.Causes {
					if strings.HasPrefix(cause.ID, "certs/") {
						have = append(have, cause.ID+" "+string(cause.Certainty))
					}
				}
				for _, want := range c.want {
					if !strings.Contains(strings.Join(have, ", "), want) {
						t.Errorf("%s: %q lacks %q\n%s", c.fault, have, want, dump(judged))
					}
				}
				if c.want == nil && (len(have) > 0 || rung(judged, trail.Certs).State != trail.Clear) {
					t.Errorf("%s: %q\n%s", c.fault, have, dump(judged))
				}
			}
		})
	}
}

// TestVersions gives a real web server versions and suites that few clients
// have, or all.
func TestVersions(t *testing.T) {
	t.Parallel()
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"localhost"}},
		m.cert,
		m.key,
	)
	for _, c := range []struct{ name, settings, want, says string }{
		{"new only", "ssl_protocols TLSv1.3;", "", "TLS 1.3"},
		{"old only", "ssl_protocols TLSv1; ssl_ciphers ALL:@SECLEVEL=0;", "certs/no-common-version likely",
			"speaks TLS 1.0 at most"},
		{"a suite that few have", "ssl_protocols TLSv1.2; ssl_ciphers ECDHE-ECDSA-AES128-CCM;",
			"certs/no-common-cipher likely", "takes TLS 1.2 with TLS_ECDHE_ECDSA_WITH_AES_128_CCM"},
		{"nothing is encrypted", "ssl_protocols TLSv1.2; ssl_ciphers ECDHE-ECDSA-NULL-SHA:@SECLEVEL=0;",
			"certs/no-common-cipher likely", "takes TLS 1.2 with TLS_ECDHE_ECDSA_WITH_NULL_SHA"},
		{"no site for this name", "ssl_reject_handshake on;", "certs/wrong-default likely", "alert 112"},
	} {
		dir := t.TempDir()
		port := freePort(t)
		write(t, filepath.Join(dir, "cert.pem"), pemOf(leaf))
		write(t, filepath.Join(dir, "key.pem"), keyPEM(t, key))
		secureWeb(t, nginx, dir, port, c.settings)
		judged := traced(t, nil, "--trust", root, "--card", cardFor(t, nginx),
			fmt.Sprintf("https://localhost:%d/", port))
		if c.want == "" {
			if judged.Outcome != trail.OutcomeClear {
				t.Errorf("%s: %s", c.name, dump(judged))
			}
			continue
		}
		expect(t, judged, c.want)
		if !strings.Contains(dump(judged), c.says) {
			t.Errorf("%s: it does not say %q\n%s", c.name, c.says, dump(judged))
		}
	}
}

// TestPolicies gives the client's own library settings of its own: what this
// program speaks does not count.
func TestPolicies(t *testing.T) {
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	openssl := needs(t, "openssl", "/usr/bin/openssl")[0]
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"localhost"}},
		m.cert,
		m.key,
	)
	for _, c := range []struct {
		name, server, client string
		want                 string // with the client's program known; else it is likely
		doubt                bool
	}{
		{"nothing odd", "", "", "", false},
		{"the client wants 1.3", "ssl_protocols TLSv1.2;", "MinProtocol = TLSv1.3", "certs/no-common-version proven",
			false},
		{"the client has 1.2 at most", "ssl_protocols TLSv1.3;", "MaxProtocol = TLSv1.2",
			"certs/no-common-version proven", false},
		{"the client has 1.2 at most, and the server both", "ssl_protocols TLSv1.2 TLSv1.3;", "MaxProtocol = TLSv1.2",
			"", false},
		{"no suite of the client's", "ssl_protocols TLSv1.2; ssl_ciphers ECDHE-ECDSA-AES128-GCM-SHA256;",
			"CipherString = AES256+AESGCM", "certs/no-common-cipher proven", false},
		{"a suite that only the client has", "ssl_protocols TLSv1.2; ssl_ciphers ECDHE-ECDSA-AES256-SHA384;", "",
			"certs/no-common-cipher proven", true},
		{"keys that are short for the client", "", "CipherString = DEFAULT@SECLEVEL=4", "certs/weak proven", false},
		{"an old server, and an old client", "ssl_protocols TLSv1; ssl_ciphers ALL:@SECLEVEL=0;",
			"MinProtocol = TLSv1\nCipherString = DEFAULT@SECLEVEL=0", "", false},
	} {
		dir, port := t.TempDir(), freePort(t)
		write(t, filepath.Join(dir, "cert.pem"), pemOf(leaf))
		write(t, filepath.Join(dir, "key.pem"), keyPEM(t, key))
		secureWeb(t, nginx, dir, port, c.server)
		conf := write(
			t,
			filepath.Join(dir, "openssl.cnf"),
			"openssl_conf = all\n[all]\nssl_conf = ssl\n[ssl]\nsystem_default = every\n[every]\n"+c.client+"\n",
		)
		t.Setenv("OPENSSL_CONF", conf)
		// The client's own library is the judge.
		_, failed := exec.Command(openssl, "s_client", "-connect", fmt.Sprintf("127.0.0.1:%d", port), "-CAfile", root,
			"-verify_return_error", "-brief").
			Output()
		if well := c.want == "" || c.doubt; well != (failed == nil) {
			t.Errorf("%s: its own library says %v", c.name, failed)
		}
		for _, program := range []string{openssl, ""} {
			card := cardFor(t, nginx)
			if program != "" {
				card = write(t, filepath.Join(dir, "card.yaml"), readFile(t, card)+"client-program: "+program+"\n")
			}
			judged := traced(t, nil, "--trust", root, "--card", card, fmt.Sprintf("https://localhost:%d/", port))
			want := c.want
			if program == "" {
				want = strings.Replace(want, "proven", "likely", 1)
			}
			switch {
			case want == "":
				expectHealthy(t, judged)
			case c.doubt:
				if !strings.Contains(dump(judged), "certs/no-common-cipher") || judged.Reached == trail.No {
					t.Errorf("%s: %s", c.name, dump(judged))
				}
			default:
				expect(t, judged, want)
			}
		}
	}
}
