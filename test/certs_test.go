package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"software.sslmate.com/src/go-pkcs12"

	"uakari/internal/trail"
)

// maker makes certificates of a made-up authority.
type maker struct {
	t    *testing.T
	dir  string
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
}

func newMaker(t *testing.T) *maker {
	m := &maker{t: t, dir: t.TempDir()}
	m.cert, m.key = m.sign(
		&x509.Certificate{
			Subject:               pkix.Name{CommonName: "Varzea Root"},
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
		},
		nil,
		nil,
	)
	return m
}

func (m *maker) sign(c, parent *x509.Certificate, by *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey) {
	m.t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		m.t.Fatal(err)
	}
	if parent == nil {
		parent, by = c, key
	}
	c.SerialNumber = big.NewInt(time.Now().UnixNano())
	if c.NotBefore.IsZero() {
		c.NotBefore = time.Now().Add(-24 * time.Hour)
	}
	if c.NotAfter.IsZero() {
		c.NotAfter = time.Now().Add(90 * 24 * time.Hour)
	}
	der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, by)
	if err != nil {
		m.t.Fatal(err)
	}
	cert, err := x509.ParseCertificate(der)
	if err != nil {
		m.t.Fatal(err)
	}
	return cert, key
}

func pemOf(list ...*x509.Certificate) string {
	var b strings.Builder
	for _, c := range list {
		pem.Encode(&b, &pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
	}
	return b.String()
}

// TestCertFiles judges files before they go live.
func TestCertFiles(t *testing.T) {
	m := newMaker(t)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	leaf := func(edit func(*x509.Certificate)) string {
		c := &x509.Certificate{
			Subject:  pkix.Name{CommonName: "tidebook"},
			DNSNames: []string{"tidebook.varzea.example", "*.gauges.varzea.example"},
		}
		if edit != nil {
			edit(c)
		}
		cert, _ := m.sign(c, m.cert, m.key)
		return write(t, filepath.Join(t.TempDir(), "leaf.pem"), pemOf(cert))
	}
	for _, c := range []struct {
		name   string
		file   string
		args   []string
		status int
		says   string
	}{
		{"good", leaf(nil), []string{"--trust", root}, 0,
			"Yes: trusted here, covers tidebook.varzea.example, 89 days left."},
		{"a name more", leaf(nil), []string{"--trust", root, "--names",
			"tidebook.varzea.example,readings.varzea.example"}, 1, "does not cover readings.varzea.example"},
		{"a wildcard", leaf(nil), []string{"--trust", root, "--names", "g07.gauges.varzea.example"}, 0, "Yes:"},
		{"a wildcard is one label", leaf(nil), []string{"--trust", root, "--names", "a.b.gauges.varzea.example"}, 1,
			"No:"},
		{"not trusted", leaf(nil), nil, 1, "the path breaks"},
		{"expired", leaf(func(c *x509.Certificate) {
			c.NotAfter = time.Now().Add(-time.Hour)
			c.NotBefore = time.Now().Add(-48 * time.Hour)
		}), []string{"--trust", root}, 1, "expired"},
		{"soon", leaf(func(c *x509.Certificate) { c.NotAfter = time.Now().Add(6 * 24 * time.Hour) }),
			[]string{"--trust", root}, 0, "Yes:"},
		{"an authority", root, []string{"--trust", root}, 0, "Yes: trusted here, 89 days left."},
		{"nothing", write(t, filepath.Join(t.TempDir(), "x.pem"), "-----BEGIN NOTHING-----\n-----END NOTHING-----\n"),
			nil, 2, "no certificate in this file"},
		{"broken", write(t, filepath.Join(t.TempDir(), "x.pem"),
			"-----BEGIN CERTIFICATE-----\nMAAA\n-----END CERTIFICATE-----\n"), nil, 2,
			"x.pem:3:1: the certificate that ends here cannot be read"},
	} {
		args := append([]string{"certs", c.file}, c.args...)
		r := run(t, args...)
		if r.status != c.status || !strings.Contains(oneLine(r.stdout+r.stderr), c.says) {
			t.Errorf("%s: status %d, want %d and %q\n%s%s", c.name, r.status, c.status, c.says, r.stdout, r.stderr)
		}
		if c.status < 2 {
			validate(t, "certs", []byte(run(t, append(args, "--json")...).stdout))
		}
	}
}

// keyPEM writes a key as servers read it.
func keyPEM(t *testing.T, key *ecdsa.PrivateKey) string {
	t.Helper()
	der, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}))
}

