package wire

import (
	"bytes"
	"errors"
	"io"
	"net/textproto"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// askHTTP asks for a page and reads the head and the first of the body
// (RFC 9112). Redirects are reported and not followed.
func askHTTP(c *Conn, q Question) fact.Reply { return askPage(c, q, "Connection: close\r\n") }

// askWebSocket asks for the upgrade to a socket (RFC 6455 section 4.1).
func askWebSocket(c *Conn, q Question) fact.Reply {
	r := askPage(
		c,
		q,
		"Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Key: "+
			"dWFrYXJpLXVha2FyaS11YQ==\r\n",
	)
	if r.Protocol = "websocket"; r.Ending == fact.Done && r.Status != 101 && !r.Refused {
		r.Code, r.Text = strconv.Itoa(r.Status), strings.TrimSpace(r.Reason+" instead of a socket")
	}
	return r
}

// askPage is the question of both, with what they differ in.
func askPage(c *Conn, q Question, headers string) fact.Reply {
	path := q.Path
	if path == "" || path[0] != '/' {
		path = "/" + path
	}
	path, _, _ = strings.Cut(path, "#")
	reader := c.bound()
	send := "GET " + path + " HTTP/1.1\r\nHost: " + q.Host + "\r\nUser-Agent: uakari\r\nAccept: */*\r\n" + headers +
		"\r\n"
	return c.ask("http", "GET "+path, send, func(r *fact.Reply) error {
		head, _ := c.r.Peek(min(c.r.Buffered(), 16))
		if !bytes.HasPrefix(head, []byte("HTTP/"[:min(5, len(head))])) {
			r.Spoke, r.Text = Recognise(c.unread()), foreign.Clean(string(c.unread()))
			return errNotHTTP
		}
		header, err := c.httpHead(r)
		if err != nil {
			return reader.why(err)
		}
		r.Program = foreign.Clean(header.Get("Server"))
		r.Location = foreign.Clean(header.Get("Location"))
		if date, err := time.Parse(httpDate, header.Get("Date")); err == nil {
			r.Date = date
		}
		r.Refused = r.Status == 401 || r.Status == 407
		for _, c := range challenges(header.Values("WWW-Authenticate")) {
			r.Ways = append(r.Ways, c.scheme)
		}
		// The head is the answer. Of the body, its beginning is enough: what
		// came with the head or, where it matters, comes right after it.
		size, err := strconv.Atoi(header.Get("Content-Length"))
		if (r.Status >= 400 || q.Body) && r.Status != 304 && size != 0 && c.r.Buffered() == 0 {
			c.SetReadDeadline(time.Now().Add(bodyWait))
			c.r.Peek(1)
		}
		r.Text, r.Whole = foreign.CleanTo(
			string(c.unread()),
			mostBody,
		), err == nil &&
			size <= min(c.r.Buffered(), mostBody)
		return nil
	})
}

// What is kept of a page, in characters, and how long its beginning is waited
// for once the head is there.
const (
	mostBody = 1000
	bodyWait = 100 * time.Millisecond
)

// httpDate is the one form of date that servers must send (RFC 9110 section
// 5.6.7).
const httpDate = "Mon, 02 Jan 2006 15:04:05 GMT"

// bounded ends what is read of a connection after a number of bytes, and
// remembers what else ended it: line readers hand out the half line before
// the error, and a half line is not a broken one.
type bounded struct {
	from io.Reader
	left int
	err  error
}

// bound makes an end of what is read of a connection from now on. Nothing
// may have been read yet.
func (c *Conn) bound() *bounded {
	b := &bounded{from: c.Conn, left: mostReply}
	c.r.Reset(b)
	return b
}

func (b *bounded) Read(p []byte) (int, error) {
	if b.left == 0 {
		b.err = errTooLong
		return 0, b.err
	}
	n, err := b.from.Read(p[:min(len(p), b.left)])
	b.left -= n
	b.err = err
	return n, err
}

// why is why reading failed: what ended the connection, if anything did,
// before what could not be read of its last line.
func (b *bounded) why(err error) error {
	if b.err != nil {
		return b.err
	}
	return err
}

// httpHead reads a status line and its header, past any that are only on the
// way (1xx, RFC 9110 section 15.2).
func (c *Conn) httpHead(r *fact.Reply) (textproto.MIMEHeader, error) {
	text := textproto.NewReader(c.r)
	const mostInterim = 5
	for range mostInterim {
		line, err := text.ReadLine()
		if err != nil {
			return nil, err
		}
		version, rest, _ := strings.Cut(line, " ")
		code, reason, _ := strings.Cut(rest, " ")
		status, err := strconv.Atoi(code)
		if err != nil || !strings.HasPrefix(version, "HTTP/") || len(code) != 3 || status < 100 {
			return nil, errNotHTTP
		}
		header, err := text.ReadMIMEHeader()
		var malformed textproto.ProtocolError
		if errors.As(err, &malformed) {
			return nil, errNotHTTP
		}
		if err != nil || status >= 200 || status == 101 { // RFC 9110 section 15.2.2: the last answer
			r.Status, r.Reason = status, foreign.Clean(reason)
			return header, err
		}
	}
	return nil, errNotHTTP
}

var errNotHTTP = errors.New("not HTTP")
