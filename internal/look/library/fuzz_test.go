package library

import (
	"os"
	"path/filepath"
	"testing"

	"uakari/internal/fact"
)

// FuzzSettings reads anything as the settings of OpenSSL and of GnuTLS.
func FuzzSettings(f *testing.F) {
	f.Add(
		"openssl_conf = a\n[a]\nssl_conf = b\n[b]\nsystem_default = c\n[c]\nMinProtocol = TLSv1.2\nCipherString = " +
			"DEFAULT:@SECLEVEL=2:!aNULL\n",
	)
	f.Add(".include = openssl.cnf\n[overrides]\ndisabled-version = tls1.0\n")
	f.Fuzz(func(t *testing.T, text string) {
		root := t.TempDir()
		for _, name := range []string{"/etc/ssl/openssl.cnf", "/etc/gnutls/config"} {
			if err := os.MkdirAll(filepath.Dir(root+name), 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(root+name, []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		t.Setenv("OPENSSL_CONF", "")
		var l fact.Library
		Root(root).openSSL(&l)
		Root(root).gnuTLS(&l)
		choose(text)
	})
}
