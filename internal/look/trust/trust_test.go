package trust

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pavlo-v-chernykh/keystore-go/v4"
	"software.sslmate.com/src/go-pkcs12"
)

// made is an authority with a certificate, a leaf and a revocation list.
type made struct {
	root, leaf *x509.Certificate
	list       []byte
	key        *ecdsa.PrivateKey
}

func makeAll(t *testing.T) made {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	sign := func(c *x509.Certificate, parent *x509.Certificate) *x509.Certificate {
		if parent == nil {
			parent = c
		}
		der, err := x509.CreateCertificate(rand.Reader, c, parent, &key.PublicKey, key)
		if err != nil {
			t.Fatal(err)
		}
		cert, err := x509.ParseCertificate(der)
		if err != nil {
			t.Fatal(err)
		}
		return cert
	}
	until := time.Now().Add(time.Hour)
	root := sign(
		&x509.Certificate{
			SerialNumber:          big.NewInt(1),
			Subject:               pkix.Name{CommonName: "Varzea Root"},
			NotAfter:              until,
			IsCA:                  true,
			BasicConstraintsValid: true,
			KeyUsage:              x509.KeyUsageCRLSign | x509.KeyUsageCertSign,
		},
		nil,
	)
	leaf := sign(
		&x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "tidebook"}, NotAfter: until},
		root,
	)
	list, err := x509.CreateRevocationList(
		rand.Reader,
		&x509.RevocationList{Number: big.NewInt(1), ThisUpdate: time.Now(), NextUpdate: until},
		root,
		key,
	)
	if err != nil {
		t.Fatal(err)
	}
	return made{root, leaf, list, key}
}

func inPEM(kind string, der ...[]byte) string {
	var b strings.Builder
	for _, each := range der {
		pem.Encode(&b, &pem.Block{Type: kind, Bytes: each})
	}
	return b.String()
}

// TestReadFile reads the same certificate in every form, and what is none.
func TestReadFile(t *testing.T) {
	m := makeAll(t)
	dir := t.TempDir()
	put := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return path
	}
	stored, err := pkcs12.Modern.Encode(m.key, m.leaf, []*x509.Certificate{m.root}, "tide7")
	if err != nil {
		t.Fatal(err)
	}
	roots, err := pkcs12.Modern.EncodeTrustStore([]*x509.Certificate{m.root}, "changeit")
	if err != nil {
		t.Fatal(err)
	}
	java := keystore.New()
	if err := java.SetTrustedCertificateEntry("root", keystore.TrustedCertificateEntry{CreationTime: time.Now(),
		Certificate: keystore.Certificate{Type: "X509", Content: m.root.Raw}}); err != nil {
		t.Fatal(err)
	}
	var jks bytes.Buffer
	if err := java.Store(&jks, []byte("changeit")); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		text, secret string
		certs, lists int
		wrong        string
	}{
		"PEM": {inPEM("CERTIFICATE", m.leaf.Raw, m.root.Raw), "", 2, 0, ""},
		"PEM with a key and a list": {inPEM("PRIVATE KEY", []byte("x")) + inPEM("CERTIFICATE", m.root.Raw) +
			inPEM("X509 CRL", m.list), "", 1, 1, ""},
		"DER":                          {string(m.root.Raw), "", 1, 0, ""},
		"a list in DER":                {string(m.list), "", 0, 1, ""},
		"a key with its chain":         {string(stored), "tide7", 2, 0, ""},
		"a key, and another secret":    {string(stored), "other", 0, 0, "this secret does not open"},
		"roots, by the usual secret":   {string(roots), "", 1, 0, ""},
		"a Java store, by it as well":  {jks.String(), "", 1, 0, ""},
		"a Java store, another secret": {jks.String(), "other", 0, 0, "this secret does not open"},
		"a Java store cut off":         {jks.String()[:40], "", 0, 0, "Java key store"},
		"no certificate in it": {inPEM("PRIVATE KEY", []byte("x")), "", 0, 0,
			":1:1: no certificate in this file"},
		"a broken certificate": {inPEM("CERTIFICATE", []byte("rubbish")), "", 0, 0,
			":3:1: the certificate that ends here"},
		"a broken list": {inPEM("X509 CRL", []byte("rubbish")), "", 0, 0,
			"the revocation list that ends here"},
		"rubbish": {"rubbish", "", 0, 0, "neither PEM nor DER"},
		"nothing": {"", "", 0, 0, "neither PEM nor DER"},
	} {
		c2, err := ReadFile(put("file", c.text), c.secret)
		switch {
		case c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong) ||
			strings.Contains(err.Error(), "\n")):
			t.Errorf("%s: %v, want %q", name, err, c.wrong)
		case c.wrong == "" && (err != nil || len(c2.Certs) != c.certs || len(c2.Lists) != c.lists):
			t.Errorf("%s: %d certificates, %d lists, %v", name, len(c2.Certs), len(c2.Lists), err)
		}
	}
}

// TestLoad reads stores, and finds in them what bears on a chain.
func TestLoad(t *testing.T) {
	m, other := makeAll(t), makeAll(t)
	dir := t.TempDir()
	for name, text := range map[string]string{"root.pem": inPEM("CERTIFICATE", m.root.Raw),
		"again.pem": inPEM("CERTIFICATE", m.root.Raw), "list.pem": inPEM("X509 CRL", m.list),
		"README": "not a certificate"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	s, err := Load(dir)
	if err != nil || s.Count() != 1 {
		t.Fatalf("%+v, %v", s, err)
	}
	chain := [][]byte{m.leaf.Raw}
	if len(s.For(chain)) != 1 || len(s.Lists(chain)) != 1 {
		t.Errorf("%d roots and %d lists for the chain", len(s.For(chain)), len(s.Lists(chain)))
	}
	// Another authority of the same name is looked at, too: its name is all
	// that the chain says.
	if len(s.For([][]byte{other.leaf.Raw})) != 1 || len(s.For([][]byte{[]byte("rubbish")})) != 0 {
		t.Error("roots are found by something else than their name")
	}
	again, err := Load(dir)
	if err != nil || again != s {
		t.Errorf("a store is read twice: %v", err)
	}
	for path, want := range map[string]string{filepath.Join(dir, "none"): "no such file",
		filepath.Join(dir, "list.pem"): "only a revocation list", t.TempDir(): "no certificate in any file"} {
		if _, err := Load(path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
	t.Setenv("SSL_CERT_FILE", filepath.Join(dir, "root.pem"))
	if own, err := Load(""); err != nil || own.Source != filepath.Join(dir, "root.pem") {
		t.Errorf("%+v, %v", own, err)
	}
}
