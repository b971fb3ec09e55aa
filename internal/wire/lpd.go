package wire

import (
	"errors"
	"io"
	"regexp"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// askLPD asks for the state of a queue (RFC 1179 section 5.3). A server that
// does not let this host print says so.
func askLPD(c *Conn, q Question) fact.Reply {
	queue := strings.Trim(q.Path, "/")
	if queue == "" {
		queue = "lp"
	}
	return c.ask("lpd", "queue "+queue, "\x03"+queue+"\n", func(r *fact.Reply) error {
		text, err := c.line()
		r.Text = foreign.Clean(text)
		if low := strings.ToLower(text); strings.Contains(low, "does not have") ||
			strings.Contains(low, "not allowed") ||
			strings.Contains(low, "denied") {
			r.Code = "refused"
		}
		if Recognise([]byte(text)) != "" || !ownText(text) || r.Code == "" && !queueState.MatchString(text) {
			return errors.Join(err, c.stranger(r))
		}
		if errors.Is(err, io.EOF) && text != "" {
			return nil
		}
		return err
	})
}

// queueState is how spoolers begin to tell of a queue, or that they have none of the
// name; the standard leaves the words to them.
var queueState = regexp.MustCompile(`(?i)no entries|is ready|not ready|\brank\b|printer|queue|spool|unknown|no such`)
