package program

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestKeyAlone is what sshd's settings want beside a key (sshd_config(5),
// AuthenticationMethods: any list is enough, and of a list all).
func TestKeyAlone(t *testing.T) {
	const two = "AuthenticationMethods publickey,password"
	for text, want := range map[string]string{
		"PermitRootLogin no":                                  "",
		"PubkeyAuthentication no":                             "login/mechanism-off",
		"AuthenticationMethods publickey":                     "",
		"AuthenticationMethods any":                           "",
		two:                                                   "login/second-factor",
		two + " publickey":                                    "",
		two + " keyboard-interactive":                         "login/second-factor",
		"AuthenticationMethods password":                      "login/mechanism-off",
		"Match User tidebook\n" + two:                         "",
		"AuthenticationMethods any\n" + two:                   "",
		"AuthenticationMethods any\nMatch User gauge\n" + two: "login/second-factor",
	} {
		f := fact.AccessFile{Path: "/etc/ssh/sshd_config", Kind: "sshd"}
		for i, line := range strings.Split(text, "\n") {
			f.Lines = append(f.Lines, fact.Line{Number: i + 1, Text: line})
		}
		s := SSHSettingsFor(&fact.Access{Files: []fact.AccessFile{f}},
			SSHLogin{Account: "gauge", Source: netip.MustParseAddr("10.20.7.31"), Port: 22})
		if cause, told, by := s.Short(); cause != want || (cause != "") != (by != nil && told != "") {
			t.Errorf("%q: %q (%s), want %q", text, cause, told, want)
		}
	}
}
