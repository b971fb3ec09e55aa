package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"path/filepath"
	"strings"
	"testing"
	"time"
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
	m.cert, m.key = m.sign(&x509.Certificate{Subject: pkix.Name{CommonName: "Varzea Root"}, IsCA: true, BasicConstraintsValid: true}, nil, nil)
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
		c := &x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, DNSNames: []string{"tidebook.varzea.example", "*.gauges.varzea.example"}}
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
		{"good", leaf(nil), []string{"--trust", root}, 0, "Yes: trusted here, covers tidebook.varzea.example, 89 days left."},
		{"a name more", leaf(nil), []string{"--trust", root, "--names", "tidebook.varzea.example,readings.varzea.example"}, 1, "does not cover readings.varzea.example"},
		{"a wildcard", leaf(nil), []string{"--trust", root, "--names", "g07.gauges.varzea.example"}, 0, "Yes:"},
		{"a wildcard is one label", leaf(nil), []string{"--trust", root, "--names", "a.b.gauges.varzea.example"}, 1, "No:"},
		{"not trusted", leaf(nil), nil, 1, "the path breaks"},
		{"expired", leaf(func(c *x509.Certificate) {
			c.NotAfter = time.Now().Add(-time.Hour)
			c.NotBefore = time.Now().Add(-48 * time.Hour)
		}), []string{"--trust", root}, 1, "expired"},
		{"soon", leaf(func(c *x509.Certificate) { c.NotAfter = time.Now().Add(6 * 24 * time.Hour) }), []string{"--trust", root}, 0, "Yes:"},
		{"an authority", root, []string{"--trust", root}, 0, "Yes: trusted here, 89 days left."},
		{"nothing", write(t, filepath.Join(t.TempDir(), "x.pem"), "-----BEGIN NOTHING-----\n-----END NOTHING-----\n"), nil, 2, "no certificate in this file"},
		{"broken", write(t, filepath.Join(t.TempDir(), "x.pem"), "-----BEGIN CERTIFICATE-----\nMAAA\n-----END CERTIFICATE-----\n"), nil, 2, "x.pem:3:1: the certificate that ends here cannot be read"},
	} {
		args := append([]string{"certs", c.file}, c.args...)
		r := run(t, args...)
		if r.status != c.status || !strings.Contains(strings.Join(strings.Fields(r.stdout+r.stderr), " "), c.says) {
			t.Errorf("%s: status %d, want %d and %q\n%s%s", c.name, r.status, c.status, c.says, r.stdout, r.stderr)
		}
		if c.status < 2 {
			validate(t, "certs", []byte(run(t, append(args, "--json")...).stdout))
		}
	}
}
