package wire

import (
	"strings"
	"testing"
)

// TestTunnelTo is what a proxy is asked, and under which name.
func TestTunnelTo(t *testing.T) {
	for path, want := range map[string]string{
		"/tidebook.varzea.example:443": "CONNECT tidebook.varzea.example:443 HTTP/1.1\r\nHost: " +
			"tidebook.varzea.example:443\r\n",
		"/tidebook.varzea.example:443?a=b": "CONNECT tidebook.varzea.example:443 HTTP/1.1\r\nHost: " +
			"tidebook.varzea.example:443\r\n",
		"/": "OPTIONS * HTTP/1.1\r\nHost: proxy.varzea.example:3128\r\n",
		"":  "OPTIONS * HTTP/1.1\r\nHost: proxy.varzea.example:3128\r\n",
	} {
		if _, _, request := tunnelTo(path, "proxy.varzea.example:3128", ""); !strings.HasPrefix(request, want) {
			t.Errorf("%q: %q, want %q", path, request, want)
		}
	}
}
