package wire

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// greetNATS reads "INFO {…}"; "-ERR" is a refusal (the client protocol of NATS).
func greetNATS(c *Conn) fact.Greeting {
	g := c.firstLine(
		"nats",
		func(s string) bool { return strings.HasPrefix(s, "INFO {") || strings.HasPrefix(s, "-ERR ") },
	)
	if strings.HasPrefix(g.Head, "-ERR ") {
		g.Refusal, g.Code, g.Protocol = strings.Trim(g.Head[5:], "'"), "-ERR", "nats"
	}
	return g
}

// askNATS asks for a sign of life. A server that wants an account first says
// so, or says nothing to strangers and waits.
func askNATS(c *Conn, _ Question) fact.Reply {
	return c.ask("nats", "PING", "PING\r\n", func(r *fact.Reply) error {
		text, err := c.line()
		r.Text = foreign.Clean(text)
		switch {
		case strings.HasPrefix(text, "PONG"):
			return nil
		case strings.HasPrefix(text, "-ERR"):
			r.Text = strings.Trim(strings.TrimPrefix(r.Text, "-ERR "), "'")
			if r.Refused = strings.Contains(strings.ToLower(text), "authoriz") ||
				strings.Contains(strings.ToLower(text), "authentic"); !r.Refused {
				r.Code = "-ERR"
			}
			return nil
		}
		return errors.Join(err, c.stranger(r))
	})
}

// loginNATS signs in by name and secret (CONNECT of the client protocol), which
// shows the secret, and asks for a sign of life: the server answers that or
// says why not.
func loginNATS(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "CONNECT"}
	if !with.Show {
		return shows("CONNECT", nil), nil
	}
	say, err := json.Marshal(map[string]any{
		"verbose": false, "pedantic": false, "user": with.Account, "pass": with.Secret,
		"name": "uakari", "lang": "go", "version": "1", "protocol": 1,
	})
	if err != nil {
		return l, err
	}
	with.presenting()
	const alive = "PING\r\n"
	if _, err := fmt.Fprintf(c, "CONNECT %s\r\n%s", say, alive); err != nil {
		return l, err
	}
	for range 20 {
		text, err := c.line()
		switch {
		case strings.HasPrefix(text, "PONG"):
			l.Outcome = fact.LoginAccepted
			return l, nil
		case strings.HasPrefix(text, "-ERR"):
			l.Code, l.Text = "-ERR", strings.Trim(strings.TrimSpace(text[4:]), "'")
			l.Outcome = fact.LoginRefused
			return l, nil
		case err != nil:
			return l, err
		}
	}
	return l, errTooLong
}
