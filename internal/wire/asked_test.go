package wire

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
)

// told asks a question of a server that says the same whatever comes.
func told(t *testing.T, protocol, greeting, answer string) (fact.Greeting, fact.Upgrade, fact.Reply) {
	t.Helper()
	ours, theirs := net.Pipe()
	defer ours.Close()
	go func() {
		defer theirs.Close()
		if greeting != "" {
			io.WriteString(theirs, greeting)
		}
		buffer := make([]byte, 4096)
		theirs.SetDeadline(time.Now().Add(2 * time.Second))
		theirs.Read(buffer)
		io.WriteString(theirs, answer)
		io.Copy(io.Discard, theirs)
	}()
	c := NewConn(ours)
	c.Name = "tidebook.varzea.example"
	c.SetDeadline(time.Now().Add(time.Second))
	p := Protocols[protocol]
	var g fact.Greeting
	var u fact.Upgrade
	if p.Greet != nil {
		g = p.Greet(c)
	}
	if p.Upgrade != nil {
		u = p.Upgrade(c)
	}
	return g, u, p.Ask(c, Question{Host: "tidebook.varzea.example", Path: "/levels"})
}

// TestAsked is answers as servers give them, and what is none.
func TestAsked(t *testing.T) {
	mongo := func(document string) string {
		b := binary.LittleEndian.AppendUint32(nil, uint32(len(document)+26))
		b = append(b, 1, 0, 0, 0, 7, 0, 0, 0, 0xdd, 7, 0, 0, 0, 0, 0, 0, 0)
		b = binary.LittleEndian.AppendUint32(b, uint32(len(document)+5))
		return string(b) + document + "\x00"
	}
	for _, c := range []struct{ protocol, greeting, answer, want string }{
		{"memcached", "", "VERSION 1.6.18\r\n", "done"},
		{"memcached", "", "CLIENT_ERROR unauthenticated\r\n", "done refused CLIENT_ERROR"},
		{"memcached", "", "HTTP/1.1 400 Bad Request\r\n", "malformed http"},
		{"nats", "INFO {\"server_id\":\"x\"}\r\n", "PONG\r\n", "done"},
		{"nats", "INFO {\"auth_required\":true}\r\n", "-ERR 'Authorization Violation'\r\n", "done refused"},
		{"rsync", "@RSYNCD: 31.0\n", "@RSYNCD: OK\n", "done"},
		{"rsync", "@RSYNCD: 31.0\n", "@ERROR: Unknown module 'levels'\n", "done @ERROR"},
		{"rsync", "@RSYNCD: 31.0\n", "@RSYNCD: AUTHREQD abc\n", "done refused"},
		{"git", "", "00a1" + strings.Repeat("a", 40) + " HEAD\n", "done"},
		{"git", "", "0021ERR access denied or gone: /x", "done ERR"},
		{"finger", "", "No one logged on\r\n", "done"},
		{"lpd", "", "Your host does not have line printer access\n", "done refused"},
		{"sip", "", "SIP/2.0 200 OK\r\nServer: harbour\r\n\r\n", "done 200"},
		{"sip", "", "SIP/2.0 404 Not Found\r\n\r\n", "done 404"},
		{"sip", "", "SIP/2.0 503 Service Unavailable\r\n\r\n", "done 503 503"},
		{"sip", "", "SSH-2.0-x\r\n", "malformed ssh"},
		{"rtsp", "", "RTSP/1.0 401 Unauthorized\r\nCSeq: 1\r\n\r\n", "done 401 refused"},
		{"socks5", "", "\x05\x00", "done"},
		{"socks5", "", "\x05\x02", "done refused"},
		{"socks5", "", "\x05\xff", "done no way"},
		{"socks5", "", "HTTP/1.1 400", "malformed http"},
		{"kafka", "", "\x00\x00\x00\x0auaka\x00\x00\x00\x00\x00\x00", "done"},
		{"kafka", "", "\x00\x00\x00\x0axxxx\x00\x00\x00\x00\x00\x00", "malformed"},
		{"mongodb", "", mongo("\x08isWritablePrimary\x00\x01"), "done"},
		{"mongodb", "", mongo("\x02errmsg\x00\x05\x00\x00\x00none\x00"), "done error"},
		{"vnc", "RFB 003.008\n", "\x02\x02\x13", "done refused"},
		{"vnc", "RFB 003.008\n", "\x01\x01", "done"},
		{"vnc", "RFB 003.008\n", "\x00\x00\x00\x00\x08too many", "done refused"},
		// Settings, and the call answered by nothing, by an end, by trailers.
		{"http2", "", "\x00\x00\x00\x04\x00\x00\x00\x00\x00", "stalled"},
		{"http2", "", "\x00\x00\x00\x04\x00\x00\x00\x00\x00" +
			"\x00\x00\x08\x07\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x0b", "done ENHANCE_YOUR_CALM"},
		{"http2", "", "\x00\x00\x00\x04\x00\x00\x00\x00\x00" + "\x00\x00\x11\x01\x05\x00\x00\x00\x01" +
			"\x88\x00\x0bgrpc-status\x0212", "done"},
		{"http2", "", "HTTP/1.1 400 Bad Request\r\n\r\n", "malformed http"},
		{"websocket", "", "HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\n\r\n", "done 101"},
		{"websocket", "", "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", "done 200 200"},
		{"xmpp", "", "<?xml version='1.0'?><stream:stream xmlns:stream='s' " +
			"id='1'><stream:features><mechanisms><mechanism>PLAIN</mechanism></mechanisms></stream:features>", "done"},
		{"xmpp", "", "<?xml version='1.0'?><stream:stream xmlns:stream='s' id='1'><stream:error><host-unknown " +
			"xmlns='x'/></stream:error></stream:stream>", "done host-unknown"},
		{"xmpp", "", "HTTP/1.1 400 Bad Request\r\n\r\n", "malformed http"},
		{"snmp", "", snmpReportOf("\x80\x00\x1f\x88\x04"), "done"},
		{"tftp", "", "\x00\x05\x00\x01File not found\x00", "done 1"},
		{"tftp", "", "\x00\x05\x00\x04Illegal operation\x00", "done 4"},
		{"tftp", "", "HTTP/1.1 400 Bad\r\n\r\n", "malformed http"},
		{"stun", "", "\x01\x01\x00\x00\x21\x12\xa4\x42uakari-stun1", "done"},
		{"stun", "", "\x01\x11\x00\x00\x21\x12\xa4\x42uakari-stun1", "done 0x0111"},
	} {
		g, u, r := told(t, c.protocol, c.greeting, c.answer)
		got := []string{string(r.Ending)}
		if g.Refusal != "" || u.Ending != "" && u.Ending != fact.Done && c.protocol != "xmpp" {
			t.Errorf("%s: greeting %+v, upgrade %+v", c.protocol, g, u)
		}
		if r.Status != 0 {
			got = append(got, strconv.Itoa(r.Status))
		}
		if r.Spoke != "" {
			got = append(got, r.Spoke)
		}
		if r.Refused {
			got = append(got, "refused")
		}
		if r.Code != "" {
			got = append(got, r.Code)
		}
		if text := strings.Join(got, " "); text != c.want {
			t.Errorf("%s, %q: got %q, want %q (%q)", c.protocol, c.answer, text, c.want, r.Text)
		}
	}
}

