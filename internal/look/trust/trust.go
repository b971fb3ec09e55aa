// Package trust reads the roots that a client trusts: a file that was named,
// or the system's own store.
package trust

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"uakari/internal/look/file"
)

// systemFiles is where systems keep all roots in one file.
var systemFiles = []string{
	"/etc/ssl/certs/ca-certificates.crt",                // Debian, Arch, Alpine
	"/etc/pki/tls/certs/ca-bundle.crt",                  // Fedora
	"/etc/pki/ca-trust/extracted/pem/tls-ca-bundle.pem", // newer Fedora
	"/etc/ssl/ca-bundle.pem",                            // SUSE
	"/etc/ssl/cert.pem",                                 // Alpine, macOS
}

// ErrNone says that no trust store was found on this system.
var ErrNone = errors.New("no trust store in any of the usual places; name one with --trust")

// Store is a trust store. Certificates are parsed only when asked for.
type Store struct {
	Source string
	der    [][]byte
	lists  [][]byte
}

// Count is the number of roots.
func (s *Store) Count() int { return len(s.der) }

// Load reads a named file, one of roots and one of revocation lists with a comma between
// them, or the system's store for "". As with other
// programs of the trade, SSL_CERT_FILE names the system's store if it is set.
// A store is read once.
func Load(path string) (*Store, error) {
	if path == "" {
		path = os.Getenv("SSL_CERT_FILE")
	}
	return cached(path)
}

var (
	mu     sync.Mutex // guards stores
	stores = map[string]func() (*Store, error){}
)

func cached(path string) (*Store, error) {
	mu.Lock()
	load, ok := stores[path]
	if !ok {
		load = sync.OnceValues(func() (*Store, error) { return read(path) })
		stores[path] = load
	}
	mu.Unlock()
	return load()
}

func read(path string) (*Store, error) {
	if path == "" {
		return system()
	}
	roots, lists, both := strings.Cut(path, ",")
	if !both || isThere(path) {
		return readFile(path)
	}
	store, err := readFile(roots)
	if err != nil {
		return nil, err
	}
	c, err := ReadFile(lists, "")
	if err != nil {
		return nil, err
	}
	whole := *store
	whole.lists = append(slices.Clone(store.lists), c.Lists...)
	return &whole, nil
}

func isThere(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// readFile reads a store from a file or a folder. The certificates of the
// system's one file are not parsed: there are many.
func readFile(path string) (*Store, error) {
	path = filepath.Clean(path)
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		c, err := readFolder(path)
		return &Store{Source: path, der: c.Certs, lists: c.Lists}, err
	}
	if !slices.Contains(systemFiles, path) {
		c, err := ReadFile(path, "")
		if err == nil && len(c.Certs) == 0 {
			err = fmt.Errorf("%s: no certificate, only a revocation list", path)
		}
		return &Store{Source: path, der: c.Certs, lists: c.Lists}, err
	}
	text, err := file.Read(path, MostFile)
	if err != nil {
		return nil, err
	}
	s := &Store{Source: path}
	for {
		var block *pem.Block
		if block, text = pem.Decode(text); block == nil {
			break
		}
		if strings.HasSuffix(block.Type, "CERTIFICATE") {
			s.der = append(s.der, block.Bytes)
		}
	}
	if len(s.der) == 0 {
		return nil, fmt.Errorf("%s: no certificate in PEM form", path)
	}
	return s, nil
}

// Lists is the revocation lists in the store that an issuer named in a chain
// made.
func (s *Store) Lists(chain [][]byte) [][]byte {
	var lists [][]byte
	for _, der := range s.lists {
		list, err := x509.ParseRevocationList(der)
		if err != nil {
			continue // it was parsed when it was read
		}
		for _, raw := range chain {
			if cert, err := x509.ParseCertificate(raw); err == nil && bytes.Equal(cert.RawIssuer, list.RawIssuer) {
				lists = append(lists, der)
				break
			}
		}
	}
	return lists
}

// For is the roots that could vouch for a chain: those whose subject is an
// issuer, or a certificate, of it.
func (s *Store) For(chain [][]byte) [][]byte {
	var names [][]byte
	for _, raw := range chain {
		if cert, err := x509.ParseCertificate(raw); err == nil {
			names = append(names, cert.RawIssuer, cert.RawSubject)
		}
	}
	return s.Named(names)
}

// Named is the roots with one of some subjects, each as it is encoded.
func (s *Store) Named(names [][]byte) [][]byte {
	var roots [][]byte
	for _, der := range s.der {
		for _, name := range names {
			// The encoded name stands in the certificate as it is: a quick
			// look before parsing.
			if !bytes.Contains(der, name) {
				continue
			}
			if cert, err := x509.ParseCertificate(der); err == nil && bytes.Equal(cert.RawSubject, name) {
				roots = append(roots, der)
				break
			}
		}
	}
	return roots
}
