package wire

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// peer is the other end of a connection that says each text after it has
// heard something, and then closes. A first text that begins with "!" is said
// unasked.
func peer(t *testing.T, says ...string) *Conn {
	t.Helper()
	here, there := net.Pipe()
	deadline := time.Now().Add(5 * time.Second)
	here.SetDeadline(deadline)
	there.SetDeadline(deadline)
	heard, done := make(chan bool, 1000), make(chan bool)
	go func() {
		buffer := make([]byte, 64<<10)
		for {
			if _, err := there.Read(buffer); err != nil {
				close(heard)
				return
			}
			heard <- true
		}
	}()
	go func() {
		defer close(done)
		defer there.Close()
		for _, text := range says {
			rest, unasked := strings.CutPrefix(text, "!")
			if !unasked && !<-heard {
				return
			}
			if _, err := io.WriteString(there, rest); err != nil {
				return
			}
		}
	}()
	t.Cleanup(func() { here.Close(); <-done })
	return NewConn(here)
}

// Messages of PostgreSQL, of LDAP and of MySQL.
func pg(kind byte, body string) string {
	return string(binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(body)+4))) + body
}

func pgAuth(method uint32, rest string) string {
	return pg('R', string(binary.BigEndian.AppendUint32(nil, method))+rest)
}

func ldapResult(id, op, code byte, text string) string {
	body := append([]byte{0x0a, 1, code}, berOf(4, nil)...)
	body = append(body, berOf(4, []byte(text))...)
	return string(berOf(0x30, append([]byte{2, 1, id}, berOf(op, body)...)))
}

func mysqlPacket(body string) string {
	n := len(body)
	return string([]byte{byte(n), byte(n >> 8), byte(n >> 16), 0}) + body
}

// TestGreetings is what servers say first.
func TestGreetings(t *testing.T) {
	for _, c := range []struct {
		protocol, says string
		ending         fact.Ending
		spoke, code    string
		head           string
	}{
		{"ssh", "SSH-2.0-made-up\r\n", fact.Done, "ssh", "", "SSH-2.0-made-up"},
		{"ssh", "HTTP/1.1 400 Bad Request\r\n", fact.Malformed, "http", "", "HTTP/1.1 400 Bad Request"},
		{"ssh", "", fact.Closed, "", "", ""},
		{"ssh", "SSH-2.0-cut", fact.Closed, "ssh", "", "SSH-2.0-cut"},
		{"smtp", "220 tidebook ESMTP\r\n", fact.Done, "smtp", "", "220 tidebook ESMTP"},
		{"smtp", "220-tidebook\r\n220 ready\r\n", fact.Done, "smtp", "", "220-tidebook"},
		{"smtp", "220-tidebook\r\n", fact.Closed, "smtp", "", "220-tidebook"},
		{"smtp", "421 too many\r\n", fact.Done, "smtp", "421", "421 too many"},
		{"smtp", "554 go away\r\n", fact.Done, "smtp", "554", "554 go away"},
		{"smtp", "* OK ready\r\n", fact.Malformed, "imap", "", "* OK ready"},
		{"imap", "* OK ready\r\n", fact.Done, "imap", "", "* OK ready"},
		{"imap", "* BYE not now\r\n", fact.Done, "imap", "BYE", "* BYE not now"},
		{"imap", "+OK pop\r\n", fact.Malformed, "pop3", "", "+OK pop"},
		{"mysql", mysqlPacket(mysqlFirst("mysql_native_password")), fact.Done, "mysql", "", "10.11"},
		{"mysql", mysqlPacket("\x0a8.0.1-made-up\x00rest"), fact.Malformed, "mysql", "", "8.0.1-made-up"},
		{"mysql", mysqlPacket("\xff\x6a\x04Host 'gauge-07' is not allowed"), fact.Done, "mysql", "1130",
			"Host 'gauge-07' is not allowed"},
		{"mysql", mysqlPacket("\xff\x10\x04#08004Too many connections"), fact.Done, "mysql", "1040",
			"Too many connections"},
		{"mysql", "SSH-2.0-made-up\r\n", fact.Malformed, "ssh", "", "SSH-2.0-made-up"},
		{"mysql", "\xff\xff\xff\x00\x0a8", fact.Malformed, "mysql", "", "...."},
		{"mysql", mysqlPacket("\x0a8.0.1")[:7], fact.Closed, "", "", ""},
	} {
		g := Protocols[c.protocol].Greet(peer(t, "!"+c.says))
		if g.Ending != c.ending || g.Protocol != c.spoke || g.Code != c.code || !strings.Contains(g.Head, c.head) {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, g)
		}
		if (g.Code != "") != (g.Refusal != "") {
			t.Errorf("%s, %q: a code and a refusal belong together: %+v", c.protocol, c.says, g)
		}
	}
}

