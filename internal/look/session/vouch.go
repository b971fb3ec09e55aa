package session

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"

	"uakari/internal/foreign"
	"uakari/internal/look/trust"
)

// distrust says why this client would not take the server at the other end of a
// session for the one that it named; "" if it would: the chain leads to a root
// of its store, covers the name, is valid by its clock and not revoked by a
// list in the store (RFC 5280 section 6, RFC 9525). The store is the one that
// the user named or the system's, whatever a card says.
//
// It is asked of the very session that a secret would go over. A finding about
// certificates says what a client would do; this says what this program does.
func (c *climber) distrust(state tls.ConnectionState) string {
	if len(state.PeerCertificates) == 0 {
		return "it shows no certificate"
	}
	store, err := trust.Load(c.env.Trust)
	if err != nil {
		return "this client's trust store could not be read: " + err.Error()
	}
	roots, between := x509.NewCertPool(), x509.NewCertPool()
	var chain [][]byte
	for i, cert := range state.PeerCertificates {
		chain = append(chain, cert.Raw)
		if i > 0 {
			between.AddCert(cert)
		}
	}
	for _, der := range store.For(chain) {
		if root, err := x509.ParseCertificate(der); err == nil {
			roots.AddCert(root)
		}
	}
	leaf := state.PeerCertificates[0]
	name := indicated(c.order.Target.Name)
	if name == "" {
		name = c.order.Target.Name // an address
	}
	if c.env.AnyName {
		name = ""
	}
	if _, err := leaf.Verify(x509.VerifyOptions{Roots: roots, Intermediates: between, DNSName: name,
		CurrentTime: c.env.Clock()}); err != nil {
		return foreign.Clean(short509(err))
	}
	for _, der := range store.Lists(chain) {
		list, err := x509.ParseRevocationList(der)
		if err != nil {
			continue // it was parsed when it was read
		}
		for _, entry := range list.RevokedCertificateEntries {
			if entry.SerialNumber.Cmp(leaf.SerialNumber) == 0 {
				return "its certificate is revoked"
			}
		}
	}
	return ""
}

// short509 is an error of the library in few words.
func short509(err error) string {
	var invalid x509.CertificateInvalidError
	var name x509.HostnameError
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "its certificate is not valid at this time"
	case errors.As(err, &name):
		return "its certificate does not cover " + name.Host
	case errors.As(err, &unknown):
		return "nobody whom this client trusts vouches for its certificate"
	}
	return fmt.Sprintf("its certificate is not taken (%v)", err)
}
