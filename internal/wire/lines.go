package wire

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// ownText reports whether a line is text, and not the question come back.
func ownText(text string) bool {
	return strings.TrimSpace(text) != "" && utf8.ValidString(text) && !strings.ContainsFunc(text, func(r rune) bool {
		return r < ' ' && r != '\t' && r != '\r' && r != '\n' || r == utf8.RuneError
	})
}

// status reads the first line of an answer of SIP or RTSP and all of its head.
func (c *Conn) status(r *fact.Reply, version string) error {
	text, err := c.line()
	rest, ok := strings.CutPrefix(text, version+" ")
	if !ok {
		return errors.Join(err, c.stranger(r))
	}
	code, reason, _ := strings.Cut(rest, " ")
	if _, err := fmt.Sscanf(code, "%d", &r.Status); err != nil || r.Status < 100 || r.Status > 699 {
		return c.stranger(r)
	}
	r.Reason = foreign.Clean(reason)
	switch {
	case r.Status == 401 || r.Status == 407:
		r.Refused = true
	case r.Status >= 500 || r.Status == 403:
		r.Code, r.Text = code, r.Reason
	}
	for err == nil && text != "" {
		text, err = c.line()
		if key, value, ok := strings.Cut(text, ":"); ok &&
			(strings.EqualFold(key, "Server") || strings.EqualFold(key, "User-Agent")) {
			r.Program = foreign.Clean(strings.TrimSpace(value))
		}
	}
	return nil
}

// askUpgrade sends a line that asks for TLS and reads a line in answer.
func (c *Conn) askUpgrade(ask string, good func(string) bool) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	_, err := io.WriteString(c, ask)
	if err == nil {
		var line string
		line, err = c.line()
		u.Offered, u.Head = good(line), foreign.Clean(line)
	}
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

// ask sends a question and times the answer.
func (c *Conn) ask(protocol, asked, send string, read func(*fact.Reply) error) fact.Reply {
	began := time.Now()
	r := fact.Reply{Protocol: protocol, Asked: asked}
	c.first = nil
	_, err := c.Write([]byte(send))
	r.SentMS = MS(time.Since(began))
	if err == nil {
		var head []byte
		head, err = c.r.Peek(1)
		r.FirstMS = MS(time.Since(began))
		if len(head) > 0 {
			c.first = bytes.Clone(c.unread())
			if err = read(&r); err != nil && r.Spoke == "" {
				r.Spoke = cmp.Or(Recognise([]byte(r.Text)), Recognise(c.first))
			}
		}
	}
	r.Ending, r.TookMS = ending(err), MS(time.Since(began))
	switch r.Spoke {
	case "":
	case protocol:
		r.Spoke = ""
	default: // it waited for more of what is no message of this protocol
		r.Ending = fact.Malformed
	}
	return r
}
