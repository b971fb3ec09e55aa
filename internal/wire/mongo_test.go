package wire

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"io"
	"net"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// mongoServer answers one login by the documented exchange (RFC 7677 in messages of the
// wire protocol); no real server of this kind is to be had here. It knows one secret.
func mongoServer(t *testing.T, c net.Conn, secret string) {
	const nonce, salt, rounds = "tide", "c2FsdHNhbHRzYWx0", 4096
	answer := func(id uint32, document bson) {
		body := append([]byte{0, 0, 0, 0, 0}, document.whole()...)
		b := binary.LittleEndian.AppendUint32(nil, uint32(len(body)+16))
		b = binary.LittleEndian.AppendUint32(b, 1)
		b = binary.LittleEndian.AppendUint32(b, id)
		c.Write(append(binary.LittleEndian.AppendUint32(b, 2013), body...))
	}
	first, challenge := "", ""
	for range 2 {
		head := make([]byte, 16)
		if _, err := io.ReadFull(c, head); err != nil {
			return
		}
		rest := make([]byte, binary.LittleEndian.Uint32(head)-16)
		if _, err := io.ReadFull(c, rest); err != nil {
			return
		}
		id := binary.LittleEndian.Uint32(head[4:])
		numbers, texts, err := readBSON(rest[5:])
		if err != nil {
			t.Error(err)
			return
		}
		if numbers["saslStart"] == 1 {
			if texts["$db"] != "tides" || texts["mechanism"] != "SCRAM-SHA-256" {
				t.Errorf("%v", texts)
			}
			first = strings.TrimPrefix(texts["payload"], "n,,")
			_, own, _ := strings.Cut(first, ",r=")
			challenge = "r=" + own + nonce + ",s=" + salt + ",i=4096"
			answer(id, bson(nil).number("conversationId", 1).number("ok", 1).bytes("payload", challenge))
			continue
		}
		bare, proof, _ := strings.Cut(texts["payload"], ",p=")
		raw, _ := base64.StdEncoding.DecodeString(salt)
		salted, err := pbkdf2.Key(sha256.New, secret, raw, rounds, 32)
		if err != nil {
			t.Error(err)
			return
		}
		mac := func(key []byte, text string) []byte {
			h := hmac.New(sha256.New, key)
			io.WriteString(h, text)
			return h.Sum(nil)
		}
		client := mac(salted, "Client Key")
		stored := sha256.Sum256(client)
		sign := mac(stored[:], first+","+challenge+","+bare)
		for i := range client {
			client[i] ^= sign[i]
		}
		if base64.StdEncoding.EncodeToString(client) == proof && numbers["conversationId"] == 1 {
			answer(id, append(append(bson(nil).number("ok", 1), "\x08done\x00\x01"...),
				bson(nil).bytes("payload", "v=x")...))
		} else {
			answer(id, bson(nil).number("ok", 0).text("errmsg", "Authentication failed.").number("code", 18))
		}
	}
}

// TestLoginMongo signs in with the right secret and with a wrong one; neither goes out.
func TestLoginMongo(t *testing.T) {
	for secret, want := range map[string]fact.Login{
		"canary-7": {Outcome: fact.LoginAccepted},
		"other":    {Outcome: fact.LoginRefused, Code: "18", Text: "Authentication failed."},
	} {
		near, far := net.Pipe()
		go mongoServer(t, far, secret)
		l := TryLogin(NewConn(near), "mongodb", Credentials{Account: "svc=tide", Secret: "canary-7",
			Path: "/tides?x=1"})
		if l.Outcome != want.Outcome || l.Code != want.Code || l.Text != want.Text || l.Mechanism != "SCRAM-SHA-256" {
			t.Errorf("%+v", l)
		}
		near.Close()
	}
}

// FuzzBSON reads anything as a document.
func FuzzBSON(f *testing.F) {
	f.Add(bson(nil).number("ok", 1).text("errmsg", "no").bytes("payload", "r=").whole())
	f.Add([]byte{5, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) { readBSON(b) })
}