// TestServerCertificates compares what a real server serves with its files,
// its key and its authority's list.
func TestServerCertificates(t *testing.T) {
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	m := newMaker(t)
	names := func(until time.Time) *x509.Certificate {
		return &x509.Certificate{
			Subject:   pkix.Name{CommonName: "tidebook"},
			DNSNames:  []string{"localhost"},
			NotAfter:  until,
			NotBefore: time.Now().Add(-200 * 24 * time.Hour),
		}
	}
	old, oldKey := m.sign(names(time.Now().Add(-time.Hour)), m.cert, m.key)
	fresh, freshKey := m.sign(names(time.Now().Add(150*24*time.Hour)), m.cert, m.key)
	roots := write(t, filepath.Join(m.dir, "roots.pem"), pemOf(m.cert))
	card := cardFor(t, nginx)
	serve := func(t *testing.T, leaf *x509.Certificate, key *ecdsa.PrivateKey) (dir string, args []string) {
		dir = t.TempDir()
		port := freePort(t)
		write(t, filepath.Join(dir, "chain.pem"), pemOf(leaf))
		write(t, filepath.Join(dir, "key.pem"), keyPEM(t, key))
		conf := write(
			t,
			filepath.Join(dir, "conf"),
			fmt.Sprintf(`daemon off; user root; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http {
  access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  include sites/*;
}`, dir),
		)
		if err := os.Mkdir(filepath.Join(dir, "sites"), 0o755); err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(dir, "sites", "tidebook"), fmt.Sprintf(`server {
  listen 127.0.0.1:%[2]d ssl;
  server_name localhost;
  ssl_certificate %[1]s/chain.pem; ssl_certificate_key %[1]s/key.pem;
  location / { return 200 "ok"; }
}`, dir, port))
		start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, nginx, "-p", dir, "-c", conf)
		return dir, []string{"--trust", roots, "--card", card, fmt.Sprintf("https://localhost:%d/", port)}
	}
	t.Run("renewed on disk and not loaded", func(t *testing.T) {
		dir, args := serve(t, old, oldKey)
		expect(t, traced(t, nil, args...), "certs/expired proven")
		write(t, filepath.Join(dir, "chain.pem"), pemOf(fresh))
		write(t, filepath.Join(dir, "key.pem"), keyPEM(t, freshKey))
		expect(t, traced(t, nil, args...), "certs/not-reloaded proven")
	})
	t.Run("another key on disk", func(t *testing.T) {
		dir, args := serve(t, fresh, freshKey)
		expectHealthy(t, traced(t, nil, args...))
		write(t, filepath.Join(dir, "key.pem"), keyPEM(t, oldKey))
		judged := traced(t, nil, args...)
		if judged.Outcome != trail.OutcomeClear || len(judged.Causes) != 1 ||
			judged.Causes[0].ID != "certs/key-mismatch" ||
			judged.Causes[0].Certainty != trail.Proven {
			t.Error(dump(judged))
		}
		text, err := json.Marshal(judged)
		if err != nil || strings.Contains(string(text), strings.Split(keyPEM(t, oldKey), "\n")[1]) {
			t.Errorf("the key is told, or %v", err)
		}
	})
	t.Run("revoked", func(t *testing.T) {
		_, args := serve(t, fresh, freshKey)
		list, err := x509.CreateRevocationList(
			rand.Reader,
			&x509.RevocationList{
				Number:     big.NewInt(1),
				ThisUpdate: time.Now().Add(-time.Hour),
				NextUpdate: time.Now().Add(time.Hour),
				RevokedCertificateEntries: []x509.RevocationListEntry{
					{SerialNumber: fresh.SerialNumber, RevocationTime: time.Now().Add(-time.Hour)},
				},
			},
			m.cert,
			m.key,
		)
		if err != nil {
			t.Fatal(err)
		}
		both := filepath.Join(t.TempDir(), "store")
		if err := os.Mkdir(both, 0o755); err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(both, "root.pem"), pemOf(m.cert))
		args[1] = both
		expectHealthy(t, traced(t, nil, args...))
		write(t, filepath.Join(both, "root.crl"), string(pem.EncodeToMemory(&pem.Block{Type: "X509 CRL",
			Bytes: list})))
		expect(t, traced(t, nil, args...), "certs/revoked proven")
	})
}

// TestCertStores reads a store with a secret of its own, and a broken one.
func TestCertStores(t *testing.T) {
	m := newMaker(t)
	p12, err := pkcs12.Modern.EncodeTrustStore([]*x509.Certificate{m.cert}, "pass-tide")
	if err != nil {
		t.Fatal(err)
	}
	t.Setenv("STORE", "pass-tide")
	roots := write(t, filepath.Join(m.dir, "r.pem"), pemOf(m.cert))
	r := run(
		t,
		"certs",
		"--trust",
		roots,
		"--json",
		"--secret",
		"env:STORE",
		write(t, filepath.Join(m.dir, "roots.p12"), string(p12)),
	)
	if !strings.Contains(r.stdout, "Varzea Root") {
		t.Errorf("%+v", r)
	}
	bad := run(t, "certs", "--secret", "env:STORE", write(t, filepath.Join(m.dir, "bad.p12"), string(p12[:40])))
	if bad.status != 2 || strings.Count(strings.TrimSpace(bad.stderr), "\n") != 0 {
		t.Errorf("%+v", bad)
	}
}
