package wire

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

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

// loginIMAP signs in by a way that does not show the secret where one is
// offered, else by LOGIN, else by PLAIN (RFC 9051 sections 6.2.2 and 6.2.3).
func loginIMAP(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "LOGIN"}
	offered, closed, err := c.imapWays()
	if err != nil {
		return l, err
	}
	l.Offered = offered
	way, showing := saslWay(offered, with.Show)
	s := newSASL(way, "imap", with)
	quote := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	switch {
	case way == "" && !with.Show && (showing || !closed):
		return shows("by LOGIN or PLAIN", offered), nil
	case way == "" && closed:
		return notOffered(offered), nil
	case closed || way != "" && way != "PLAIN" && way != "LOGIN":
		l.Mechanism = way
		_, err = fmt.Fprintf(c, "u3 AUTHENTICATE %s\r\n", way)
	case strings.ContainsAny(with.Account+with.Secret, "\r\n\x00"):
		return l, errors.New("the account or secret has characters that LOGIN cannot carry")
	default:
		with.presenting()
		_, err = fmt.Fprintf(c, "u3 LOGIN \"%s\" \"%s\"\r\n", quote.Replace(with.Account), quote.Replace(with.Secret))
	}
	asked := 0
	for range 100 {
		line := ""
		if err == nil {
			line, err = c.line()
		}
		if err != nil {
			return l, err
		}
		if challenge, ok := strings.CutPrefix(line, "+"); ok {
			if asked++; asked > mostChallenges {
				return l, errSASL
			}
			err = s.answerLine(c, challenge)
			continue
		}
		if strings.HasPrefix(line, "* BYE") {
			l.Outcome, l.Code, l.Text = fact.LoginRefused, "BYE", line[2:]
			return l, nil
		}
		status, ok := strings.CutPrefix(line, "u3 ")
		if !ok {
			continue
		}
		status, text, _ := strings.Cut(status, " ")
		l.Code, l.Text, l.Outcome = status, text, outcome(status == "OK")
		if _, after, ok := strings.Cut(text, "["); ok {
			l.Code, _, _ = strings.Cut(after, "]")
		}
		if l.Outcome == fact.LoginAccepted {
			l.Lacks = c.imapInbox()
		}
		return l, nil
	}
	return l, errTooLong
}

// imapInbox is what keeps an account from its mail, in the server's own words: it is let
// in, and its mailbox does not open. It is opened to be read, which changes nothing
// (RFC 9051 section 6.3.3).
func (c *Conn) imapInbox() []fact.LackingRight {
	if _, err := c.Write([]byte("u6 EXAMINE INBOX\r\n")); err != nil {
		return nil
	}
	for range 100 {
		line, err := c.line()
		if err != nil {
			return nil
		}
		if text, no := strings.CutPrefix(line, "u6 NO "); no {
			return []fact.LackingRight{{
				Right: fact.Right{May: "read", On: "mailbox INBOX"}, Level: "mailbox INBOX", Told: foreign.Clean(text),
				Absent: strings.HasPrefix(text, "[NONEXISTENT]"),
			}}
		}
		if strings.HasPrefix(line, "u6 ") {
			return nil
		}
	}
	return nil
}

// imapWays is the ways to sign in that a server offers, and whether it takes no
// plain LOGIN (RFC 9051 section 7.2.2).
func (c *Conn) imapWays() (offered []string, closed bool, err error) {
	if _, err := io.WriteString(c, "u4 CAPABILITY\r\n"); err != nil {
		return nil, false, err
	}
	_, text, err := c.imapReply("u4")
	offered, closed = imapOffers(text)
	return offered, closed, err
}

// imapOffers is the same, of an answer.
func imapOffers(text string) (offered []string, closed bool) {
	for line := range strings.Lines(strings.ToUpper(text)) {
		list, ok := strings.CutPrefix(line, "* CAPABILITY ")
		if !ok {
			continue
		}
		for _, word := range strings.Fields(foreign.CleanTo(list, mostBody)) {
			if way, ok := strings.CutPrefix(word, "AUTH="); ok {
				offered = append(offered, way)
			}
			closed = closed || word == "LOGINDISABLED"
		}
	}
	return offered, closed
}
