package program

import (
	"net/netip"
	"regexp"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestHAProxyDenies is the rules of one front for one client.
func TestHAProxyDenies(t *testing.T) {
	keep := regexp.MustCompile(haproxyKeeps)
	for _, c := range []struct {
		rules, denies, unsure string
		web                   bool
	}{
		{"", "", "", false},
		{"tcp-request connection reject if { src 10.20.7.0/24 }",
			"tcp-request connection reject if { src 10.20.7.0/24 }", "", false},
		{"tcp-request connection reject if { src 10.20.8.0/24 }", "", "", false},
		{"tcp-request connection reject if !{ src 10.20.8.0/24 127.0.0.1 }",
			"tcp-request connection reject", "", false},
		{"tcp-request connection accept if { src 10.20.7.31 }\ntcp-request connection reject", "", "", false},
		{"tcp-request connection accept if { src 10.20.7.32 }\ntcp-request connection reject",
			"tcp-request connection reject", "", false},
		{"acl quays src 10.20.8.0/24\nacl quays src 10.20.7.0/24\nhttp-request deny unless quays",
			"", "", false},
		{"acl quays src 10.20.8.0/24\nhttp-request deny deny_status 403 unless quays",
			"http-request deny", "", true},
		{"acl quays src 10.20.7.0/24\nacl api path_beg /api\nhttp-request deny if quays api",
			"http-request deny", "more than the address", true},
		{"http-request deny if { path_beg /api }", "", "", false},
		{"http-request deny if { src 10.20.8.1 } || { src 10.20.7.31 }", "http-request deny", "", true},
		{"http-request deny if { src -f /etc/haproxy/banned }",
			"http-request deny", "more than the address", true},
		{"tcp-request content reject if LOCALHOST or { src 10.20.7.31 }",
			"tcp-request content reject", "", false},
		{"tcp-request connection expect-proxy layer4\ntcp-request content reject if { src 10.20.7.31 }",
			"tcp-request content reject", "", false},
		{"http-request set-src hdr(x-forwarded-for)\nhttp-request deny if { src 10.20.7.31 }",
			"http-request deny",
			"another address", true},
		{"http-request set-header Authorization Basic\\ bG93LXRpZGU", "", "", false},
	} {
		text := "global\n\tlog stderr\nfrontend other\n\tbind :8080\n\ttcp-request connection reject\n" +
			"frontend web\n\tbind 10.20.0.14:80\n\tbind *:443-444 ssl crt /etc/pem # the quays\n\t" +
			strings.ReplaceAll(c.rules, "\n", "\n\t") + "\n\tdefault_backend b\nbackend b\n\tserver one 10.20.0.15:80\n"
		f := fact.AccessFile{Path: "/etc/haproxy/haproxy.cfg", Kind: fact.ListHAProxy}
		number := 0
		for line := range strings.Lines(text) {
			if number++; keep.MatchString(line) {
				f.Lines = append(f.Lines, fact.Line{Number: number, Text: line})
			}
			if strings.Contains(line, "Authorization") && keep.MatchString(line) {
				t.Errorf("what may be a secret is kept: %s", line)
			}
		}
		to := netip.MustParseAddrPort("10.20.0.14:443")
		r, denies := HAProxyDenies([]fact.AccessFile{f}, netip.MustParseAddr("10.20.7.31"), to)
		if denies != (c.denies != "") || !strings.HasPrefix(r.Text, c.denies) || r.Web != c.web ||
			(r.Unsure == "") != (c.unsure == "") || !strings.Contains(r.Unsure, c.unsure) {
			t.Errorf("%q: %v, %+v", c.rules, denies, r)
		}
	}
}
