package wire

import (
	"strings"
	"testing"

	"uakari/internal/fact"
)

// ldapPolicy is the answer to a bind with what a password policy found.
func ldapPolicy(code, found byte) string {
	body := append([]byte{0x0a, 1, code}, append(berOf(4, nil), berOf(4, nil)...)...)
	value := berOf(0x30, append(berOf(0xa0, berOf(0x80, []byte{5})), berOf(0x81, []byte{found})...))
	control := berOf(0x30, append(berOf(4, []byte(passwordPolicy)), berOf(4, value)...))
	return string(berOf(0x30, append(append([]byte{2, 1, 2}, berOf(0x61, body)...), berOf(0xa0, control)...)))
}

// TestLogins is one try in each protocol, and what servers say to it.
func TestLogins(t *testing.T) {
	const ehlo = "250-tidebook\r\n250 AUTH PLAIN LOGIN\r\n"
	for _, c := range []struct {
		protocol  string
		says      []string
		outcome   fact.LoginOutcome
		code      string
		mechanism string
		text      string
	}{
		{"http", []string{"HTTP/1.1 200 OK\r\n\r\n"}, fact.LoginAccepted, "200", "basic", ""},
		{"http", []string{"HTTP/1.1 404 Not Found\r\n\r\n"}, fact.LoginAccepted, "404", "basic", ""},
		{"http", []string{"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Digest realm=x\r\n\r\n"}, fact.LoginRefused, "mechanism", "basic", "no account by basic"},
		{"http", []string{"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Basic realm=x\r\n\r\n"}, fact.LoginRefused, "401", "basic", ""},
		{"http", []string{"HTTP/1.1 403 Forbidden\r\n\r\n"}, fact.LoginRefused, "403", "basic", ""},
		{"http", []string{""}, fact.LoginFailed, "", "basic", ""},
		{"redis", []string{"+OK\r\n"}, fact.LoginAccepted, "", "AUTH", ""},
		{"redis", []string{"-WRONGPASS invalid username-password pair\r\n"}, fact.LoginRefused, "WRONGPASS", "AUTH", "invalid"},
		{"ldap", []string{ldapResult(0x61, 0, "")}, fact.LoginAccepted, "0", "simple", ""},
		{"ldap", []string{ldapResult(0x61, 49, "data 775")}, fact.LoginRefused, "49", "simple", "data 775"},
		{"ldap", []string{ldapPolicy(49, 1)}, fact.LoginRefused, "49", "simple", "password policy: accountLocked"},
		{"ldap", []string{ldapPolicy(0, 2)}, fact.LoginAccepted, "0", "simple", "password policy: changeAfterReset"},
		{"ldap", []string{ldapPolicy(49, 77)}, fact.LoginRefused, "49", "simple", ""},
		{"ldap", []string{ldapResult(0x65, 0, "")}, fact.LoginFailed, "", "simple", "not LDAP"},
		{"smtp", []string{ehlo, "334 \r\n", "235 2.7.0 yes\r\n"}, fact.LoginAccepted, "235 2.7.0", "PLAIN", ""},
		{"smtp", []string{ehlo, "334 \r\n", "535 5.7.8 no\r\n"}, fact.LoginRefused, "535 5.7.8", "PLAIN", "no"},
		{"smtp", []string{ehlo, "535 no\r\n"}, fact.LoginRefused, "535", "PLAIN", "no"},
		{"smtp", []string{ehlo}, fact.LoginFailed, "", "PLAIN", ""},
		{"smtp", []string{ehlo, "334 \r\n", "334 \r\n", "235 yes\r\n"}, fact.LoginFailed, "", "PLAIN", "more than there is to say"},
		{"smtp", []string{"250 AUTH LOGIN\r\n", "334 VXNlcm5hbWU6\r\n", "334 UGFzc3dvcmQ6\r\n", "235 yes\r\n"}, fact.LoginAccepted, "235", "LOGIN", ""},
		{"smtp", []string{"250 AUTH SCRAM-SHA-256 PLAIN\r\n", "334 \r\n", "334 cj1vdGhlcixzPWMyRnNkQT09LGk9NDA5Ng==\r\n"}, fact.LoginFailed, "", "SCRAM-SHA-256", "no sense"},
		{"smtp", []string{"250 AUTH GSSAPI\r\n"}, fact.LoginRefused, "mechanism", "SCRAM-SHA-256, PLAIN, LOGIN", "none of these"},
		{"smtp", []string{"250 tidebook\r\n"}, fact.LoginRefused, "mechanism", "SCRAM-SHA-256, PLAIN, LOGIN", "none of these"},
		{"imap", []string{"* CAPABILITY IMAP4rev2 AUTH=PLAIN\r\nu4 OK\r\n", "u3 OK in\r\n"}, fact.LoginAccepted, "OK", "LOGIN", ""},
		{"imap", []string{"* CAPABILITY IMAP4rev2 LOGINDISABLED AUTH=PLAIN\r\nu4 OK\r\n", "+ \r\n", "u3 OK in\r\n"}, fact.LoginAccepted, "OK", "PLAIN", ""},
		{"imap", []string{"* CAPABILITY IMAP4rev2 LOGINDISABLED\r\nu4 OK\r\n"}, fact.LoginRefused, "mechanism", "SCRAM-SHA-256, PLAIN, LOGIN", "none of these"},
		{"imap", []string{"u4 OK\r\n", "u3 NO [AUTHENTICATIONFAILED] no\r\n"}, fact.LoginRefused, "AUTHENTICATIONFAILED", "LOGIN", ""},
		{"imap", []string{"* BYE\r\n"}, fact.LoginFailed, "", "LOGIN", ""},
		{"postgres", []string{pgAuth(0, "") + pg('Z', "I")}, fact.LoginAccepted, "", "none", ""},
		{"postgres", []string{pgAuth(3, ""), pgAuth(0, "") + pg('Z', "I")}, fact.LoginAccepted, "", "password", ""},
		{"postgres", []string{pgAuth(5, "salt"), pg('E', "C28P01\x00Mpassword authentication failed\x00\x00")}, fact.LoginRefused, "28P01", "md5", "password authentication failed"},
		{"postgres", []string{pg('E', "C3D000\x00Mno such database\x00\x00")}, fact.LoginRefused, "3D000", "none", "no such database"},
		{"postgres", []string{pgAuth(7, "")}, fact.LoginWithheld, "", "method 7", "not tried"},
		{"postgres", []string{pgAuth(10, "SCRAM-SHA-256\x00\x00"), pgAuth(11, "r=other,s=c2FsdA==,i=4096")}, fact.LoginFailed, "", "SCRAM-SHA-256", "no sense"},
	} {
		l := TryLogin(peer(t, c.says...), c.protocol, Credentials{Account: "svc-tide", Secret: "canary-7", Host: "tidebook", Path: "/tides"})
		if l.Outcome != c.outcome || l.Code != c.code || l.Mechanism != c.mechanism || !strings.Contains(l.Text, c.text) {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, l)
		}
	}
}

