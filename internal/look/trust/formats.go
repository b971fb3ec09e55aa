package trust

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"uakari/internal/look/file"

	"github.com/pavlo-v-chernykh/keystore-go/v4"
	"software.sslmate.com/src/go-pkcs12"
)

// MostFile bounds a file of certificates, in bytes.
const MostFile = 8 << 20

// mostFolder bounds all files of a folder, in bytes.
const mostFolder = 4 * MostFile

// usualSecrets open stores that hold nothing secret: most stores of roots are
// made with one of them. They are tried when no secret is given.
var usualSecrets = []string{"", "changeit"}

// Contents is what a file of certificates holds.
type Contents struct {
	Certs [][]byte // DER, as the file has them
	Lists [][]byte // revocation lists, DER
}

// ReadFile reads the certificates and revocation lists of a file, in PEM, DER,
// PKCS #12 (RFC 7292) or a Java key store. Keys beside them are passed over.
// The secret opens stores that have one.
func ReadFile(path, secret string) (Contents, error) {
	text, err := readBounded(path)
	if err != nil {
		return Contents{}, err
	}
	return Read(path, text, secret)
}

// Read is ReadFile of a text that was read; path names it in errors.
func Read(path string, text []byte, secret string) (c Contents, err error) {
	switch {
	case bytes.Contains(text, []byte("-----BEGIN ")):
		c, err = readPEM(text)
	case bytes.HasPrefix(text, []byte{0xfe, 0xed, 0xfe, 0xed}):
		c.Certs, err = opened(secret, func(secret string) ([][]byte, error) { return readKeyStore(text, secret) })
	default:
		c, err = readBinary(text, secret)
	}
	if err != nil {
		return Contents{}, fmt.Errorf("%s%w", path, err)
	}
	if len(c.Certs)+len(c.Lists) == 0 {
		return Contents{}, errors.New(path + ":1:1: no certificate in this file; expected -----BEGIN CERTIFICATE-----")
	}
	return c, nil
}

func readPEM(text []byte) (Contents, error) {
	var c Contents
	for rest := text; ; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return c, nil
		}
		line := bytes.Count(text[:len(text)-len(rest)], []byte("\n"))
		switch block.Type {
		case "CERTIFICATE", "TRUSTED CERTIFICATE", "X509 CERTIFICATE":
			if _, err := x509.ParseCertificate(block.Bytes); err != nil {
				return c, fmt.Errorf(":%d:1: the certificate that ends here cannot be read: %w", line, err)
			}
			c.Certs = append(c.Certs, slices.Clone(block.Bytes))
		case "X509 CRL":
			if _, err := x509.ParseRevocationList(block.Bytes); err != nil {
				return c, fmt.Errorf(":%d:1: the revocation list that ends here cannot be read: %w", line, err)
			}
			c.Lists = append(c.Lists, slices.Clone(block.Bytes))
		}
	}
}

func readBinary(text []byte, secret string) (Contents, error) {
	if _, err := x509.ParseCertificate(text); err == nil {
		return Contents{Certs: [][]byte{text}}, nil
	}
	if _, err := x509.ParseRevocationList(text); err == nil {
		return Contents{Lists: [][]byte{text}}, nil
	}
	if err := checkPKCS12(text); err != nil {
		return Contents{}, fmt.Errorf(": %w", err)
	}
	certs, err := opened(secret, func(secret string) ([][]byte, error) {
		return timely(func() ([][]byte, error) { return readPKCS12(text, secret) })
	})
	if errors.Is(err, pkcs12.ErrIncorrectPassword) {
		return Contents{}, errors.New(": a PKCS #12 store that this secret does not open; give it by --secret")
	}
	if err != nil {
		return Contents{}, errors.New(":1:1: neither PEM nor DER, PKCS #12 or a Java key store, or a broken one")
	}
	return Contents{Certs: certs}, nil
}

// opened tries a secret or, where none was given, the usual ones.
func opened(secret string, read func(string) ([][]byte, error)) (certs [][]byte, err error) {
	secrets := usualSecrets
	if secret != "" {
		secrets = []string{secret}
	}
	for _, each := range secrets {
		if certs, err = read(each); err == nil {
			break
		}
	}
	return certs, err
}

// readPKCS12 reads a store of roots, or one of a key with its chain.
func readPKCS12(text []byte, secret string) ([][]byte, error) {
	if roots, err := pkcs12.DecodeTrustStore(text, secret); err == nil && len(roots) > 0 {
		return raw(roots), nil
	}
	_, leaf, more, err := pkcs12.DecodeChain(text, secret)
	if err != nil {
		return nil, err
	}
	return raw(append([]*x509.Certificate{leaf}, more...)), nil
}

func raw(certs []*x509.Certificate) [][]byte {
	var list [][]byte
	for _, c := range certs {
		list = append(list, c.Raw)
	}
	return list
}

func readKeyStore(text []byte, secret string) ([][]byte, error) {
	if err := checkKeyStore(text); err != nil {
		return nil, fmt.Errorf(": %w", err)
	}
	store := keystore.New(keystore.WithOrderedAliases())
	if err := store.Load(bytes.NewReader(text), []byte(secret)); err != nil {
		return nil, errors.New(
			": a Java key store that this secret does not open, or a broken one; give it by --secret",
		)
	}
	var list [][]byte
	for _, alias := range store.Aliases() {
		if entry, err := store.GetTrustedCertificateEntry(alias); err == nil {
			list = append(list, entry.Certificate.Content)
		} else if chain, err := store.GetPrivateKeyEntryCertificateChain(alias); err == nil {
			for _, c := range chain {
				list = append(list, c.Content)
			}
		}
	}
	return list, nil
}

// readFolder reads every file of certificates in a folder; what is none is
// passed over.
func readFolder(path string) (Contents, error) {
	var all Contents
	size := 0
	entries, err := os.ReadDir(path)
	if err != nil {
		return all, err
	}
	for _, e := range entries {
		each := filepath.Join(path, e.Name())
		text, err := file.Read(each, MostFile)
		if errors.Is(err, fs.ErrPermission) {
			return all, err
		}
		if err != nil {
			continue // a folder, a pipe, or beyond all measure
		}
		c, err := Read(each, text, "")
		if err != nil {
			continue // no certificates
		}
		if size += len(text); size > mostFolder {
			return all, fmt.Errorf("%s: more than %d bytes of certificates", path, mostFolder)
		}
		all.Certs, all.Lists = append(all.Certs, c.Certs...), append(all.Lists, c.Lists...)
	}
	all.Certs = unique(all.Certs) // a folder made for look-ups by hash has each twice
	if len(all.Certs) == 0 {
		return all, fmt.Errorf("%s: no certificate in any file of this folder", path)
	}
	return all, nil
}

func unique(list [][]byte) [][]byte {
	seen := map[string]bool{}
	return slices.DeleteFunc(list, func(der []byte) bool {
		known := seen[string(der)]
		seen[string(der)] = true
		return known
	})
}
