package wire

import (
	"errors"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// askMemcached asks for the version (protocol.txt of memcached).
func askMemcached(c *Conn, _ Question) fact.Reply {
	return c.ask("memcached", "version", "version\r\n", func(r *fact.Reply) error {
		if head, _ := c.r.Peek(1); head[0] != 'V' && head[0] != 'E' && head[0] != 'C' && head[0] != 'S' {
			return c.stranger(r)
		}
		text, err := c.line()
		r.Text = foreign.Clean(text)
		if strings.HasPrefix(text, "VERSION ") {
			return nil
		}
		code, rest, _ := strings.Cut(r.Text, " ")
		if code != "ERROR" && code != "CLIENT_ERROR" && code != "SERVER_ERROR" {
			return errors.Join(err, c.stranger(r))
		}
		r.Refused = strings.Contains(rest, "unauthenticated")
		r.Code, r.Text = code, rest
		return err
	})
}
