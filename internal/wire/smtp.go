package wire

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// smtpOffers is what a server offered on this very session, once it was asked: some refuse
// to be greeted twice. After TLS was begun it is asked anew.
type smtpOffers struct{ ehlo string }

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
		kept[smtpOffers](c).ehlo = text
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
	ehlo := kept[smtpOffers](c).ehlo
	if ehlo != "" {
		asked, send = "NOOP", "NOOP\r\n"
	}
	return c.ask("smtp", asked, send, func(r *fact.Reply) error {
		code, text, err := c.smtpReply()
		if err == nil && (code < 200 || code > 599) {
			err = errNotSMTP
		}
		r.Status, r.Text, r.Ways = code, foreign.Clean(text), smtpWays(strings.Split(cmp.Or(ehlo, text), "\n"))
		if code >= 400 {
			r.Code = strconv.Itoa(code)
		}
		return err
	})
}

var errNotSMTP = errors.New("not SMTP")

// loginSMTP signs in by the best way that is offered (RFC 4954).
func loginSMTP(c *Conn, with Credentials) (fact.Login, error) {
	ehlo := kept[smtpOffers](c).ehlo
	lines := strings.Split(ehlo, "\n")
	if ehlo == "" { // it was not greeted on this session yet
		if _, err := io.WriteString(c, "EHLO uakari.invalid\r\n"); err != nil {
			return fact.Login{Mechanism: "PLAIN"}, err
		}
		var code string
		var err error
		if code, lines, err = c.smtpLines(); err != nil {
			return fact.Login{Mechanism: "PLAIN"}, err
		}
		if code != "250" {
			return fact.Login{Outcome: fact.LoginRefused, Code: code, Text: strings.Join(lines, " ")}, nil
		}
	}
	offered := smtpWays(lines)
	way, showing := saslWay(offered, with.Show)
	switch {
	case way == "" && showing:
		return shows("by "+strings.Join(offered, ", "), offered), nil
	case way == "":
		return notOffered(offered), nil
	}
	s, l := newSASL(way, "smtp", with), fact.Login{Mechanism: way, Offered: offered}
	if _, err := io.WriteString(c, "AUTH "+s.way+"\r\n"); err != nil {
		return l, err
	}
	for range mostChallenges {
		code, lines, err := c.smtpLines()
		if err != nil {
			return l, err
		}
		if code != "334" {
			l.Code, l.Text, l.Outcome = code, strings.Join(lines, " "), outcome(code == "235")
			if fields := strings.Fields(lines[0]); len(fields) > 1 && strings.Count(fields[1], ".") == 2 {
				l.Code += " " + fields[1] // the enhanced code (RFC 3463)
			}
			return l, nil
		}
		if err := s.answerLine(c, lines[0][min(4, len(lines[0])):]); err != nil {
			return l, err
		}
	}
	return l, errSASL
}

// smtpWays is the ways to sign in that lines of an EHLO name.
func smtpWays(lines []string) []string {
	for _, line := range lines {
		if rest, ok := strings.CutPrefix(strings.ToUpper(line[min(4, len(line)):]), "AUTH "); ok {
			return strings.Fields(foreign.Clean(rest))
		}
	}
	return nil
}

// smtpLines reads one reply, of one line or more (RFC 5321 section 4.2).
func (c *Conn) smtpLines() (code string, lines []string, err error) {
	for len(lines) < 100 {
		line, err := c.line()
		if err != nil {
			return "", lines, err
		}
		lines = append(lines, line)
		if len(line) < 4 || line[3] != '-' {
			return line[:min(3, len(line))], lines, nil
		}
	}
	return "", lines, errTooLong
}
