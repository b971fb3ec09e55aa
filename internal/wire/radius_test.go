package wire

import (
	"crypto/hmac"
	"crypto/md5"
	"encoding/hex"
	"net"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
)

// TestRADIUSHides is the example of RFC 2865 section 7.1: a request's authenticator, its
// shared secret and the secret of an account as it goes over the wire.
func TestRADIUSHides(t *testing.T) {
	authenticator, err := hex.DecodeString("0f403f9473978057bd83d5cb98f4227a")
	if err != nil {
		t.Fatal(err)
	}
	p := radiusPacket{authenticator: [radiusBlock]byte(authenticator)}
	if got := hex.EncodeToString(p.hidden("arctangent", "xyzzy5461")); got != "0dbe708d93d413ce3196e43f782a0aee" {
		t.Error(got)
	}
	if n := len(p.hidden(strings.Repeat("x", 17), "xyzzy5461")); n != 2*radiusBlock {
		t.Errorf("17 bytes are hidden in %d", n)
	}
}

// answering is a server that gives one answer, made with a shared secret.
func answering(t *testing.T, shared string, code byte, attributes string, spoil func([]byte) []byte) *Conn {
	ours, theirs := net.Pipe()
	t.Cleanup(func() { ours.Close(); theirs.Close() })
	go func() {
		asked := make([]byte, radiusMost)
		n, err := theirs.Read(asked)
		if err != nil {
			return
		}
		asked = asked[:n]
		at := strings.LastIndex(string(asked), "\x50\x12") + 2 // the attribute by which it is signed
		signed := []byte(string(asked[at:]))
		clear(asked[at:])
		if mac := hmac.New(md5.New, []byte("harbour9")); true {
			mac.Write(asked)
			if !hmac.Equal(mac.Sum(nil), signed) {
				t.Error("the request is not signed with the shared secret")
			}
		}
		length := radiusHead + len(attributes)
		answer := []byte{code, asked[1], byte(length >> 8), byte(length)}
		proof := md5.Sum([]byte(string(answer) + string(asked[4:radiusHead]) + attributes + shared))
		answer = append(append(answer, proof[:]...), attributes...)
		if spoil != nil {
			answer = spoil(answer)
		}
		theirs.Write(answer)
	}()
	c := NewConn(ours)
	c.SetDeadline(time.Now().Add(2 * time.Second))
	return c
}

// TestRADIUSAnswers is answers as servers give them, and what is none.
func TestRADIUSAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		shared     string
		code       byte
		attributes string
		spoil      func([]byte) []byte
		reply      string
		login      fact.LoginOutcome
	}{
		"it lets in":     {"harbour9", radiusAccept, "\x12\x06tide", nil, "done", fact.LoginAccepted},
		"it refuses":     {"harbour9", radiusReject, "\x12\x05ebb", nil, "done 3 ebb", fact.LoginRefused},
		"it asks more":   {"harbour9", radiusChallenge, "", nil, "done 11", fact.LoginMore},
		"another secret": {"pier", radiusAccept, "", nil, "done secret", fact.LoginFailed},
		"another packet": {"harbour9", radiusAccept, "", func(b []byte) []byte { b[1]++; return b }, "malformed",
			fact.LoginFailed},
		"cut short": {"harbour9", radiusAccept, "", func(b []byte) []byte { return b[:9] }, "malformed",
			fact.LoginFailed},
		"longer than it is": {"harbour9", radiusAccept, "", func(b []byte) []byte { b[3] = 90; return b }, "malformed",
			fact.LoginFailed},
		"an attribute without an end": {"harbour9", radiusReject, "\x12\x00x", nil, "done 3", fact.LoginRefused},
	} {
		t.Run(name, func(t *testing.T) {
			r := askRADIUS(answering(t, c.shared, c.code, c.attributes, c.spoil), Question{Shared: "harbour9"})
			if got := strings.TrimSpace(string(r.Ending) + " " + r.Code + " " + r.Text); !strings.HasPrefix(got,
				c.reply) {
				t.Errorf("%q, want %q", got, c.reply)
			}
			l := TryLogin(answering(t, c.shared, c.code, c.attributes, c.spoil), "radius",
				Credentials{Account: "gauge", Secret: "tide7", Shared: "harbour9"})
			if l.Outcome != c.login {
				t.Errorf("%+v, want %s", l, c.login)
			}
		})
	}
}