// TestUpgrades is what servers say to the wish for TLS.
func TestUpgrades(t *testing.T) {
	for _, c := range []struct {
		protocol string
		says     []string
		offered  bool
		ending   fact.Ending
	}{
		{"smtp", []string{"250-tidebook\r\n250-STARTTLS\r\n250 HELP\r\n", "220 go\r\n"}, true, fact.Done},
		{"smtp", []string{"250-tidebook\r\n250 HELP\r\n"}, false, fact.Done},
		{"smtp", []string{"250 STARTTLS\r\n", "454 not now\r\n"}, false, fact.Done},
		{"smtp", []string{"250-tide"}, false, fact.Closed},
		{"imap", []string{"u1 OK go\r\n"}, true, fact.Done},
		{"imap", []string{"* something\r\nu1 BAD what\r\n"}, false, fact.Done},
		{"imap", []string{"* something\r\n"}, false, fact.Closed},
		{"postgres", []string{"S"}, true, fact.Done},
		{"postgres", []string{"N"}, false, fact.Done},
		{"postgres", []string{"HTTP/1.1"}, false, fact.Malformed},
		{"postgres", []string{""}, false, fact.Closed},
	} {
		u := Protocols[c.protocol].Upgrade(peer(t, c.says...))
		if u.Offered != c.offered || u.Ending != c.ending {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, u)
		}
	}
}

// TestQuestions is the one harmless question of each protocol.
func TestQuestions(t *testing.T) {
	for _, c := range []struct {
		protocol, says string
		ending         fact.Ending
		refused        bool
		status         int
		code, spoke    string
	}{
		{"http", "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", fact.Done, false, 200, "", ""},
		{"http", "HTTP/1.1 503 Busy\r\nRetry-After: 9\r\n\r\n", fact.Done, false, 503, "", ""},
		{"http", "SSH-2.0-made-up\r\n", fact.Malformed, false, 0, "", "ssh"},
		{"http", "", fact.Closed, false, 0, "", ""},
		{"smtp", "250 OK\r\n", fact.Done, false, 250, "", ""},
		{"smtp", "421 closing\r\n", fact.Done, false, 421, "421", ""},
		{"imap", "* CAPABILITY IMAP4rev2\r\nu2 OK done\r\n", fact.Done, false, 0, "", ""},
		{"imap", "u2 NO down\r\n", fact.Done, false, 0, "NO", ""},
		{"redis", "+PONG\r\n", fact.Done, false, 0, "", ""},
		{"redis", "-NOAUTH Authentication required.\r\n", fact.Done, true, 0, "", ""},
		{"redis", "-LOADING the data\r\n", fact.Done, false, 0, "LOADING", ""},
		{"redis", "HTTP/1.1 400 Bad\r\n", fact.Malformed, false, 0, "", "http"},
		{"postgres", pg('E', "SFATAL\x00C28000\x00Mno user name\x00\x00"), fact.Done, true, 0, "", ""},
		{"postgres", pg('E', "SFATAL\x00C57P03\x00Mstarting up\x00\x00"), fact.Done, false, 0, "57P03", ""},
		{"postgres", "HTTP/1.1 400 Bad\r\n", fact.Malformed, false, 0, "", "http"},
		{"ldap", ldapResult(1, 0x65, 0, ""), fact.Done, false, 0, "", ""},
		{"ldap", ldapResult(1, 0x65, 50, "sign in"), fact.Done, true, 0, "", ""},
		{"ldap", ldapResult(1, 0x65, 52, "unavailable"), fact.Done, false, 0, "52", ""},
		{"ldap", "SSH-2.0-made-up\r\n", fact.Malformed, false, 0, "", "ssh"},
		{"ldap", "\x30\x84\xff\xff\xff\xff", fact.Malformed, false, 0, "", ""},
	} {
		r := Protocols[c.protocol].Ask(peer(t, c.says), Question{Host: "tidebook.tidelog.example", Path: "/"})
		if r.Ending != c.ending || r.Refused != c.refused || r.Status != c.status || r.Code != c.code ||
			r.Spoke != c.spoke {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, r)
		}
	}
}

