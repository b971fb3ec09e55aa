package session

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// TestMetadata fetches descriptions of partners: one that is whole, and ones
// that are none.
func TestMetadata(t *testing.T) {
	var body string
	served := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/away":
			http.Redirect(w, r, "/", http.StatusFound)
		case "/gone":
			w.WriteHeader(404)
		case "/large":
			fmt.Fprint(w, strings.Repeat("<a/>", mostMetadata))
		default:
			fmt.Fprint(w, body)
		}
	}))
	defer served.Close()
	cert := base64.StdEncoding.EncodeToString(served.Certificate().Raw)
	whole := `<?xml version="1.0"?><md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" entityID="https://pier.varzea.example/" validUntil="2026-12-01T00:00:00Z">
<ds:Signature xmlns:ds="x"><ds:X509Certificate>` + cert + `</ds:X509Certificate></ds:Signature>
<md:IDPSSODescriptor><md:KeyDescriptor use="signing"><ds:KeyInfo xmlns:ds="x"><ds:X509Data><ds:X509Certificate>
` + cert[:64] + "\n  " + cert[64:] + `</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>
<md:KeyDescriptor use="encryption"><ds:X509Certificate xmlns:ds="x">AAAA</ds:X509Certificate></md:KeyDescriptor>
<md:SingleSignOnService Location="https://pier.varzea.example/sso"/><md:SingleLogoutService Location="https://pier.varzea.example/sso"/></md:IDPSSODescriptor></md:EntityDescriptor>`
	for path, c := range map[string]struct {
		body   string
		status int
		wrong  string
	}{
		"/":      {whole, 200, ""},
		"/many":  {"<EntitiesDescriptor><EntityDescriptor/></EntitiesDescriptor>", 200, "describes many partners"},
		"/page":  {"<html><body>sign in</body></html>", 200, "no EntityDescriptor"},
		"/text":  {"no tides today", 200, "no EntityDescriptor"},
		"/cut":   {whole[:len(whole)-30], 200, "not XML"},
		"/coded": {`<EntityDescriptor><KeyDescriptor><X509Certificate>%%</X509Certificate></KeyDescriptor></EntityDescriptor>`, 200, "not in base64"},
		"/away":  {"", 302, ""},
		"/gone":  {"", 404, ""},
		"/large": {"", 200, "more than"},
	} {
		body = c.body
		f := one(t, Metadata, look.Env{}, fact.Target{Path: served.URL + path})
		m := f.Metadata
		if m == nil || m.Status != c.status || (m.Wrong == "") != (c.wrong == "") ||
			!strings.Contains(m.Wrong, c.wrong) ||
			m.Untrusted == "" {
			t.Errorf("%s: %+v", path, m)
			continue
		}
		if path == "/" &&
			(m.Entity != "https://pier.varzea.example/" || len(m.Certs) != 1 || len(m.Locations) != 1 ||
				m.Until.IsZero()) {
			t.Errorf("%+v", m)
		}
	}
	if m := one(t, Metadata, look.Env{}, fact.Target{Path: "http://127.0.0.1:1/"}).Metadata; m.Wrong == "" ||
		m.Status != 0 ||
		strings.Contains(m.Wrong, "http://") {
		t.Errorf("%+v", m)
	}
}
