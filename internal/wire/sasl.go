package wire

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha1"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// saslWays is the ways of SASL that are spoken here, the best first, and
// whether each shows the secret to whoever reads it: those that never do go
// before those that do (RFC 7677, RFC 5802, RFC 2831, RFC 2195, RFC 4616; LOGIN
// was never more than a draft, and is everywhere).
var saslWays = []struct {
	name  string
	shows bool
}{
	{"SCRAM-SHA-256", false},
	{"SCRAM-SHA-1", false},
	{"DIGEST-MD5", false},
	{"CRAM-MD5", false},
	{"PLAIN", true},
	{"LOGIN", true},
}

// saslWay is the best way of those that a server offers and that may be gone;
// if it is none, whether one is spoken here that would show the secret.
func saslWay(offered []string, show bool) (way string, showing bool) {
	for _, w := range saslWays {
		if !slices.Contains(offered, w.name) {
			continue
		}
		if !w.shows || show {
			return w.name, false
		}
		showing = true
	}
	return "", showing
}

// sasl is one exchange, from the client's side.
type sasl struct {
	way     string
	service string // the protocol's registered name, of DIGEST-MD5: "imap"
	with    Credentials
	scram
	step int
}

func newSASL(way, service string, with Credentials) *sasl {
	s := &sasl{way: way, service: service, with: with}
	if way == "SCRAM-SHA-1" {
		s.hash = sha1.New
	}
	return s
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
	case s.way == "CRAM-MD5" && s.step == 1:
		h := hmac.New(md5.New, []byte(s.with.Secret))
		io.WriteString(h, challenge)
		return s.with.Account + " " + hex.EncodeToString(h.Sum(nil)), nil
	case s.way == "DIGEST-MD5" && s.step == 1:
		return s.digest(challenge)
	case s.way == "DIGEST-MD5" && s.step == 2:
		return "", nil // the server's own proof; a wrong one harms only it
	case strings.HasPrefix(s.way, "SCRAM-") && s.step == 1:
		return s.first(s.with.Account), nil
	case strings.HasPrefix(s.way, "SCRAM-") && s.step == 2:
		return s.last(challenge, s.with.Secret)
	case strings.HasPrefix(s.way, "SCRAM-") && s.step == 3:
		return "", nil // as above
	}
	return "", errSASL
}

// digest answers a challenge of DIGEST-MD5 (RFC 2831 section 2.1.2).
func (s *sasl) digest(text string) (string, error) {
	parsed := challenges([]string{"digest " + text})
	if len(parsed) == 0 || parsed[0].params["nonce"] == "" {
		return "", errSASL
	}
	p := parsed[0].params
	sum := func(parts ...string) string {
		h := md5.Sum([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(h[:])
	}
	host, _, _ := strings.Cut(s.with.Host, ":")
	cnonce, uri, secret := rand.Text(), s.service+"/"+host, md5.Sum(
		[]byte(s.with.Account+":"+p["realm"]+":"+s.with.Secret),
	)
	first := sum(string(secret[:]), p["nonce"], cnonce)
	const count = "00000001"
	response := sum(first, p["nonce"], count, cnonce, "auth", sum("AUTHENTICATE", uri))
	return fmt.Sprintf(
		"charset=utf-8,username=%s,realm=%s,nonce=%s,nc=%s,cnonce=%s,digest-uri=%s,response=%s,qop=auth",
		strconv.Quote(
			s.with.Account,
		),
		strconv.Quote(p["realm"]),
		strconv.Quote(p["nonce"]),
		count,
		strconv.Quote(cnonce),
		strconv.Quote(uri),
		response,
	), nil
}

var errSASL = errors.New("the server asks for more than there is to say")

// answerLine answers one challenge, both in base64, as mail protocols have it.
func (s *sasl) answerLine(c *Conn, challenge string) error {
	text, err := base64.StdEncoding.DecodeString(strings.TrimSpace(challenge))
	if err != nil && s.step > 0 {
		return errSASL
	}
	answer, err := s.next(string(text))
	if err != nil {
		return err
	}
	s.with.presenting()
	_, err = io.WriteString(c, base64.StdEncoding.EncodeToString([]byte(answer))+"\r\n")
	return err
}

// notOffered is a login that was not tried: no way that the server offers is
// spoken here.
func notOffered(offered []string) fact.Login {
	var ours []string
	for _, w := range saslWays {
		ours = append(ours, w.name)
	}
	return fact.Login{
		Outcome:   fact.LoginRefused,
		Mechanism: strings.Join(ours, ", "),
		Offered:   offered,
		Code:      "mechanism",
		Text:      "it offers none of these",
	}
}

// loginSMTP signs in by the best way that is offered (RFC 4954).
func loginSMTP(c *Conn, with Credentials) (fact.Login, error) {
	lines := strings.Split(c.ehlo, "\n")
	if c.ehlo == "" { // it was not greeted on this session yet
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

// mostChallenges bounds how often a server may ask.
const mostChallenges = 10

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
