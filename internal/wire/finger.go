package wire

import (
	"errors"
	"io"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// askFinger asks who is here (RFC 1288). Whatever text comes is an answer.
func askFinger(c *Conn, _ Question) fact.Reply {
	return c.ask("finger", "who is here", "\r\n", func(r *fact.Reply) error {
		text, err := c.line()
		if r.Text = foreign.Clean(text); Recognise([]byte(text)) != "" {
			return c.stranger(r)
		}
		// What came with the first line is text as well, or none of it is an answer.
		more, _ := c.r.Peek(c.r.Buffered())
		if !ownText(text) || len(more) > 0 && !ownText("."+strings.ToValidUTF8(string(more), "\x00")) {
			return errors.Join(err, c.stranger(r))
		}
		if errors.Is(err, io.EOF) && text != "" {
			return nil
		}
		return err
	})
}
