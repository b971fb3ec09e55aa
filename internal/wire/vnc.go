package wire

import (
	"bytes"
	"crypto/des"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Ways to sign in of the remote framebuffer protocol (RFC 6143 section 7.2).
const (
	vncNone   = 1
	vncSecret = 2
)

// loginVNC answers the challenge of a server by the secret, which does not show
// it (RFC 6143 section 7.2.2).
func loginVNC(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "challenge"}
	if _, err := io.WriteString(c, "RFB 003.008\n"); err != nil {
		return l, err
	}
	count, err := c.r.ReadByte()
	if err != nil {
		return l, err
	}
	if count == 0 {
		l.Outcome, l.Code = fact.LoginRefused, "refused"
		l.Text, err = c.vncReason()
		return l, err
	}
	ways := make([]byte, count)
	if _, err := io.ReadFull(c, ways); err != nil {
		return l, err
	}
	for _, way := range ways {
		l.Offered = append(l.Offered, fmt.Sprint(way))
	}
	if !bytes.Contains(ways, []byte{vncSecret}) {
		l.Outcome, l.Code, l.Text = fact.LoginRefused, "mechanism", "it takes no secret by a challenge"
		return l, nil
	}
	challenge := make([]byte, 16)
	if _, err = c.Write([]byte{vncSecret}); err == nil {
		_, err = io.ReadFull(c, challenge)
	}
	if err != nil {
		return l, err
	}
	answer, err := vncAnswer(challenge, with.Secret)
	if err != nil {
		return l, err
	}
	with.presenting()
	if _, err := c.Write(answer); err != nil {
		return l, err
	}
	var result uint32
	if err := binary.Read(c, binary.BigEndian, &result); err != nil {
		return l, err
	}
	switch l.Outcome = outcome(result == 0); result {
	case 0:
	case 1, 2:
		l.Code = fmt.Sprint(result)
		if l.Text, err = c.vncReason(); err != nil {
			l.Text = "" // it closed without a word
		}
	default:
		return l, errors.New("not the remote framebuffer protocol")
	}
	return l, nil
}

// vncReason is why a server refuses.
func (c *Conn) vncReason() (string, error) {
	var size uint32
	if err := binary.Read(c, binary.BigEndian, &size); err != nil {
		return "", err
	}
	reason := make([]byte, min(size, mostLine))
	n, err := io.ReadFull(c, reason)
	return foreign.Clean(string(reason[:n])), err
}

// vncAnswer is a challenge enciphered by the first eight bytes of a secret,
// each with its bits the other way round.
func vncAnswer(challenge []byte, secret string) ([]byte, error) {
	key := make([]byte, des.BlockSize)
	for i := range min(len(secret), len(key)) {
		key[i] = bits.Reverse8(secret[i])
	}
	block, err := des.NewCipher(key)
	if err != nil {
		return nil, err
	}
	answer := make([]byte, len(challenge))
	for at := 0; at+des.BlockSize <= len(challenge); at += des.BlockSize {
		block.Encrypt(answer[at:], challenge[at:])
	}
	return answer, nil
}

// greetVNC reads the version of a screen's server (RFC 6143 section 7.1.1).
func greetVNC(c *Conn) fact.Greeting {
	return c.firstLine("vnc", func(s string) bool { return strings.HasPrefix(s, "RFB ") })
}

// askVNC says the version that both know and reads how to sign in; none of the
// ways means that the server gives a reason instead (RFC 6143 section 7.1.2).
func askVNC(c *Conn, _ Question) fact.Reply {
	return c.ask("vnc", "how to sign in", "RFB 003.008\n", func(r *fact.Reply) error {
		count, err := c.r.ReadByte()
		if err != nil {
			return err
		}
		if count > 0 {
			ways := make([]byte, count)
			_, err := io.ReadFull(c, ways)
			r.Refused = !bytes.Contains(ways, []byte{vncNone})
			for _, way := range ways {
				r.Ways = append(r.Ways, fmt.Sprint(way))
			}
			return err
		}
		r.Code = "refused"
		r.Text, err = c.vncReason()
		return err
	})
}
