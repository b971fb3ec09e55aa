package program

import (
	"fmt"
	"testing"
)

// TestBackendIn reads backends as gateways write them.
func TestBackendIn(t *testing.T) {
	for value, want := range map[string]string{
		"http://10.20.0.15:3000/levels":                "http 10.20.0.15 3000  true",
		"https://ledger.varzea.example":                "https ledger.varzea.example 443  true",
		"127.0.0.1:9000":                               "tcp 127.0.0.1 9000  true",
		"[fd20::15]:3000 weight=2":                     "tcp fd20::15 3000  true",
		"unix:/run/php/php8.2-fpm.sock":                "unix  0 /run/php/php8.2-fpm.sock true",
		"http://unix:/run/tide.sock:/levels/":          "unix  0 /run/tide.sock true",
		"proxy:unix:/run/php/x.sock|fcgi://localhost/": "unix  0 /run/php/x.sock true",
		"fcgi://127.0.0.1:9001/srv/":                   "tcp 127.0.0.1 9001  true",
		"ajp://heron.varzea.example":                   "tcp heron.varzea.example 8009  true",
		"http://tides":                                 "  0  false",
		"$upstream":                                    "  0  false",
		"balancer://tides":                             "  0  false",
		"10.20.0.15":                                   "  0  false",
	} {
		up, ok := BackendIn(value)
		got := fmt.Sprintf("%s %s %d %s %v", up.Scheme, up.Host, up.Port, up.Socket, ok)
		if !ok {
			got = "  0  false"
		}
		if got != want {
			t.Errorf("%q: got %q, want %q", value, got, want)
		}
	}
}