// TestHalfLines is a head of HTTP that ends in the middle, at every byte: what
// ended it is told, not that half a line is no line.
func TestHalfLines(t *testing.T) {
	const head = "HTTP/1.1 200 OK\r\nServer: tidebook\r\n\r\n"
	for n := 1; n < len(head); n++ {
		r := Protocols["http"].Ask(peer(t, head[:n]), Question{Host: "tidebook.tidelog.example", Path: "/"})
		if r.Ending != fact.Closed {
			t.Errorf("closed after %q: %+v", head[:n], r)
		}
		slow := peer(t, head[:n], "never said")
		slow.SetDeadline(time.Now().Add(10 * time.Millisecond))
		if r := Protocols["http"].Ask(slow, Question{Host: "tidebook.tidelog.example",
			Path: "/"}); r.Ending != fact.Stalled {
			t.Errorf("silent after %q: %+v", head[:n], r)
		}
	}
}

// TestEndless is a server that never stops talking: what is read is bounded.
func TestEndless(t *testing.T) {
	endless := map[string]string{
		"one line":   strings.Repeat("2", 1<<20),
		"many lines": strings.Repeat("250-more\r\n", 1<<17),
		"zeroes":     strings.Repeat("\x00", 1<<20),
		"elements":   strings.Repeat(ldapResult(1, 0x64, 0, ""), 1<<15),
	}
	for kind, text := range endless {
		for name, p := range Protocols {
			if p.Greet != nil {
				if g := p.Greet(peer(t, "!"+text)); len(g.Head) > 4*mostHead {
					t.Errorf("%s, %s: it keeps %d bytes", name, kind, len(g.Head))
				}
			}
			if p.Ask != nil {
				if r := p.Ask(peer(t, text), Question{}); len(r.Text) > 4*mostHead {
					t.Errorf("%s, %s: it keeps %d bytes", name, kind, len(r.Text))
				}
			}
		}
		for _, ask := range Mappers {
			ask(peer(t, dceBoundTo(0), string(text)))
			ask(peer(t, string(text)))
		}
		for name := range Logins {
			if l := TryLogin(peer(t, text), name, Credentials{Account: "svc-tide",
				Secret: "s"}); l.Outcome == fact.LoginAccepted ||
				len(l.Text) > 4*mostHead {
				t.Errorf("%s, %s: %+v", name, kind, l)
			}
		}
	}
}

func TestRecognise(t *testing.T) {
	for head, want := range map[string]string{
		"SSH-2.0-x": "ssh", "HTTP/1.0 200": "http", "<!DOCTYPE html>": "http", "\x16\x03\x03\x00\x10": "tls",
		"\x15\x03\x01\x00\x02": "tls",
		"220 x ESMTP":          "smtp", "220 files": "ftp or smtp", "* OK": "imap", "+OK": "pop3",
		"-ERR unknown": "redis",
		"":             "", "hello": "",
		"\x16\x03": "", "J\x00\x00\x00\x0a8": "mysql", "E\x00\x00\x00\x50SFATAL": "postgres",
	} {
		if got := Recognise([]byte(head)); got != want {
			t.Errorf("%q: %q, want %q", head, got, want)
		}
	}
}

