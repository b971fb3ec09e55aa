package demo

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"os"
	"time"
)

// authority is the world's own: a root, and the intermediate that issues.
type authority struct {
	root, issuer       *x509.Certificate
	rootKey, issuerKey *ecdsa.PrivateKey
	serial             int64
}

func newAuthority() (*authority, error) {
	a := &authority{}
	var err error
	root := caTemplate("Varzea Root", 1)
	if a.root, a.rootKey, err = sign(root, root, nil); err != nil {
		return nil, err
	}
	a.issuer, a.issuerKey, err = sign(caTemplate("Varzea Stations", 2), a.root, a.rootKey)
	a.serial = 2
	return a, err
}

func caTemplate(name string, serial int64) *x509.Certificate {
	return &x509.Certificate{
		SerialNumber: big.NewInt(serial),
		Subject:      pkix.Name{CommonName: name, Organization: []string{"Várzea Hydrology Office"}},
		NotBefore:    time.Now().Add(-2 * 365 * 24 * time.Hour), NotAfter: time.Now().Add(5 * 365 * 24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign | x509.KeyUsageCRLSign,
	}
}

// sign makes a key and a certificate for it. With no signing key the
// certificate signs itself.
func sign(template, parent *x509.Certificate, by *ecdsa.PrivateKey) (*x509.Certificate, *ecdsa.PrivateKey, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	if by == nil {
		by = key
	}
	der, err := x509.CreateCertificate(rand.Reader, template, parent, &key.PublicKey, by)
	if err != nil {
		return nil, nil, err
	}
	cert, err := x509.ParseCertificate(der)
	return cert, key, err
}

func (a *authority) rootPEM() []byte { return certPEM(a.root) }

func certPEM(c *x509.Certificate) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})
}

// issue writes a stand-in's certificate, with the intermediate behind it, and
// its key.
func (a *authority) issue(s Stand) error {
	a.serial++
	ends := time.Now().Add(80 * 24 * time.Hour)
	if s.Ended > 0 {
		ends = time.Now().Add(-s.Ended)
	}
	cert, key, err := sign(&x509.Certificate{
		SerialNumber: big.NewInt(a.serial), Subject: pkix.Name{CommonName: s.Names[0]}, DNSNames: s.Names,
		NotBefore: ends.Add(-90 * 24 * time.Hour), NotAfter: ends,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}, a.issuer, a.issuerKey)
	if err != nil {
		return err
	}
	der, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		return err
	}
	if err := os.WriteFile(s.Key, pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: der}),
		0o600); err != nil {
		return err
	}
	return os.WriteFile(s.Cert, append(certPEM(cert), certPEM(a.issuer)...), 0o600)
}
