package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// clientCerts is certificates that a client may present, each in a file with
// its key: CERT,KEY.
type clientCerts struct {
	m                            *maker
	good, stranger, expired, web string
}

func newClientCerts(t *testing.T, m *maker) clientCerts {
	other := newMaker(t)
	file := func(name string, by *maker, edit func(*x509.Certificate)) string {
		c := &x509.Certificate{
			Subject:     pkix.Name{CommonName: "gauge"},
			ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
		}
		edit(c)
		cert, key := by.sign(c, by.cert, by.key)
		return write(
			t,
			filepath.Join(m.dir, name+".pem"),
			pemOf(cert),
		) + "," + write(
			t,
			filepath.Join(m.dir, name+".key"),
			keyPEM(t, key),
		)
	}
	return clientCerts{m, file("good", m, func(*x509.Certificate) {}),
		file("stranger", other, func(*x509.Certificate) {}),
		file("expired", m, func(c *x509.Certificate) {
			c.NotBefore, c.NotAfter = time.Now().Add(-48*time.Hour), time.Now().Add(-time.Hour)
		}),
		file("web", m, func(c *x509.Certificate) { c.ExtKeyUsage = []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth} })}
}

// TestMutualTLS lets a real web server ask for client certificates, in both
// versions that matter, and sees who needs what.
func TestMutualTLS(t *testing.T) {
	t.Parallel()
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	certs := newClientCerts(t, m)
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"localhost"}},
		m.cert,
		m.key,
	)
	for _, version := range []string{"TLSv1.2", "TLSv1.3"} {
		dir, port := t.TempDir(), freePort(t)
		write(t, filepath.Join(dir, "cert.pem"), pemOf(leaf))
		write(t, filepath.Join(dir, "key.pem"), keyPEM(t, key))
		secureWeb(
			t,
			nginx,
			dir,
			port,
			fmt.Sprintf("ssl_protocols %s; ssl_client_certificate %s; ssl_verify_client on;", version, root),
		)
		endpoint := fmt.Sprintf("https://localhost:%d/", port)
		ask := func(presented string) trail.Trail {
			args := []string{"--trust", root, "--card", cardFor(t, nginx), endpoint}
			if presented != "" {
				args = append([]string{"--certificate", presented}, args...)
			}
			return traced(t, nil, args...)
		}
		expectHealthy(t, ask(certs.good))
		// What is kept holds the certificate, and nothing of its key.
		kept := filepath.Join(dir, "facts.json")
		run(t, "trace", "--facts", kept, "--certificate", certs.good, "--trust", root, endpoint)
		_, keyFile, _ := strings.Cut(certs.good, ",")
		if line := strings.Split(readFile(t, keyFile), "\n")[1]; line == "" ||
			strings.Contains(readFile(t, kept), line) {
			t.Error("the client's key is kept")
		}
		expect(t, ask(""), "certs/client-cert-wanted proven")
		for presented, says := range map[string]string{certs.stranger: "has another \"Varzea Root\"",
			certs.expired: "expired 1 hour ago", certs.web: "not meant for clients"} {
			judged := ask(presented)
			expect(t, judged, "certs/client-cert-refused proven")
			if !strings.Contains(dump(judged), says) {
				t.Errorf("%s: it does not say %q\n%s", version, says, dump(judged))
			}
		}
		r := run(t, "certs", "--trust", root, "--certificate", certs.stranger, endpoint)
		if !strings.Contains(r.stdout, "what each side needs") || !strings.Contains(r.stdout, "  NO  ") {
			t.Errorf("%s", r.stdout)
		}
	}
}

