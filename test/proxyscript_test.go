package test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
)

// TestProxyScript sends a client by a script: straight, to a proxy that is there, to one that
// is not, with and without another way, and by scripts that fail. What is asked is a server
// that works.
func TestProxyScript(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	const endpoint = "http://10.20.0.14:8080/"
	script := func(body string) string {
		return write(t, filepath.Join(t.TempDir(), "proxy.pac"),
			"// made by hand\nfunction FindProxyForURL(url, host) {\n"+body+"\n}\n")
	}
	for _, c := range []struct {
		name, body string
		want       []string
		says       string
	}{
		{"straight", `return "DIRECT";`, nil, ""},
		{"straight for this net", "if (isInNet(host, \"10.20.0.0\", \"255.255.255.0\"))\nreturn \"DIRECT\";\n" +
			`return "PROXY 10.20.7.1:9";`, nil, ""},
		{"to a proxy that is not there", "if (shExpMatch(url, \"http://10.20.*\"))\nreturn \"PROXY 10.20.7.1:9\";\n" +
			`return "DIRECT";`, []string{"settings/proxy-in-the-way proven"}, "line 4 of the script "},
		{"with another way", `return "PROXY 10.20.7.1:9; DIRECT";`, nil, "the script allows another way then"},
		{"it fails", "return heron;", nil, "heron is not defined"},
		{"it never ends", "while (true) {}", nil, "more time or memory"},
		{"it answers with nonsense", `return "proxy.varzea.example:3128";`, nil, "expected DIRECT, or PROXY"},
	} {
		judged := traced(t, enter(l.client), "--proxy-script", script(c.body), endpoint)
		text := dump(judged)
		for _, cause := range judged.Causes {
			text += cause.Summary + "\n"
		}
		expect(t, judged, c.want...)
		if !strings.Contains(text, c.says) {
			t.Errorf("%s: it does not say %q\n%s", c.name, c.says, text)
		}
	}
	// By a URL, of a server that has it, that has none, and that is not there.
	served := http.NewServeMux()
	served.HandleFunc("/proxy.pac", func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintln(w, `function FindProxyForURL(url, host) { return "PROXY 127.0.0.1:9"; }`)
	})
	server := httptest.NewServer(served)
	t.Cleanup(server.Close)
	place := server.URL
	for path, says := range map[string]string{"/proxy.pac": "127.0.0.1:9", "/none": "404"} {
		r := run(t, "trace", "--json", "--only", "settings", "--proxy-script", place+path, endpoint)
		if !strings.Contains(r.stdout, says) {
			t.Errorf("%s: it does not say %q: %s%s", path, says, r.stdout, r.stderr)
		}
	}
	r := run(t, "trace", "--json", "--only", "settings", "--proxy-script", "http://127.0.0.1:9/x", endpoint)
	if !strings.Contains(r.stdout, "settings/proxy-script-fails") {
		t.Errorf("a server that is not there: %s%s", r.stdout, r.stderr)
	}
}