// snmpReportOf is the report by which an agent tells its engine (RFC 3414 section 4).
func snmpReportOf(engine string) string {
	tlv := func(tag byte, parts ...string) string {
		value := strings.Join(parts, "")
		return string([]byte{tag, byte(len(value))}) + value
	}
	security := tlv(0x30, tlv(4, engine), "\x02\x01\x01\x02\x01\x05", "\x04\x00\x04\x00\x04\x00")
	pdu := tlv(0xa8, "\x02\x04uaka\x02\x01\x00\x02\x01\x00", tlv(0x30))
	return tlv(0x30, "\x02\x01\x03", tlv(0x30, "\x02\x04uaka\x02\x03\x00\xff\xe3\x04\x01\x00\x02\x01\x03"),
		tlv(4, security), tlv(0x30, tlv(4, engine), "\x04\x00", pdu))
}

// TestAgreedRDP is what a server of screens agrees to.
func TestAgreedRDP(t *testing.T) {
	for answer, want := range map[string]fact.Upgrade{
		"\x03\x00\x00\x13\x0e\xd0\x00\x00\x00\x00\x00\x02\x00\x08\x00\x01\x00\x00\x00": {Ending: fact.Done,
			Offered: true},
		"\x03\x00\x00\x13\x0e\xd0\x00\x00\x00\x00\x00\x03\x00\x08\x00\x05\x00\x00\x00": {Ending: fact.Done,
			Head: "it wants a sign-in before the session"},
		"\x03\x00\x00\x0b\x06\xd0\x00\x00\x00\x00\x00": {Ending: fact.Done},
		"HTTP/1.1 400 Bad Request\r\n": {Ending: fact.Malformed,
			Head: "HTTP"},
	} {
		if _, u, _ := told(t, "rdp", "", answer); u.Ending != want.Ending || u.Offered != want.Offered ||
			u.Head != want.Head {
			t.Errorf("%q: got %+v, want %+v", answer, u, want)
		}
	}
}

// TestGreetedOnce asks an SMTP server that refuses to be greeted twice on one session.
func TestGreetedOnce(t *testing.T) {
	near, far := net.Pipe()
	defer near.Close()
	go func() {
		defer far.Close()
		lines := bufio.NewScanner(far)
		for greeted := false; lines.Scan(); {
			answer := "250 2.0.0 OK\r\n"
			switch {
			case strings.HasPrefix(lines.Text(), "EHLO") && greeted:
				answer = "503 5.5.1 Invalid command: Already identified\r\n"
			case strings.HasPrefix(lines.Text(), "EHLO"):
				greeted, answer = true, "250-tidebook Hello\r\n250-AUTH PLAIN LOGIN\r\n250 HELP\r\n"
			}
			if _, err := io.WriteString(far, answer); err != nil {
				return
			}
		}
	}()
	c := NewConn(near)
	if u := upgradeSMTP(c); u.Offered || u.Ending != fact.Done {
		t.Fatalf("%+v", u)
	}
	r := askSMTP(c, Question{})
	if r.Status != 250 || r.Code != "" || r.Asked != "NOOP" || !slices.Equal(r.Ways, []string{"PLAIN", "LOGIN"}) {
		t.Errorf("%+v", r)
	}
}
