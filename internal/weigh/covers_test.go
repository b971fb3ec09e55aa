package weigh

import (
	"crypto/x509"
	"net"
	"testing"

	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/certs"
)

// TestCovers is which names certificates cover (RFC 6125, RFC 9525): a
// wildcard is the whole leftmost label, and one label only; the common name
// does not count; addresses are entries of their own.
func TestCovers(t *testing.T) {
	for _, c := range []struct {
		san, name string
		want      bool
	}{
		{"tidebook.varzea.example", "tidebook.varzea.example", true}, {"tidebook.varzea.example",
			"TideBook.Varzea.Example", true}, {"TIDEBOOK.varzea.example", "tidebook.varzea.example", true},
		{"tidebook.varzea.example", "tidebook.varzea.example.", true}, {"tidebook.varzea.example", "tidebook", false},
		{"tidebook.varzea.example", "readings.varzea.example", false},
		{"tidebook.varzea.example", "varzea.example", false},
		{"tidebook.varzea.example", "x.tidebook.varzea.example", false}, {"tidebook", "tidebook", true},
		{"*.varzea.example", "tidebook.varzea.example", true}, {"*.varzea.example", "TIDEBOOK.varzea.example", true},
		{"*.varzea.example", "varzea.example", false},
		{"*.varzea.example", "a.b.varzea.example", false}, {"*.varzea.example", ".varzea.example", false},
		{"*.varzea.example", "tidebook.varzea.example.", true},
		{"*.b.varzea.example", "a.b.varzea.example", true}, {"a.*.varzea.example", "a.b.varzea.example", false},
		{"*.*.varzea.example", "a.b.varzea.example", false},
		{"tide*.varzea.example", "tidebook.varzea.example", false}, {"*book.varzea.example", "tidebook.varzea.example",
			false}, {"t*k.varzea.example", "tidebook.varzea.example", false},
		{"*", "tidebook", false}, {"*", "tidebook.varzea.example", false}, {"*.example", "varzea.example", true},
		{"*.example", "tidebook.varzea.example", false},
		{"xn--mr-fka.varzea.example", "xn--mr-fka.varzea.example", true}, {"*.varzea.example",
			"xn--mr-fka.varzea.example", true}, {"xn--*.varzea.example", "xn--mr-fka.varzea.example", false},
		{"10.20.0.14", "10.20.0.14", false}, {"*.20.0.14", "10.20.0.14", false},
		{"", "tidebook.varzea.example", false},
	} {
		leaf := &x509.Certificate{DNSNames: []string{c.san}}
		if c.san == "" {
			leaf.DNSNames, leaf.Subject.CommonName = nil, c.name
		}
		if got := certs.Covers(leaf, c.name); got != c.want {
			t.Errorf("%q covers %q: %v", c.san, c.name, got)
		}
	}
	for _, c := range []struct {
		ip, name string
		want     bool
	}{{"10.20.0.14", "10.20.0.14", true}, {"10.20.0.14", "10.20.0.15", false}, {"fd20::14", "fd20:0::14", true},
		{"fd20::14", "fd20::15", false}, {"10.20.0.14", "tidebook", false}} {
		if got := certs.Covers(&x509.Certificate{IPAddresses: []net.IP{net.ParseIP(c.ip)}}, c.name); got != c.want {
			t.Errorf("%s covers %s: %v", c.ip, c.name, got)
		}
	}
}

// TestProgramsName is that what programs say names causes that exist.
func TestProgramsName(t *testing.T) {
	for _, p := range program.Known().All() {
		for _, s := range p.Says {
			if _, ok := catalogue.Explain(s.Cause); !ok {
				t.Errorf("%s: %q means %s, which does not exist", p.Name, s.Words, s.Cause)
			}
		}
	}
}

// TestProgramsServe is that programs serve schemes that exist.
func TestProgramsServe(t *testing.T) {
	for _, p := range program.Known().All() {
		for scheme := range p.Serves {
			if s, ok := protocol.Lookup(scheme); !ok || s.Name != scheme {
				t.Errorf("%s serves %q, which is no scheme", p.Name, scheme)
			}
		}
	}
}
