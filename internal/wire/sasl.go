package wire

import (
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// saslWays is the ways of SASL that are spoken here, the best first: one that
// never sends the secret itself goes before those that do (RFC 7677, RFC 4616;
// LOGIN was never more than a draft, and is everywhere).
var saslWays = []string{"SCRAM-SHA-256", "PLAIN", "LOGIN"}

// saslWay is the best way of those that a server offers; "" if there is none.
func saslWay(offered []string) string {
	for _, way := range saslWays {
		if slices.Contains(offered, way) {
			return way
		}
	}
	return ""
}

// sasl is one exchange, from the client's side.
type sasl struct {
	way  string
	with Credentials
	scram
	step int
}

// next is what the client says to a challenge.
func (s *sasl) next(challenge string) (string, error) {
	s.step++
	switch {
	case s.way == "PLAIN" && s.step == 1:
		return "\x00" + s.with.Account + "\x00" + s.with.Secret, nil
	case s.way == "LOGIN" && s.step == 1:
		return s.with.Account, nil
	case s.way == "LOGIN" && s.step == 2:
		return s.with.Secret, nil
	case s.way == "SCRAM-SHA-256" && s.step == 1:
		return s.first(s.with.Account), nil
	case s.way == "SCRAM-SHA-256" && s.step == 2:
		return s.last(challenge, s.with.Secret)
	case s.way == "SCRAM-SHA-256" && s.step == 3:
		return "", nil // the server's own proof; a wrong one harms only it
	}
	return "", errSASL
}

var errSASL = errors.New("the server asks for more than there is to say")

// answerLine answers one challenge, both in base64, as mail protocols have it.
func (s *sasl) answerLine(c *Conn, challenge string) error {
	text, err := base64.StdEncoding.DecodeString(strings.TrimSpace(challenge))
	if err != nil && s.way == "SCRAM-SHA-256" && s.step > 0 {
		return errScram
	}
	answer, err := s.next(string(text))
	if err != nil {
		return err
	}
	_, err = io.WriteString(c, base64.StdEncoding.EncodeToString([]byte(answer))+"\r\n")
	return err
}

// notOffered is a login that was not tried: no way that the server offers is
// spoken here.
func notOffered(offered []string) fact.Login {
	return fact.Login{Outcome: fact.LoginRefused, Mechanism: strings.Join(saslWays, ", "), Offered: offered, Code: "mechanism", Text: "it offers none of these"}
}

// loginSMTP signs in by the best way that is offered (RFC 4954).
func loginSMTP(c *Conn, with Credentials) (fact.Login, error) {
	if _, err := io.WriteString(c, "EHLO uakari.invalid\r\n"); err != nil {
		return fact.Login{Mechanism: "PLAIN"}, err
	}
	_, lines, err := c.smtpLines()
	if err != nil {
		return fact.Login{Mechanism: "PLAIN"}, err
	}
	offered := smtpWays(lines)
	s := sasl{way: saslWay(offered), with: with}
	if s.way == "" {
		return notOffered(offered), nil
	}
	l := fact.Login{Mechanism: s.way, Offered: offered}
	if _, err := io.WriteString(c, "AUTH "+s.way+"\r\n"); err != nil {
		return l, err
	}
	for {
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
}

// smtpWays is the ways to sign in that lines of an EHLO name.
func smtpWays(lines []string) []string {
	for _, line := range lines {
		if rest, ok := strings.CutPrefix(strings.ToUpper(line[min(4, len(line)):]), "AUTH "); ok {
			return strings.Fields(Clean(rest))
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

// loginIMAP signs in by SCRAM where that is offered, else by LOGIN, else by
// PLAIN (RFC 9051 sections 6.2.2 and 6.2.3).
func loginIMAP(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "LOGIN"}
	offered, closed, err := c.imapWays()
	if err != nil {
		return l, err
	}
	l.Offered = offered
	s := sasl{way: saslWay(offered), with: with}
	quote := strings.NewReplacer(`\`, `\\`, `"`, `\"`)
	switch {
	case s.way == "" && closed:
		return notOffered(offered), nil
	case s.way == "SCRAM-SHA-256" || closed:
		l.Mechanism = s.way
		_, err = fmt.Fprintf(c, "u3 AUTHENTICATE %s\r\n", s.way)
	case strings.ContainsAny(with.Account+with.Secret, "\r\n\x00"):
		return l, errors.New("the account or secret has characters that LOGIN cannot carry")
	default:
		_, err = fmt.Fprintf(c, "u3 LOGIN \"%s\" \"%s\"\r\n", quote.Replace(with.Account), quote.Replace(with.Secret))
	}
	for range 100 {
		line := ""
		if err == nil {
			line, err = c.line()
		}
		if err != nil {
			return l, err
		}
		if challenge, ok := strings.CutPrefix(line, "+"); ok {
			err = s.answerLine(c, challenge)
			continue
		}
		if strings.HasPrefix(line, "* BYE") {
			return l, io.EOF
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
		return l, nil
	}
	return l, errTooLong
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
		for _, word := range strings.Fields(CleanTo(list, mostBody)) {
			if way, ok := strings.CutPrefix(word, "AUTH="); ok {
				offered = append(offered, way)
			}
			closed = closed || word == "LOGINDISABLED"
		}
	}
	return offered, closed
}
