package wire

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// greetPOP3 reads "+OK …"; "-ERR" is a refusal (RFC 1939 section 4).
func greetPOP3(c *Conn) fact.Greeting {
	g := c.firstLine("pop3", func(s string) bool {
		return strings.HasPrefix(s, "+OK") ||
			strings.HasPrefix(s, "-ERR")
	})
	if g.Protocol == "pop3" && strings.HasPrefix(g.Head, "-ERR") {
		g.Refusal, g.Code = g.Head, "-ERR"
	}
	return g
}

// upgradePOP3 asks for TLS (RFC 2595 section 4).
func upgradePOP3(c *Conn) fact.Upgrade {
	return c.askUpgrade("STLS\r\n", func(answer string) bool { return strings.HasPrefix(answer, "+OK") })
}

// askPOP3 asks what the server can do (RFC 2449 section 5); any answer will
// do, since old servers know no such question.
func askPOP3(c *Conn, _ Question) fact.Reply {
	return c.ask("pop3", "CAPA", "CAPA\r\n", func(r *fact.Reply) error {
		text, err := c.line()
		r.Text = foreign.Clean(text)
		if err == nil && !strings.HasPrefix(text, "+OK") && !strings.HasPrefix(text, "-ERR") {
			return errNotPOP3
		}
		return err
	})
}

var errNotPOP3 = errors.New("not POP3")

// loginPOP3 signs in by the best way that the server offers (RFC 5034), or by
// name and secret (RFC 1939 section 7), which shows the secret.
func loginPOP3(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "USER and PASS"}
	offers, err := c.popOffers()
	if err != nil {
		return l, err
	}
	l.Offered = offers
	way, _ := saslWay(offers, with.Show)
	if way == "" && !with.Show {
		return shows("USER and PASS", offers), nil
	}
	if strings.ContainsAny(with.Account+with.Secret, "\r\n") {
		return l, errors.New("the account or secret has a line's end in it")
	}
	with.presenting()
	if way != "" {
		l.Mechanism = way
		s := newSASL(way, "pop", with)
		_, err := fmt.Fprintf(c, "AUTH %s\r\n", way)
		for range mostChallenges {
			var line string
			if err == nil {
				line, err = c.line()
			}
			if err != nil {
				return l, err
			}
			challenge, more := strings.CutPrefix(line, "+ ")
			if !more && line != "+" {
				return popOutcome(l, line)
			}
			err = s.answerLine(c, challenge)
		}
		return l, errSASL
	}
	line := ""
	for _, say := range []string{"USER " + with.Account, "PASS " + with.Secret} {
		if _, err := fmt.Fprintf(c, "%s\r\n", say); err != nil {
			return l, err
		}
		if line, err = c.line(); err != nil {
			return l, err
		}
		if !strings.HasPrefix(line, "+OK") {
			break
		}
	}
	return popOutcome(l, line)
}

// popOffers is the ways to sign in that a server lists (RFC 2449).
func (c *Conn) popOffers() (ways []string, err error) {
	if _, err := io.WriteString(c, "CAPA\r\n"); err != nil {
		return nil, err
	}
	for range 100 {
		line, err := c.line()
		switch {
		case err != nil:
			return nil, err
		case line == "." || strings.HasPrefix(line, "-ERR"):
			return ways, nil
		}
		if rest, ok := strings.CutPrefix(line, "SASL "); ok {
			ways = strings.Fields(foreign.Clean(rest))
		}
	}
	return nil, errTooLong
}

// popOutcome reads the last line of a try, with its code if it has one (RFC
// 3206).
func popOutcome(l fact.Login, line string) (fact.Login, error) {
	rest, refused := strings.CutPrefix(line, "-ERR")
	if !refused && !strings.HasPrefix(line, "+OK") {
		return l, errNotPOP3
	}
	if l.Outcome = outcome(!refused); refused {
		l.Code, l.Text = "-ERR", strings.TrimSpace(rest)
		if inside, text, ok := strings.Cut(strings.TrimPrefix(l.Text, "["), "]"); ok &&
			strings.HasPrefix(l.Text, "[") {
			l.Code, l.Text = inside, strings.TrimSpace(text)
		}
	}
	return l, nil
}
