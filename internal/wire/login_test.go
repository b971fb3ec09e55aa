package wire

import (
	"encoding/base64"
	"io"
	"net"
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
	const (
		xmppOffers = "<stream:stream " +
			"xmlns:stream='s'><stream:features><mechanisms><mechanism>PLAIN</mechanism></mechanisms></stream:features>"
		ehlo = "250-tidebook\r\n250 AUTH PLAIN LOGIN\r\n"
		ours = "SCRAM-SHA-256, SCRAM-SHA-1, DIGEST-MD5, CRAM-MD5, PLAIN, LOGIN"
	)
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
		{"http", []string{"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Digest realm=x\r\n\r\n"}, fact.LoginRefused,
			"mechanism", "basic", "no account by basic"},
		{"http", []string{"HTTP/1.1 401 Unauthorized\r\nWWW-Authenticate: Basic realm=x\r\n\r\n"}, fact.LoginRefused,
			"401", "basic", ""},
		{"http", []string{"HTTP/1.1 403 Forbidden\r\n\r\n"}, fact.LoginRefused, "403", "basic", ""},
		{"http", []string{"HTTP/1.1 401 No\r\nWWW-Authenticate: Bearer error=\"insufficient_user_authentication\", " +
			"error_description=\"once more\"\r\n\r\n"}, fact.LoginRefused, "mechanism", "basic", ""},
		{"http", []string{"HTTP/1.1 401 No\r\nWWW-Authenticate: Basic realm=x, " +
			"error=\"insufficient_user_authentication\", error_description=\"once more\"\r\n\r\n"}, fact.LoginRefused,
			"insufficient_user_authentication", "basic", "once more"},
		{"http", []string{"HTTP/1.1 400 Bad " +
			"Request\r\n\r\n{\"error\":\"consent_required\",\"error_description\":\"by its owner\"}"},
			fact.LoginRefused, "consent_required", "basic", "by its owner"},
		{"http", []string{"HTTP/1.1 400 Bad Request\r\n\r\n{\"error\":\"no such tide\"}"}, fact.LoginRefused, "400",
			"basic", ""},
		{"http", []string{"HTTP/1.1 302 Found\r\nLocation: /account/mfa?next=/\r\n\r\n"}, fact.LoginMore,
			"second-factor", "basic", "it sends to /account/mfa"},
		{"http", []string{"HTTP/1.1 302 Found\r\nLocation: https://tidebook.varzea.example/login.html\r\n\r\n"},
			fact.LoginRefused, "sign-in-page", "basic", "login.html"},
		{"http", []string{"HTTP/1.1 302 Found\r\nLocation: /readings\r\n\r\n"}, fact.LoginAccepted, "302", "basic",
			""},
		{"http", []string{""}, fact.LoginCut, "", "basic", "without a word"},
		{"http", []string{"SSH-2.0-x\r\n"}, fact.LoginFailed, "", "basic", "not HTTP"},
		{"redis", []string{""}, fact.LoginCut, "", "AUTH", "without a word"},
		{"redis", []string{"220 heron\r\n"}, fact.LoginFailed, "", "AUTH", "not Redis"},
		{"redis", []string{"+OK\r\n"}, fact.LoginAccepted, "", "AUTH", ""},
		{"redis", []string{"-WRONGPASS invalid username-password pair\r\n"}, fact.LoginRefused, "WRONGPASS", "AUTH",
			"invalid"},
		{"ldap", []string{ldapResult(2, 0x61, 0, "")}, fact.LoginAccepted, "0", "simple", ""},
		{"ldap", []string{ldapResult(2, 0x61, 49, "data 775")}, fact.LoginRefused, "49", "simple", "data 775"},
		{"ldap", []string{ldapPolicy(49, 1)}, fact.LoginRefused, "49", "simple", "password policy: accountLocked"},
		{"ldap", []string{ldapPolicy(0, 2)}, fact.LoginAccepted, "0", "simple", "password policy: changeAfterReset"},
		{"ldap", []string{ldapPolicy(49, 77)}, fact.LoginRefused, "49", "simple", ""},
		{"ldap", []string{ldapResult(2, 0x65, 0, "")}, fact.LoginFailed, "", "simple", "not LDAP"},
		{"smtp", []string{ehlo, "334 \r\n", "235 2.7.0 yes\r\n"}, fact.LoginAccepted, "235 2.7.0", "PLAIN", ""},
		{"smtp", []string{ehlo, "334 \r\n", "535 5.7.8 no\r\n"}, fact.LoginRefused, "535 5.7.8", "PLAIN", "no"},
		{"smtp", []string{ehlo, "535 no\r\n"}, fact.LoginRefused, "535", "PLAIN", "no"},
		{"smtp", []string{ehlo}, fact.LoginFailed, "", "PLAIN", ""},
		{"smtp", []string{ehlo, "334 \r\n", "334 \r\n", "235 yes\r\n"}, fact.LoginFailed, "", "PLAIN",
			"more than there is to say"},
		{"smtp", []string{"250 AUTH CRAM-MD5 PLAIN\r\n", "334 PDE4OTZAdmFyemVhLmV4YW1wbGU+\r\n", "235 2.7.0 yes\r\n"},
			fact.LoginAccepted, "235 2.7.0", "CRAM-MD5", ""},
		{"smtp", []string{"250 AUTH DIGEST-MD5 LOGIN\r\n",
			"334 cmVhbG09InZhcnplYSIsbm9uY2U9InRpZGUiLHFvcD0iYXV0aCI=\r\n", "334 cnNwYXV0aD14\r\n",
			"235 2.7.0 yes\r\n"}, fact.LoginAccepted, "235 2.7.0", "DIGEST-MD5", ""},
		{"smtp", []string{"250 AUTH DIGEST-MD5\r\n", "334 eA==\r\n"}, fact.LoginFailed, "", "DIGEST-MD5",
			"more than there is to say"},
		{"smtp", []string{"503 not now\r\n"}, fact.LoginRefused, "503", "", "not now"},
		{"smtp", []string{"250 AUTH LOGIN\r\n", "334 VXNlcm5hbWU6\r\n", "334 UGFzc3dvcmQ6\r\n", "235 yes\r\n"},
			fact.LoginAccepted, "235", "LOGIN", ""},
		{"smtp", []string{"250 AUTH SCRAM-SHA-256 PLAIN\r\n", "334 \r\n",
			"334 cj1vdGhlcixzPWMyRnNkQT09LGk9NDA5Ng==\r\n"}, fact.LoginFailed, "", "SCRAM-SHA-256", "no sense"},
		{"smtp", []string{"250 AUTH GSSAPI\r\n"}, fact.LoginRefused, "mechanism", ours, "none of these"},
		{"smtp", []string{"250 tidebook\r\n"}, fact.LoginRefused, "mechanism", ours, "none of these"},
		{"imap", []string{"* CAPABILITY IMAP4rev2 AUTH=PLAIN\r\nu4 OK\r\n", "u3 OK in\r\n"}, fact.LoginAccepted, "OK",
			"LOGIN", ""},
		{"imap", []string{"* CAPABILITY IMAP4rev2 LOGINDISABLED AUTH=PLAIN\r\nu4 OK\r\n", "+ \r\n", "u3 OK in\r\n"},
			fact.LoginAccepted, "OK", "PLAIN", ""},
		{"imap", []string{"* CAPABILITY IMAP4rev2 LOGINDISABLED\r\nu4 OK\r\n"}, fact.LoginRefused, "mechanism", ours,
			"none of these"},
		{"imap", []string{"u4 OK\r\n", "u3 NO [AUTHENTICATIONFAILED] no\r\n"}, fact.LoginRefused,
			"AUTHENTICATIONFAILED", "LOGIN", ""},
		{"imap", []string{"* BYE\r\n"}, fact.LoginFailed, "", "LOGIN", ""},
		{"nats", []string{"PONG\r\n"}, fact.LoginAccepted, "", "CONNECT", ""},
		{"nats", []string{"-ERR 'Authorization Violation'\r\n"}, fact.LoginRefused, "-ERR", "CONNECT",
			"Authorization Violation"},
		{"socks5", []string{"\x05\x02", "\x01\x00"}, fact.LoginAccepted, "", "name and secret", ""},
		{"socks5", []string{"\x05\x02", "\x01\x01"}, fact.LoginRefused, "1", "name and secret", ""},
		{"socks5", []string{"\x05\xff"}, fact.LoginRefused, "mechanism", "name and secret",
			"it takes no name and secret"},
		{"xmpp", []string{xmppOffers, "<success xmlns='x'/>"}, fact.LoginAccepted, "", "PLAIN", ""},
		{"xmpp", []string{xmppOffers, "<failure xmlns='x'><not-authorized/><text>no</text></failure>"},
			fact.LoginRefused, "not-authorized", "PLAIN", "no"},
		{"postgres", []string{pgAuth(0, "") + pg('Z', "I")}, fact.LoginAccepted, "", "none", ""},
		{"postgres", []string{pgAuth(3, ""), pgAuth(0, "") + pg('Z', "I")}, fact.LoginAccepted, "", "password", ""},
		{"postgres", []string{pgAuth(5, "salt"), pg('E', "C28P01\x00Mpassword authentication failed\x00\x00")},
			fact.LoginRefused, "28P01", "md5", "password authentication failed"},
		{"postgres", []string{pg('E', "C3D000\x00Mno such database\x00\x00")}, fact.LoginRefused, "3D000", "none",
			"no such database"},
		{"postgres", []string{pgAuth(7, "")}, fact.LoginMore, "method", "method 7", "not spoken"},
		{"postgres", []string{pgAuth(5, "salt"), ""}, fact.LoginCut, "", "md5", "without a word"},
		{"ldap", []string{ldapResult(1, 0x61, 0, "")}, fact.LoginFailed, "", "simple", "not LDAP"},
		{"postgres", []string{pgAuth(10, "SCRAM-SHA-256\x00\x00"), pgAuth(11, "r=other,s=c2FsdA==,i=4096")},
			fact.LoginFailed, "", "SCRAM-SHA-256", "no sense"},
	} {
		l := TryLogin(
			peer(t, c.says...),
			c.protocol,
			Credentials{Account: "svc-tide", Secret: "canary-7", Host: "tidebook", Path: "/tides", Show: true},
		)
		if l.Outcome != c.outcome || l.Code != c.code || l.Mechanism != c.mechanism ||
			!strings.Contains(l.Text, c.text) {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, l)
		}
	}
}

