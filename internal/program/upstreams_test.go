package program

import (
	"fmt"
	"strings"
	"testing"

	"uakari/internal/endpoint"
)

// TestUpstreamsIn is lines of gateways' settings, and the backends they name.
func TestUpstreamsIn(t *testing.T) {
	for _, c := range []struct{ program, text, want string }{
		{"nginx", "location / { proxy_pass http://10.20.0.15:8080; }", "http 10.20.0.15:8080 line 1"},
		{"nginx", "\nlocation / {\n  proxy_pass https://tideapi.varzea.example/v1/;\n}",
			"https tideapi.varzea.example:443 line 3"},
		{"nginx", "upstream tides {\n server 10.20.0.15:8080 weight=2;\n server [2001:db8::15]:8080;\n}\nlocation / " +
			"{ proxy_pass http://tides; }", "http 10.20.0.15:8080 line 2, http [2001:db8::15]:8080 line 3"},
		{"nginx", "server {\n listen 443 ssl;\n server_name tidebook.varzea.example;\n}", ""},
		{"nginx", "# proxy_pass http://10.20.0.15:8080;", ""},
		{"nginx", "proxy_pass http://localhost/;", "http localhost:80 line 1"},
		{"nginx", "proxy_pass http://unix:/run/tides.sock;", ""},
		{"haproxy", "backend tides\n  server one 10.20.0.15:8080 check\n  server two tideapi:9090",
			"http 10.20.0.15:8080 line 2, http tideapi:9090 line 3"},
		{"haproxy", "  # server one 10.20.0.15:8080", ""},
		{"apache2", "ProxyPass /tides http://10.20.0.15:8080/\nProxyPassReverse /tides http://10.20.0.15:8080/",
			"http 10.20.0.15:8080 line 1"},
		{"apache2", "ProxyPass /old !", ""},
	} {
		var got []string
		for _, up := range UpstreamsIn(c.program, c.text, "/made/up.conf") {
			got = append(got, up.Scheme+" "+endpoint.HostPort(up.Host, up.Port)+" line "+string(rune('0'+up.Line)))
		}
		if strings.Join(got, ", ") != c.want {
			t.Errorf("%s %q: %q, want %q", c.program, c.text, got, c.want)
		}
	}
}

// TestVerifies reads whether a gateway checks the certificates of its backends, and for which
// name, from the block of each and those around it.
func TestVerifies(t *testing.T) {
	for text, want := range map[string]string{
		"http { server { location / { proxy_pass https://ebb.varzea.example/; proxy_ssl_verify on; proxy_ssl_name tide; } } }":  "true tide",
		"http {\n proxy_ssl_verify on;\n server {\n location / {\n proxy_pass https://ebb.varzea.example/;\n }\n }\n}\n":        "true ",
		"http { server { location /a { proxy_ssl_verify on; } location / { proxy_pass https://ebb.varzea.example/; } } }":       "false ",
		"http { proxy_ssl_verify on; server { location / { proxy_pass https://ebb.varzea.example/; proxy_ssl_verify off; } } }": "false ",
	} {
		list := UpstreamsIn(Nginx, text, "nginx.conf")
		if len(list) != 1 || fmt.Sprintf("%v %s", list[0].Verified, list[0].Name) != want {
			t.Errorf("%q: %+v, want %s", text, list, want)
		}
	}
	list := UpstreamsIn(HAProxy, "backend b\n server s ebb.varzea.example:443 ssl verify required verifyhost tide ca-file x\n", "h")
	if len(list) != 1 || !list[0].Verified || list[0].Name != "tide" {
		t.Errorf("%+v", list)
	}
}