// TestClean sees that foreign text cannot move a terminal's cursor or hide
// words.
func TestClean(t *testing.T) {
	for text, want := range map[string]string{
		"plain":                  "plain",
		"  two\r\nlines\t":       "two  lines",
		"\x1b[2Jgone":            ".[2Jgone",
		"right\u202eleft":        "right.left",
		"\xff\xfe":               "..",
		"søt":                    "søt",
		strings.Repeat("x", 300): strings.Repeat("x", mostHead) + "…",
		"zero\u200bwidth\x00":    "zero.width.",
	} {
		if got := foreign.Clean(text); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

// TestOverhear is a moment of listening to a server that need not speak first.
func TestOverhear(t *testing.T) {
	silent, other := net.Pipe()
	defer silent.Close()
	defer other.Close()
	if g := Overhear(NewConn(silent), 10*time.Millisecond); g.Ending != fact.Done || g.Head != "" {
		t.Errorf("silence: %+v", g)
	}
	if g := Overhear(peer(t, "!SSH-2.0-made-up\r\n"), time.Second); g.Ending != fact.Done || g.Protocol != "ssh" {
		t.Errorf("another protocol: %+v", g)
	}
	if g := Overhear(peer(t), time.Second); g.Ending != fact.Closed {
		t.Errorf("closed at once: %+v", g)
	}
}

// FuzzPeer lets anything answer everything.
func FuzzPeer(f *testing.F) {
	for _, text := range []string{"220 a\r\n250 b\r\n235 c\r\n", "* OK\r\nu1 OK\r\nu2 OK\r\nu3 OK\r\n",
		pgAuth(10, "SCRAM-SHA-256\x00\x00") + pgAuth(11, "r=,s=,i=1"), ldapResult(1, 0x61, 0, ""),
		mysqlPacket("\xff\x10\x04"), "HTTP/1.1 200\r\nA: b\r\n\r\n",
		dceSaid(dceReply, page(0, towerOf(mapperInterface, 7, 135))), smbSaid(65, 1), smbSaid(65, 0)} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, p := range Protocols {
			if p.Greet != nil {
				p.Greet(peer(t, "!"+string(text)))
			}
			if p.Upgrade != nil {
				p.Upgrade(peer(t, string(text)))
			}
			if p.Ask != nil {
				p.Ask(peer(t, string(text)), Question{})
			}
		}
		for _, ask := range Mappers {
			ask(peer(t, dceBoundTo(0), string(text)))
			ask(peer(t, string(text)))
		}
		for name := range Logins {
			if l := TryLogin(peer(t, string(text)), name, Credentials{Account: "a",
				Secret: "canary-7"}); strings.Contains(
				fmt.Sprint(l),
				"canary-7",
			) {
				t.Errorf("%s: the secret is in %+v", name, l)
			}
		}
	})
}

// TestAskMySQL reads the rows of an answer, and takes no broken one.
func TestAskMySQL(t *testing.T) {
	packet := func(n byte, body string) string { return string([]byte{byte(len(body)), 0, 0, n}) + body }
	hello := "!" + packet(
		0,
		"\x0a10.11.6\x00\x01\x00\x00\x00abcdefgh\x00\x00\x82\x2d\x02\x00\x08\x00\x15"+string(
			make([]byte, 10),
		)+"ijklmnopqrst\x00mysql_native_password\x00",
	)
	answer := func(rows ...string) string {
		text := packet(1, "\x02") + packet(2, "a column") + packet(3, "a column") + packet(4, "\xfe\x00\x00\x00\x00")
		for i, r := range rows {
			text += packet(byte(5+i), r)
		}
		return text + packet(9, "\xfe\x00\x00\x00\x00")
	}
	for _, c := range []struct {
		name  string
		says  []string
		rows  int
		fails bool
	}{
		{"rows", []string{hello, packet(2, "\x00\x00\x00"), answer("\x04root\x09localhost", "\x05gauge\xfb")}, 2,
			false},
		{"no rows", []string{hello, packet(2, "\x00\x00\x00"), answer()}, 0, false},
		{"refused", []string{hello, packet(2, "\xff\x15\x04#28000no")}, 0, true},
		{"no right", []string{hello, packet(2, "\x00\x00\x00"), packet(1, "\xff\x76\x04#42000no")}, 0, true},
		{"a length that lies", []string{hello, packet(2, "\x00\x00\x00"), answer("\xf0root")}, 0, true},
		{"an end in the middle", []string{hello, packet(2, "\x00\x00\x00"), packet(1, "\x02")}, 0, true},
		{"no database", []string{"!SSH-2.0-x\r\n"}, 0, true},
	} {
		rows, err := AskMySQL(peer(t, c.says...).Conn, "root", "SELECT User, Host FROM mysql.user", 10)
		if len(rows) != c.rows || (err != nil) != c.fails {
			t.Errorf("%s: %q, %v", c.name, rows, err)
		}
	}
}

// smbSaid is an answer to which version is spoken, with a structure's size and
// a length of what follows it.
func smbSaid(size uint16, more byte) string {
	message := []byte("\xfeSMB\x40\x00" + string(make([]byte, 58)))
	message = append(message, byte(size), byte(size>>8), 1, 0, 0x02, 0x03, 0, 0)
	message = append(message, make([]byte, 48)...)
	message = append(message, 0x80, 0, more, 0, 0, 0, 0, 0, 0x60)
	return string([]byte{0, 0, 0, byte(len(message))}) + string(message)
}
