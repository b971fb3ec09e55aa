package wire

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"strings"

	"uakari/internal/fact"
)

// askHTTP asks for a page and reads the head and the first of the body
// (RFC 9112). Redirects are reported and not followed.
func askHTTP(c *Conn, q Question) fact.Reply {
	path := q.Path
	if path == "" || path[0] != '/' {
		path = "/" + path
	}
	path, _, _ = strings.Cut(path, "#")
	bounded := &io.LimitedReader{R: c.Conn, N: mostReply}
	c.r.Reset(bounded)
	send := "GET " + path + " HTTP/1.1\r\nHost: " + q.Host + "\r\nUser-Agent: uakari\r\nAccept: */*\r\nConnection: close\r\n\r\n"
	return c.ask("http", "GET "+path, send, func(r *fact.Reply) error {
		head, _ := c.r.Peek(min(c.r.Buffered(), 16))
		if !bytes.HasPrefix(head, []byte("HTTP/"[:min(5, len(head))])) {
			r.Spoke, r.Text = Recognise(c.unread()), Clean(string(c.unread()))
			return errNotHTTP
		}
		response, err := http.ReadResponse(c.r, nil)
		if err != nil {
			if bounded.N == 0 {
				return errTooLong
			}
			if e := ending(err); e == fact.Malformed {
				return errNotHTTP
			}
			return err
		}
		defer response.Body.Close()
		r.Status = response.StatusCode
		_, reason, _ := strings.Cut(response.Status, " ")
		r.Reason = Clean(reason)
		r.Program = Clean(response.Header.Get("Server"))
		r.Location = Clean(response.Header.Get("Location"))
		r.Date, _ = http.ParseTime(response.Header.Get("Date"))
		r.Refused = r.Status == http.StatusUnauthorized || r.Status == http.StatusProxyAuthRequired
		// The head is the answer. Of the body, what came with it is enough.
		r.Text = Clean(string(c.unread()))
		return nil
	})
}

var errNotHTTP = errors.New("not HTTP")
