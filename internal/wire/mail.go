package wire

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// greetSMTP reads "220 …"; 4xx and 5xx are refusals (RFC 5321 section 3.1).
func greetSMTP(c *Conn) fact.Greeting {
	g := c.firstLine("smtp", func(s string) bool {
		return len(s) >= 3 && strings.ContainsRune("245", rune(s[0])) && isDigits(s[:3]) &&
			(len(s) == 3 || s[3] == ' ' || s[3] == '-')
	})
	if g.Protocol == "smtp" && g.Ending == fact.Done && !strings.HasPrefix(g.Head, "2") {
		g.Refusal, g.Code = g.Head, g.Head[:3]
	}
	size := 0
	for text := g.Head; g.Ending == fact.Done && len(text) > 3 && text[3] == '-'; size += len(text) + 2 {
		var err error
		if text, err = c.line(); err != nil {
			g.Ending = ending(err)
		} else if size > mostReply {
			g.Ending = fact.Malformed
		}
	}
	return g
}

func isDigits(s string) bool {
	_, err := strconv.ParseUint(s, 10, 32)
	return err == nil
}

// smtpReply reads one reply of any number of lines.
func (c *Conn) smtpReply() (code int, text string, err error) {
	var all []string
	for size := 0; size < mostReply; {
		line, err := c.line()
		if err != nil {
			return 0, line, err
		}
		size += len(line) + 2 // an empty line counts, too
		all = append(all, line)
		if len(line) < 4 || line[3] != '-' {
			code, err := strconv.Atoi(line[:min(3, len(line))])
			return code, strings.Join(all, "\n"), err
		}
	}
	return 0, "", errTooLong
}

// upgradeSMTP greets with EHLO and asks for STARTTLS where it is offered
// (RFC 3207).
func upgradeSMTP(c *Conn) fact.Upgrade {
	began := time.Now()
	done := func(err error, offered bool, text string) fact.Upgrade {
		return fact.Upgrade{
			Ending:  ending(err),
			Offered: offered,
			Head:    foreign.Clean(text),
			TookMS:  MS(time.Since(began)),
		}
	}
	if _, err := fmt.Fprintf(c, "EHLO uakari.invalid\r\n"); err != nil {
		return done(err, false, "")
	}
	code, text, err := c.smtpReply()
	if code == 250 {
		c.ehlo = text
	}
	if err != nil || !strings.Contains(strings.ToUpper(text), "STARTTLS") {
		return done(err, false, text)
	}
	if _, err := fmt.Fprintf(c, "STARTTLS\r\n"); err != nil {
		return done(err, false, "")
	}
	code, text, err = c.smtpReply()
	return done(err, code == 220, text)
}

// askSMTP asks what the server can do (EHLO, RFC 5321 section 4.1.1.1): after
// TLS was begun, it has to be asked anew. Where it said so already on this session, it
// is asked for nothing (NOOP, section 4.1.1.9).
func askSMTP(c *Conn, _ Question) fact.Reply {
	asked, send := "EHLO", "EHLO uakari.invalid\r\n"
	if c.ehlo != "" {
		asked, send = "NOOP", "NOOP\r\n"
	}
	return c.ask("smtp", asked, send, func(r *fact.Reply) error {
		code, text, err := c.smtpReply()
		if err == nil && (code < 200 || code > 599) {
			err = errNotSMTP
		}
		r.Status, r.Text, r.Ways = code, foreign.Clean(text), smtpWays(strings.Split(cmp.Or(c.ehlo, text), "\n"))
		if code >= 400 {
			r.Code = strconv.Itoa(code)
		}
		return err
	})
}

var errNotSMTP = errors.New("not SMTP")

// ask sends a question and times the answer.
func (c *Conn) ask(protocol, asked, send string, read func(*fact.Reply) error) fact.Reply {
	began := time.Now()
	r := fact.Reply{Protocol: protocol, Asked: asked}
	_, err := c.Write([]byte(send))
	r.SentMS = MS(time.Since(began))
	if err == nil {
		var head []byte
		head, err = c.r.Peek(1)
		r.FirstMS = MS(time.Since(began))
		if len(head) > 0 {
			if err = read(&r); err != nil && ending(err) != fact.Done {
				if r.Spoke == "" {
					r.Spoke = Recognise([]byte(r.Text))
				}
			}
		}
	}
	r.Ending, r.TookMS = ending(err), MS(time.Since(began))
	if r.Spoke == protocol {
		r.Spoke = ""
	}
	return r
}

var errNotIMAP = errors.New("not IMAP")

// greetIMAP reads "* OK" or "* PREAUTH"; "* BYE" is a refusal (RFC 9051
// section 7.1).
func greetIMAP(c *Conn) fact.Greeting {
	g := c.firstLine("imap", func(s string) bool {
		return strings.HasPrefix(s, "* OK") || strings.HasPrefix(s, "* PREAUTH") || strings.HasPrefix(s, "* BYE")
	})
	if strings.HasPrefix(g.Head, "* BYE") {
		g.Refusal, g.Code = g.Head, "BYE"
	}
	return g
}

// imapReply reads up to the line that a tag ends.
func (c *Conn) imapReply(tag string) (status, text string, err error) {
	var all []string
	for size := 0; size < mostReply; {
		line, err := c.line()
		if err != nil {
			return "", line, err
		}
		size += len(line) + 2 // an empty line counts, too
		all = append(all, line)
		if rest, ok := strings.CutPrefix(line, tag+" "); ok {
			status, _, _ = strings.Cut(rest, " ")
			return status, strings.Join(all, "\n"), nil
		}
	}
	return "", "", errTooLong
}

// upgradeIMAP asks for STARTTLS (RFC 9051 section 6.2.1).
func upgradeIMAP(c *Conn) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	_, err := fmt.Fprintf(c, "u1 STARTTLS\r\n")
	if err == nil {
		var status, text string
		status, text, err = c.imapReply("u1")
		u.Offered, u.Head = status == "OK", foreign.Clean(text)
	}
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

// askIMAP asks what the server can do (CAPABILITY).
func askIMAP(c *Conn, _ Question) fact.Reply {
	return c.ask("imap", "CAPABILITY", "u2 CAPABILITY\r\n", func(r *fact.Reply) error {
		status, text, err := c.imapReply("u2")
		r.Text = foreign.Clean(text)
		r.Ways, _ = imapOffers(text)
		switch {
		case err != nil:
			return err
		case status == "NO" || status == "BAD":
			r.Code = status
		case status != "OK" || !strings.Contains(strings.ToUpper(text), "* CAPABILITY "):
			return errNotIMAP
		}
		return nil
	})
}
