package message

import (
	"slices"
	"strings"
	"testing"
)

// TestEveryMessage puts each message, literally, between other words, and finds what it means.
func TestEveryMessage(t *testing.T) {
	all := All()
	if len(all) < 400 {
		t.Fatalf("%d messages", len(all))
	}
	for _, m := range all {
		for _, text := range []string{
			m.Says, strings.ToUpper(m.Says),
			"2026-12-01 10:20:03 tide-relay: error: " + m.Says + " (while it was asked)",
		} {
			if number.MatchString(m.Says) && strings.HasPrefix(text, "2026") {
				text = "tide-relay: error " + m.Says + " while it was asked"
			}
			if m.pattern.String() != patternOf(m.Says, "").String() && text != m.Says {
				continue // its expression may ask for its own letters
			}
			found := Find(text)
			if !slices.ContainsFunc(found, func(f Found) bool { return f.Means == m.Means }) {
				t.Errorf("%s: %q is found as %+v", m.Library, text, found)
			}
		}
		if m.Means == "" || len(m.Causes) == 0 || m.About == "" {
			t.Errorf("%s: %q means nothing", m.Library, m.Says)
		}
	}
}

// TestFind is texts as administrators have them.
func TestFind(t *testing.T) {
	for _, c := range []struct{ text, cause, endpoint string }{
		{"psql: error: connection to server at \"ledger\" (10.20.0.20), port 5432 failed: Connection refused\n\tIs the " +
			"server running on that host and accepting TCP/IP connections?", "ports/none-listening", "postgres://ledger:5432"},
		{"ssh: connect to host pier port 22: Connection timed out", "rules/server-drop", "ssh://pier:22"},
		{"Login failed for user 'gauge'. (Microtide, Error: 18456, Severity 14, State: 38)", "login/no-such-resource", ""},
		{"Get \"https://tidebook.varzea.example/levels\": x509: certificate signed by unknown authority",
			"certs/unknown-issuer", "https://tidebook.varzea.example/levels"},
		{"dial tcp 10.20.0.14:443: connect: connection refused", "ports/none-listening", "10.20.0.14:443"},
		{"The RPC server is unavailable. (0x800706BA)", "ports/dynamic-shut", ""},
		{"kinit: Preauthentication failed while getting initial credentials", "login/wrong-secret", ""},
		{"SSL_ERROR_BAD_CERT_DOMAIN", "certs/name-not-covered", ""}, {"EAI_AGAIN", "names/resolver-silent", ""},
		{"java.net.UnknownHostException: ledger", "names/no-such-name", ""},
		{"HTTP/1.1 502 Bad Gateway\r\nServer: nginx", "answer/hop-fails", ""},
		{"SQLSTATE[28000] [1045] Access denied for user 'gauge'@'10.20.7.31'", "login/wrong-secret", ""},
		{"connect ECONNREFUSED 10.20.0.14:8443", "ports/none-listening", "10.20.0.14:8443"},
	} {
		found := Find(c.text)
		if len(found) == 0 || !slices.Contains(Causes(found)[:min(4, len(Causes(found)))], c.cause) {
			t.Errorf("%q: %+v", c.text, found)
		}
		if got := Endpoint(c.text, found); got != c.endpoint {
			t.Errorf("%q: endpoint %q, want %q", c.text, got, c.endpoint)
		}
	}
	for _, text := range []string{"", "all is well on port 10061", "10:20:03 the tide comes in", "18456 gauges"} {
		if found := Find(text); len(found) > 0 {
			t.Errorf("%q: %+v", text, found)
		}
	}
}