// TestShowsNothing is servers that want the secret itself, over a connection
// that nobody vouches for: nothing goes out that anybody could use, and the
// ways that do not show it are gone.
func TestShowsNothing(t *testing.T) {
	for _, c := range []struct {
		protocol string
		says     []string
		outcome  fact.LoginOutcome
		way      string
	}{
		{"http", []string{"HTTP/1.1 401 No\r\nWWW-Authenticate: Basic realm=x\r\n\r\n"}, fact.LoginWithheld,
			"by basic"},
		{"redis", []string{"+OK\r\n"}, fact.LoginWithheld, "AUTH"},
		{"ldap", []string{ldapResult(2, 0x61, 0, "")}, fact.LoginWithheld, "a simple bind"},
		{"smtp", []string{"250 AUTH PLAIN LOGIN\r\n", "334 \r\n", "235 yes\r\n"}, fact.LoginWithheld,
			"by PLAIN, LOGIN"},
		{"smtp", []string{"250 AUTH PLAIN CRAM-MD5\r\n", "334 PDE4OTY+\r\n", "235 2.7.0 yes\r\n"}, fact.LoginAccepted,
			"CRAM-MD5"},
		{"imap", []string{"* CAPABILITY IMAP4rev2 AUTH=PLAIN\r\nu4 OK\r\n", "u3 OK in\r\n"}, fact.LoginWithheld,
			"by LOGIN or PLAIN"},
		{"imap", []string{"* CAPABILITY IMAP4rev2\r\nu4 OK\r\n", "u3 OK in\r\n"}, fact.LoginWithheld,
			"by LOGIN or PLAIN"},
		{"imap", []string{"* CAPABILITY IMAP4rev2 AUTH=CRAM-MD5\r\nu4 OK\r\n", "+ PDE4OTY+\r\n", "u3 OK in\r\n"},
			fact.LoginAccepted, "CRAM-MD5"},
		{"postgres", []string{pgAuth(3, ""), pgAuth(0, "") + pg('Z', "I")}, fact.LoginWithheld, "the method password"},
		{"postgres", []string{pgAuth(5, "salt"), pgAuth(0, "") + pg('Z', "I")}, fact.LoginAccepted, "md5"},
	} {
		near, far := net.Pipe()
		sent := make(chan string, 1)
		go func() { // the peer says its lines, and keeps what it heard
			var heard strings.Builder
			b := make([]byte, 4<<10)
			for _, line := range c.says {
				n, _ := far.Read(b)
				heard.Write(b[:n])
				io.WriteString(far, line)
			}
			n, _ := far.Read(b)
			heard.Write(b[:n])
			far.Close()
			sent <- heard.String()
		}()
		l := TryLogin(
			NewConn(near),
			c.protocol,
			Credentials{Account: "svc-tide", Secret: "canary-7", Host: "tidebook", Path: "/tides"},
		)
		near.Close()
		if l.Outcome != c.outcome || l.Mechanism != c.way {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, l)
		}
		heard := <-sent
		for _, form := range []string{"canary-7", base64.StdEncoding.EncodeToString([]byte("canary-7")),
			base64.StdEncoding.EncodeToString([]byte("\x00svc-tide\x00canary-7")),
			base64.StdEncoding.EncodeToString([]byte("svc-tide:canary-7"))} {
			if strings.Contains(heard, form) {
				t.Errorf("%s, %q: the secret went out: %q", c.protocol, c.says, heard)
			}
		}
	}
}