// TestRepeated is a server that repeats what it was told.
func TestRepeated(t *testing.T) {
	for protocol, says := range map[string][]string{
		"redis": {"-ERR canary-7 is wrong\r\n"}, "imap": {"u4 OK\r\n", "u3 NO canary-7 is wrong\r\n"}, "ldap": {ldapResult(0x61, 49, "canary-7 is wrong")},
		"smtp": {"250 AUTH PLAIN\r\n", "535 canary-7 is wrong\r\n"}, "postgres": {pg('E', "C28P01\x00Mcanary-7 is wrong\x00\x00")}, "http": {"HTTP/1.1 401 canary-7 is wrong\r\n\r\n"},
	} {
		l := TryLogin(peer(t, says...), protocol, Credentials{Account: "svc-tide", Secret: "canary-7"})
		if !strings.Contains(l.Text, "is wrong") || strings.Contains(l.Text, "canary-7") {
			t.Errorf("%s: %+v", protocol, l)
		}
	}
}

// TestCannotCarry is a secret that would end a line of the protocol and
// begin another.
func TestCannotCarry(t *testing.T) {
	l := TryLogin(peer(t, "u4 OK\r\n"), "imap", Credentials{Account: "svc-tide", Secret: "a\r\nu4 DELETE x"})
	if l.Outcome != fact.LoginFailed || !strings.Contains(l.Text, "cannot carry") {
		t.Errorf("%+v", l)
	}
}

// TestScram is the exchange of RFC 7677 section 3.
func TestScram(t *testing.T) {
	s := scram{nonce: "rOprNGfwEbeRWgbNEkqO", bare: "n=user,r=rOprNGfwEbeRWgbNEkqO"}
	const challenge = "r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096"
	last, err := s.last(challenge, "pencil")
	if want := "c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ="; err != nil || last != want {
		t.Errorf("%q, %v", last, err)
	}
	for _, bad := range []string{"", "r=other,s=AA==,i=1", "r=rOprNGfwEbeRWgbNEkqO,s=!,i=1", "r=rOprNGfwEbeRWgbNEkqO,s=AA==,i=0", "r=rOprNGfwEbeRWgbNEkqO,s=AA==,i=999999999"} {
		if _, err := s.last(bad, "pencil"); err == nil {
			t.Errorf("%q is taken", bad)
		}
	}
}

// TestMD5 is the answer to a salt, as the manual words it: md5(md5(secret,
// account), salt).
func TestMD5(t *testing.T) {
	got := postgresMD5(Credentials{Account: "svc-tide", Secret: "canary-7"}, []byte{1, 2, 3, 4})
	if !strings.HasPrefix(got, "md5") || len(got) != 35 {
		t.Errorf("%q", got)
	}
	if got == postgresMD5(Credentials{Account: "svc-tide", Secret: "canary-7"}, []byte{1, 2, 3, 5}) {
		t.Error("the salt makes no difference")
	}
}