// TestCertificateLogins signs in by certificates, at a real PostgreSQL and a
// real OpenLDAP.
func TestCertificateLogins(t *testing.T) {
	t.Parallel()
	m := newMaker(t)
	root := pemOf(m.cert)
	certs := newClientCerts(t, m)
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "ledger"}, DNSNames: []string{"localhost"}},
		m.cert,
		m.key,
	)
	keep := func(dir, owner string) {
		for name, text := range map[string]string{"cert.pem": pemOf(leaf), "key.pem": keyPEM(t, key),
			"root.pem": root} {
			must(t, "", "chmod", "0600", write(t, filepath.Join(dir, name), text))
			must(t, "", "chown", owner, filepath.Join(dir, name))
		}
		must(t, "", "chmod", "0644", filepath.Join(dir, "root.pem"))
	}
	t.Run("PostgreSQL", func(t *testing.T) {
		dir := shortDir(t)
		must(t, "", "id", "postgres")
		keep(dir, "postgres")
		c := newCluster(
			t,
			"local all all peer\nhostssl all gauge 127.0.0.1/32 cert\nhostssl all heron 127.0.0.1/32 cert\nhost all "+
				"asked 127.0.0.1/32 ident\nhostssl all all 127.0.0.1/32 scram-sha-256 clientcert=verify-ca\n",
			"ssl = on",
			"ssl_cert_file = '"+dir+"/cert.pem'",
			"ssl_key_file = '"+dir+"/key.pem'",
			"ssl_ca_file = '"+dir+"/root.pem'",
		)
		c.sql(
			t,
			"CREATE ROLE gauge LOGIN; CREATE ROLE heron LOGIN; CREATE ROLE asked LOGIN; CREATE ROLE watch LOGIN "+
				"PASSWORD 'tide7';",
		)
		secret := write(t, filepath.Join(dir, "secret"), "tide7")
		for _, a := range []struct {
			user, presented, secret, want, says string
		}{
			{"gauge", certs.good, "", "", "by certificate"},
			{"heron", certs.good, "", "login/rejected likely", "name in the certificate"},
			{"gauge", "", secret, "login/mechanism-off proven", "by a certificate"},
			{"watch", certs.good, secret, "", "by SCRAM-SHA-256"},
			{"watch", certs.good, "", "login/mechanism-off proven", "none was given"},
			{"watch", "", secret, "login/mechanism-off proven", "by a certificate"},
			{"gauge", certs.stranger, "", "certs/client-cert-refused proven", "has another"},
			{"asked", "", secret, "login/mechanism-off proven", "(ident)"},
		} {
			args := []string{
				"--trust",
				filepath.Join(dir, "root.pem"),
				"--user",
				a.user,
				fmt.Sprintf("postgres://localhost:%d/postgres?sslmode=verify-full", c.port),
			}
			if a.presented != "" {
				args = append([]string{"--certificate", a.presented}, args...)
			}
			if a.secret != "" {
				args = append([]string{"--secret", "file:" + a.secret}, args...)
			}
			judged := traced(t, nil, args...)
			if a.want == "" {
				expect(t, judged)
			} else {
				expect(t, judged, a.want)
			}
			if !strings.Contains(dump(judged), a.says) {
				t.Errorf("%s: it does not say %q\n%s", a.user, a.says, dump(judged))
			}
		}
	})
	t.Run("OpenLDAP", func(t *testing.T) {
		slapd := needs(t, "slapd", "/usr/sbin/slapd")[0]
		dir, port := shortDir(t), freePort(t)
		keep(dir, "root")
		conf := write(
			t,
			filepath.Join(dir, "conf"),
			fmt.Sprintf(
				"include /etc/ldap/schema/core.schema\npidfile %[1]s/pid\nTLSCertificateFile "+
					"%[1]s/cert.pem\nTLSCertificateKeyFile %[1]s/key.pem\nTLSCACertificateFile "+
					"%[1]s/root.pem\nTLSVerifyClient allow\n",
				dir,
			),
		)
		start(
			t,
			fmt.Sprintf("127.0.0.1:%d", port),
			nil,
			slapd,
			"-d",
			"0",
			"-f",
			conf,
			"-h",
			fmt.Sprintf("ldap://127.0.0.1:%d", port),
		)
		ask := func(presented string) trail.Trail {
			args := []string{
				"--trust",
				filepath.Join(dir, "root.pem"),
				"--user",
				"cn=gauge",
				fmt.Sprintf("ldap+starttls://localhost:%d", port),
			}
			if presented != "" {
				args = append([]string{"--certificate", presented}, args...)
			}
			return traced(t, nil, args...)
		}
		well := ask(certs.good)
		expect(t, well)
		if !strings.Contains(rung(well, trail.Login).Summary, "EXTERNAL") {
			t.Error(dump(well))
		}
		if f := rung(ask(""), trail.Login); f.State != trail.Unseen {
			t.Errorf("nothing to present: %+v", f)
		}
	})
}
