package trust

import (
	"bytes"
	"fmt"
	"unsafe"

	"golang.org/x/sys/windows"
)

// mostRoots bounds what is taken of the system's store.
const mostRoots = 5000

// system is the roots of the system's own store, of the user and the machine
// together (CertOpenSystemStore).
func system() (*Store, error) {
	s := &Store{Source: "the store ROOT of Windows"}
	name, err := windows.UTF16PtrFromString("ROOT")
	if err != nil {
		return nil, err
	}
	store, err := windows.CertOpenSystemStore(0, name)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Source, err)
	}
	defer windows.CertCloseStore(store, 0)
	var at *windows.CertContext
	for len(s.der) < mostRoots {
		// The call frees the context before; at the end it gives none, and an error.
		if at, err = windows.CertEnumCertificatesInStore(store, at); at == nil {
			break
		}
		s.der = append(s.der, bytes.Clone(unsafe.Slice(at.EncodedCert, at.Length)))
	}
	return s, nil
}