// TestCannotCarry is a secret that would end a line of the protocol and
// begin another.
func TestCannotCarry(t *testing.T) {
	l := TryLogin(peer(t, "u4 OK\r\n"), "imap", Credentials{Account: "svc-tide", Secret: "a\r\nu4 DELETE x",
		Show: true})
	if l.Outcome != fact.LoginFailed || !strings.Contains(l.Text, "cannot carry") {
		t.Errorf("%+v", l)
	}
}

// TestScram is the exchange of RFC 7677 section 3.
func TestScram(t *testing.T) {
	s := scram{nonce: "rOprNGfwEbeRWgbNEkqO", bare: "n=user,r=rOprNGfwEbeRWgbNEkqO"}
	const challenge = "r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,s=W22ZaJ0SNY7soEsUEjb6gQ==,i=4096"
	last, err := s.last(challenge, "pencil")
	if want := "c=biws,r=rOprNGfwEbeRWgbNEkqO%hvYDpWUa2RaTCAfuxFIlj)hNlF$k0,p=dHzbZapWIk4jUhN+Ute9ytag9zjfMHgsqmmiz7AndVQ="; err != nil ||
		last != want {
		t.Errorf("%q, %v", last, err)
	}
	for _, bad := range []string{"", "r=other,s=AA==,i=1", "r=rOprNGfwEbeRWgbNEkqO,s=!,i=1",
		"r=rOprNGfwEbeRWgbNEkqO,s=AA==,i=0", "r=rOprNGfwEbeRWgbNEkqO,s=AA==,i=999999999"} {
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

// TestNoSession is accounts that are let in, and then get nothing.
func TestNoSession(t *testing.T) {
	mysql := numbered(mysqlPacket("\x00\x00\x00\x02\x00\x00\x00"), 2)
	hidden := func(matched string) string {
		body := append([]byte{0x0a, 1, 32}, berOf(0x04, []byte(matched))...)
		return string(berOf(0x30, append([]byte{0x02, 1, 3}, berOf(0x65, append(body, 0x04, 0))...)))
	}
	imap := "* CAPABILITY IMAP4rev2 AUTH=PLAIN\r\nu4 OK\r\n"
	for _, c := range []struct {
		protocol, path string
		says           []string
		level, told    string
		absent, hidden bool
	}{
		{"mysql", "/tides", []string{mysql, mysqlPacket("\xff\x1c\x07#HY000You must SET PASSWORD first")}, "session",
			"You must SET PASSWORD first", false, false},
		{"imap", "", []string{imap, "u3 OK in\r\n", "* FLAGS ()\r\nu6 OK\r\n"}, "", "", false, false},
		{"imap", "", []string{imap, "u3 OK in\r\n", "u6 NO Permission denied\r\n"}, "mailbox INBOX",
			"Permission denied", false, false},
		{"imap", "", []string{imap, "u3 OK in\r\n", "u6 NO [NONEXISTENT] none\r\n"}, "mailbox INBOX",
			"[NONEXISTENT] none", true, false},
		{"redis", "", []string{"+OK\r\n", "+PONG\r\n", ":0\r\n"}, "", "", false, false},
		{"redis", "", []string{"+OK\r\n", "+PONG\r\n", "-MASTERDOWN Link is down\r\n"}, "data",
			"MASTERDOWN Link is down", false, false},
		{"redis", "", []string{"+OK\r\n", "+PONG\r\n", "-CLUSTERDOWN slots are not served\r\n"}, "data",
			"CLUSTERDOWN slots are not served", false, false},
		{"ldap", "/ou=tides,dc=varzea", []string{ldapResult(2, 0x61, 0, ""), hidden("")},
			"entry ou=tides,dc=varzea", "no such object", false, true},
		{"ldap", "/ou=tides,dc=varzea", []string{ldapResult(2, 0x61, 0, ""), hidden("dc=varzea")},
			"entry ou=tides,dc=varzea", "no such object; the lowest above it is dc=varzea", true, true},
	} {
		says := c.says
		if c.protocol == "mysql" {
			says = append([]string{"!" + mysqlPacket(mysqlFirst("mysql_native_password"))}, says...)
		}
		conn := peer(t, says...)
		if c.protocol == "mysql" {
			greetMySQL(conn)
		}
		l := TryLogin(conn, c.protocol, Credentials{Account: "gauge", Secret: "canary-7", Path: c.path, Show: true})
		if l.Outcome != fact.LoginAccepted || len(l.Lacks) > 1 || (len(l.Lacks) == 1) != (c.level != "") {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, l)
			continue
		}
		if c.level == "" {
			continue
		}
		if lack := l.Lacks[0]; lack.Level != c.level || lack.Told != c.told || lack.Absent != c.absent ||
			lack.Hidden != c.hidden {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, lack)
		}
	}
}
