package wire

import (
	"errors"
	"fmt"
	"io"

	"uakari/internal/fact"
)

// askSOCKS offers to sign in with nothing, or with a name and a secret (RFC
// 1928 section 3). A proxy that wants the second wants an account first.
func askSOCKS(c *Conn, _ Question) fact.Reply {
	return c.ask("socks5", "which way to sign in", "\x05\x02\x00\x02", func(r *fact.Reply) error {
		head, err := c.r.Peek(2)
		if len(head) < 2 || head[0] != 5 {
			return errors.Join(err, c.stranger(r))
		}
		switch head[1] {
		case 0:
		case 2:
			r.Refused = true
		case 0xff:
			r.Code, r.Text = "no way", "none of the ways to sign in that clients offer"
		default:
			return c.stranger(r)
		}
		c.r.Discard(2)
		return nil
	})
}

// loginSOCKS signs in by name and secret, which shows the secret (RFC 1929).
func loginSOCKS(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "name and secret"}
	if !with.Show {
		return shows("with a name and its secret", nil), nil
	}
	if len(with.Account) > 255 || len(with.Secret) > 255 {
		return l, errors.New("the account or secret is longer than SOCKS can carry")
	}
	if _, err := io.WriteString(c, "\x05\x01\x02"); err != nil {
		return l, err
	}
	chosen := make([]byte, 2)
	if _, err := io.ReadFull(c, chosen); err != nil {
		return l, err
	}
	if chosen[0] != 5 {
		return l, errStranger
	}
	if chosen[1] != 2 {
		l.Outcome, l.Code, l.Text = fact.LoginRefused, "mechanism", "it takes no name and secret"
		return l, nil
	}
	with.presenting()
	say := "\x01" + string(
		[]byte{byte(len(with.Account))},
	) + with.Account + string(
		[]byte{byte(len(with.Secret))},
	) + with.Secret
	if _, err := io.WriteString(c, say); err != nil {
		return l, err
	}
	answer := make([]byte, 2)
	if _, err := io.ReadFull(c, answer); err != nil {
		return l, err
	}
	if l.Outcome = outcome(answer[1] == 0); answer[1] != 0 {
		l.Code = fmt.Sprint(answer[1])
	}
	return l, nil
}
