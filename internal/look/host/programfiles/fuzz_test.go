package programfiles

import (
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/redact"
)

// FuzzServerSettings reads anything as the settings of every program that
// names certificates, backends and lists.
func FuzzServerSettings(f *testing.F) {
	f.Add(
		"server { listen 443 ssl; server_name x; ssl_certificate a.pem; ssl_certificate_key b; location / { " +
			"proxy_pass http://heron:80/; } }\n",
	)
	f.Add("<VirtualHost *:443>\nServerName x\nSSLCertificateFile /a\n</VirtualHost>\nProxyPass / http://x:1/\n")
	f.Add("frontend a\n bind :443 ssl crt /x\nbackend b\n server s 10.20.0.14:80\n")
	f.Add("ssl = on\nssl_cert_file = 'x'\nhba_file = 'y'\ndata_directory = '/z'\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, s := range program.Known().All() {
			for _, p := range first(certSetting{s}.pairs(text, "/etc/x", "/etc")) {
				if p.Place == "" {
					t.Errorf("a pair without its place: %+v", p)
				}
			}
		}
		for _, gateway := range program.Gateways() {
			for _, up := range program.UpstreamsIn(gateway, text, "/etc/x") {
				if up.Line < 1 || up.Line > strings.Count(text, "\n")+1 {
					t.Errorf("line %d of %q", up.Line, text)
				}
			}
		}
		plainHost.listOfPostgres(program.Program{}, 0, "/etc/x", []byte(text))
		includes().FindAllSubmatch([]byte(text), -1)
	})
}

func first(pairs []fact.CertPair, _ []fact.ClientStore, _ string) []fact.CertPair { return pairs }

// FuzzAccessLines keeps lines of any access list, in one line each.
func FuzzAccessLines(f *testing.F) {
	for _, kind := range []string{"pg_hba", "nginx", "sshd", "redis", "hosts.allow", "list", "other"} {
		f.Add(kind, "host all all 10.20.0.0/16 ldap ldapbindpasswd=\"x y\"; { } # [")
	}
	f.Fuzz(func(t *testing.T, kind, line string) {
		kept := redact.Line(kind, line)
		if strings.Count(kept, "\n") > strings.Count(line, "\n") {
			t.Errorf("%q became %q", line, kept)
		}
	})
}
