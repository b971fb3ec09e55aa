package certs

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"
	"slices"
	"time"

	"uakari/internal/foreign"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"

	"golang.org/x/crypto/ocsp"
)

// mustStaple is the extension of a certificate that wants its status sent
// along (RFC 7633), and the feature in it that says so (RFC 6066).
var mustStaple = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 1, 24}

// judgeRevoked reads the status that the server sent along and the revocation
// lists of the client's store (RFC 5280 section 5, RFC 6960).
func judgeRevoked(v *scene.Scene, c scene.Climb, chain []*x509.Certificate, shut func(string, string, ...gate.Lack)) {
	if c.Trust != nil {
		for _, der := range c.Trust.Trust.Revoked {
			list, err := x509.ParseRevocationList(der)
			if err != nil {
				continue
			}
			for _, cert := range chain {
				issuer := issuerOf(cert, append(chain, ParseChain(c.Trust.Trust.Roots)...))
				if issuer == nil || string(cert.RawIssuer) != string(list.RawIssuer) ||
					list.CheckSignatureFrom(issuer) != nil {
					continue
				}
				at := slices.IndexFunc(list.RevokedCertificateEntries, func(e x509.RevocationListEntry) bool {
					return e.SerialNumber.Cmp(cert.SerialNumber) == 0
				})
				if at >= 0 {
					shut("certs/revoked", fmt.Sprintf(
						"%s was revoked on %s, by the list of %s in %s",
						nameOf(cert),
						list.RevokedCertificateEntries[at].RevocationTime.UTC().
							Format(time.DateOnly),
						nameOfName(cert.Issuer),
						c.Trust.Trust.Source,
					))
					return
				}
			}
		}
	}
	if status, ok := staple(v, c, chain); ok && status.Status == ocsp.Revoked {
		shut(
			"certs/revoked",
			fmt.Sprintf(
				"%s was revoked on %s: the server itself sends that status along",
				nameOf(chain[0]),
				status.RevokedAt.UTC().Format(time.DateOnly),
			),
		)
	}
}

// staple is the status that the server sent along, if its issuer signed it.
func staple(v *scene.Scene, c scene.Climb, chain []*x509.Certificate) (*ocsp.Response, bool) {
	h := c.Handshake.Handshake
	if len(h.Staple) == 0 || c.Trust == nil {
		return nil, false
	}
	issuer := issuerOf(chain[0], append(chain, ParseChain(c.Trust.Trust.Roots)...))
	if issuer == nil {
		return nil, false
	}
	status, err := ocsp.ParseResponseForCert(h.Staple, chain[0], issuer)
	return status, err == nil
}

func issuerOf(cert *x509.Certificate, among []*x509.Certificate) *x509.Certificate {
	for _, each := range among {
		if each != cert && signed(each, cert) {
			return each
		}
	}
	return nil
}

// statusDoubt says why clients that ask for a certificate's status learn
// nothing; "" where they need not ask, or learn it.
func statusDoubt(v *scene.Scene, c scene.Climb, chain []*x509.Certificate) string {
	leaf := chain[0]
	status, good := staple(v, c, chain)
	wants := slices.ContainsFunc(leaf.Extensions, func(e pkix.Extension) bool { return e.Id.Equal(mustStaple) })
	switch {
	case good && status.Status == ocsp.Unknown:
		return fmt.Sprintf(
			"the status that the server sends along says that its authority does not know %s",
			nameOf(leaf),
		)
	case good && !status.NextUpdate.IsZero() && v.Ask.Began.After(status.NextUpdate):
		return fmt.Sprintf(
			"the status that the server sends along ended %s ago",
			foreign.Span(v.Ask.Began.Sub(status.NextUpdate)),
		)
	case len(c.Handshake.Handshake.Staple) > 0 && !good && c.Trust != nil &&
		issuerOf(leaf, append(chain, ParseChain(c.Trust.Trust.Roots)...)) != nil:
		return "the status that the server sends along is not one of this certificate's authority"
	case wants && len(c.Handshake.Handshake.Staple) == 0:
		return fmt.Sprintf(
			"%s demands that its status is sent along, and the server sends none: clients that insist refuse it",
			nameOf(leaf),
		)
	}
	return ""
}
