package wire

import (
	"bytes"
	"io"
	"math/rand/v2"
	"net"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
)

// alien is what servers of other protocols say, by the protocol whose own word
// it is, and what is nobody's.
var alien = map[string][]string{
	"http": {
		"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok",
		"HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n",
	},
	"ssh": {"SSH-2.0-harbour_1\r\n"}, "smtp": {"220 post.varzea.example ESMTP\r\n250 fine\r\n"},
	"pop3": {"+OK ready\r\n+OK\r\n"}, "imap": {"* OK ready\r\n"}, "ftp": {"220 ready\r\n200 fine\r\n"},
	"redis":     {"+PONG\r\n", "-ERR unknown command\r\n"},
	"memcached": {"VERSION 1.6\r\n"}, "nats": {"INFO {}\r\nPONG\r\n"},
	"irc": {":irc.varzea.example NOTICE * :hello\r\n", "ERROR :closing link\r\n"},
	"tls": {"\x15\x03\x01\x00\x02\x02\x46", "\x16\x03\x03\x00\x04\x0e\x00\x00\x00"},
	"":    {"", "\x00", "\n", "ok\n", strings.Repeat("\x00", 300), strings.Repeat("\xff", 60_000), "{}", "<a/>"},
}

// TestHostileAnswers gives each protocol what is no answer to its question:
// nothing of it may pass for one.
func TestHostileAnswers(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for name, p := range Protocols {
		if p.Ask == nil {
			continue // what it says first is all that is asked of it
		}
		var answers []string
		for of, list := range alien {
			// Mail and files begin alike (RFC 959, RFC 5321).
			if of != name && !(of == "ftp" && name == "smtp" || of == "smtp" && name == "ftp") &&
				!(of == "http" && (name == "proxy" || name == "websocket")) {
				answers = append(answers, list...)
			}
		}
		for range 20 {
			noise := make([]byte, 1+random.IntN(400))
			for i := range noise {
				noise[i] = byte(random.Uint32())
			}
			answers = append(answers, string(noise))
		}
		for _, datagram := range []bool{false, true} {
			for _, answer := range answers {
				if name == "finger" && ownText(strings.TrimRight(answer, "\r\n")) {
					continue // any text is an answer
				}
				if good(t, name, p, datagram, func([]byte) []byte { return []byte(answer) }) {
					t.Errorf("%s, datagram %v: %.60q passes for an answer", name, datagram, answer)
				}
			}
			for what, echo := range map[string]func([]byte) []byte{
				"its own question":          func(q []byte) []byte { return q },
				"its question, cut":         func(q []byte) []byte { return q[:len(q)/2] },
				"its question, and noise":   func(q []byte) []byte { return append(bytes.Clone(q), "noise"...) },
				"its question, back a byte": func(q []byte) []byte { return q[1:] },
			} {
				if name == "finger" && what != "its question, cut" {
					continue // it is empty lines
				}
				if good(t, name, p, datagram, echo) {
					t.Errorf("%s, datagram %v: %s passes for an answer", name, datagram, what)
				}
			}
		}
	}
}

// good reports whether a server that answers so would be called well.
func good(t *testing.T, name string, p Protocol, datagram bool, answer func([]byte) []byte) bool {
	t.Helper()
	ours, theirs := net.Pipe()
	defer ours.Close()
	go func() {
		defer theirs.Close()
		theirs.SetDeadline(time.Now().Add(2 * time.Second))
		if p.Greet != nil {
			theirs.Write(answer([]byte("hello\r\n")))
			return
		}
		for range 4 { // as often as it asks
			buffer := make([]byte, 4096)
			n, err := theirs.Read(buffer)
			if err != nil || n == 0 {
				return
			}
			if _, err := theirs.Write(answer(buffer[:n])); err != nil {
				return
			}
			if len(answer(buffer[:n])) == 0 {
				return
			}
			if name != "smb" && name != "tds" {
				return
			}
		}
	}()
	c := NewConn(ours)
	c.Name = "tidebook.varzea.example"
	c.SetDeadline(time.Now().Add(40 * time.Millisecond))
	if p.Greet != nil {
		if g := p.Greet(c); g.Ending != fact.Bytes && g.Ending != fact.Done || g.Protocol != name || g.Refusal != "" {
			return false
		}
	}
	if p.Upgrade != nil && p.Greet == nil {
		u := p.Upgrade(c)
		if u.Ending != fact.Done {
			return false
		}
		if name == "rdp" { // all that is said without an account
			return u.Offered
		}
	}
	r := p.Ask(c, Question{Host: "tidebook.varzea.example", Path: "/levels", Shared: "shared", Realm: "VARZEA.EXAMPLE",
		Datagram: datagram})
	io.Copy(io.Discard, io.LimitReader(ours, 1))
	return r.Ending == fact.Done && !r.Refused && r.Code == "" && r.Status < 400
}
