package wire

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/url"
	"regexp"
	"strings"
	"unicode/utf8"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Protocols of lines in which one question shows all: what is sent, and what a
// server of the kind answers.

var errStranger = errors.New("not an answer of this protocol")

// stranger keeps what came instead of an answer.
func (c *Conn) stranger(r *fact.Reply) error {
	head := c.unread()
	r.Spoke, r.Text = Recognise(head), foreign.Clean(string(head[:min(len(head), mostHead)]))
	return errStranger
}

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
			return errors.Join(err, errStranger)
		}
		r.Refused = strings.Contains(rest, "unauthenticated")
		r.Code, r.Text = code, rest
		return err
	})
}

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
		return errors.Join(err, errStranger)
	})
}

// greetRsync reads "@RSYNCD: VERSION"; "@ERROR" is a refusal.
func greetRsync(c *Conn) fact.Greeting {
	g := c.firstLine(
		"rsync",
		func(s string) bool { return strings.HasPrefix(s, "@RSYNCD: ") || strings.HasPrefix(s, "@ERROR") },
	)
	if strings.HasPrefix(g.Head, "@ERROR") {
		g.Refusal, g.Code, g.Protocol = strings.TrimPrefix(g.Head, "@ERROR: "), "@ERROR", "rsync"
	}
	return g
}

// askRsync asks for the module that the endpoint names, or for the list of all
// (clientserver.c of rsync).
func askRsync(c *Conn, q Question) fact.Reply {
	module, _, _ := strings.Cut(strings.Trim(q.Path, "/"), "/")
	asked := "module " + module
	if module == "" {
		module, asked = "#list", "the modules"
	}
	return c.ask("rsync", asked, "@RSYNCD: 31.0\n"+module+"\n", func(r *fact.Reply) error {
		for {
			text, err := c.line()
			switch {
			case strings.HasPrefix(text, "@RSYNCD: OK"), strings.HasPrefix(text, "@RSYNCD: EXIT"):
				return nil
			case strings.HasPrefix(text, "@RSYNCD: AUTHREQD"):
				r.Refused = true
				return nil
			case strings.HasPrefix(text, "@ERROR"):
				r.Code, r.Text = "@ERROR", foreign.Clean(strings.TrimPrefix(text, "@ERROR: "))
				return nil
			case err != nil:
				return err
			}
		}
	})
}

// askGit asks for what a repository holds; a server that knows none of the
// name says so, which is an answer where the endpoint names none (git's
// pack-protocol).
func askGit(c *Conn, q Question) fact.Reply {
	path := q.Path
	if path == "" {
		path = "/"
	}
	host, _, _ := strings.Cut(q.Host, ":")
	line := "git-upload-pack " + path + "\x00host=" + host + "\x00"
	return c.ask("git", path, fmt.Sprintf("%04x%s", len(line)+4, line), func(r *fact.Reply) error {
		head, err := c.r.Peek(8)
		if err != nil && len(head) < 4 {
			return err
		}
		if !pktLine.Match(head[:4]) || string(head[:4]) != "0000" && !advertises(c) {
			return c.stranger(r)
		}
		if len(head) == 8 && bytes.HasPrefix(head[4:], []byte("ERR ")) {
			text, _ := c.line()
			if r.Text = foreign.Clean(strings.TrimSpace(text[8:])); q.Path != "" && q.Path != "/" {
				r.Code = "ERR"
			}
		}
		return nil
	})
}

// advertises reports whether a line is what a server begins with: the first of its
// references, a version, or an error (git's pack-protocol).
func advertises(c *Conn) bool {
	line, _ := c.r.Peek(44)
	return reference.Match(line)
}

var reference = regexp.MustCompile(`^....([0-9a-f]{40}|version |ERR )`)

var pktLine = regexp.MustCompile(`^[0-9a-fA-F]{4}$`)

// askFinger asks who is here (RFC 1288). Whatever text comes is an answer.
func askFinger(c *Conn, _ Question) fact.Reply {
	return c.ask("finger", "who is here", "\r\n", func(r *fact.Reply) error {
		text, err := c.line()
		if r.Text = foreign.Clean(text); Recognise([]byte(text)) != "" {
			r.Spoke = Recognise([]byte(text))
			return errStranger
		}
		// What came with the first line is text as well, or none of it is an answer.
		more, _ := c.r.Peek(c.r.Buffered())
		if !ownText(text) || len(more) > 0 && !ownText("."+strings.ToValidUTF8(string(more), "\x00")) {
			return errors.Join(err, errStranger)
		}
		if errors.Is(err, io.EOF) && text != "" {
			return nil
		}
		return err
	})
}

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
			r.Spoke = Recognise([]byte(text))
			return errors.Join(err, errStranger)
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
		r.Text, r.Spoke = foreign.Clean(text), Recognise([]byte(text))
		return errors.Join(err, errStranger)
	}
	code, reason, _ := strings.Cut(rest, " ")
	if _, err := fmt.Sscanf(code, "%d", &r.Status); err != nil || r.Status < 100 || r.Status > 699 {
		return errStranger
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

// askSIP asks what a server can do (RFC 3261 section 11). That it knows no
// such address is an answer.
func askSIP(c *Conn, q Question) fact.Reply {
	via, local := "TCP", "127.0.0.1:5060"
	if q.Datagram {
		via = "UDP"
	}
	if c.LocalAddr() != nil {
		local = c.LocalAddr().String()
	}
	send := "OPTIONS sip:" + q.Host + " SIP/2.0\r\nVia: SIP/2.0/" + via + " " + local +
		";rport;branch=z9hG4bKuakari1\r\nMax-Forwards: 70\r\nFrom: <sip:uakari@" + local +
		">;tag=u1\r\nTo: <sip:" + q.Host + ">\r\nCall-ID: uakari-" + local +
		"\r\nCSeq: 1 OPTIONS\r\nContact: <sip:uakari@" + local +
		">\r\nAccept: application/sdp\r\nContent-Length: 0\r\n\r\n"
	return c.ask("sip", "OPTIONS", send, func(r *fact.Reply) error { return c.status(r, "SIP/2.0") })
}

// askRTSP asks what a server can do (RFC 2326 section 10.1).
func askRTSP(c *Conn, q Question) fact.Reply {
	at := url.URL{Scheme: "rtsp", Host: q.Host, Path: q.Path}
	send := "OPTIONS " + at.String() + " RTSP/1.0\r\nCSeq: 1\r\nUser-Agent: uakari\r\n\r\n"
	return c.ask("rtsp", "OPTIONS", send, func(r *fact.Reply) error { return c.status(r, "RTSP/1.0") })
}
