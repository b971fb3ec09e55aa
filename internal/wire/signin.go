package wire

import (
	"encoding/base64"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"

	"uakari/internal/fact"
)

// loginNATS signs in by name and secret (CONNECT of the client protocol), which
// shows the secret, and asks for a sign of life: the server answers that or
// says why not.
func loginNATS(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "CONNECT"}
	if !with.Show {
		return shows("CONNECT", nil), nil
	}
	say, err := json.Marshal(map[string]any{
		"verbose": false, "pedantic": false, "user": with.Account, "pass": with.Secret,
		"name": "uakari", "lang": "go", "version": "1", "protocol": 1,
	})
	if err != nil {
		return l, err
	}
	with.presenting()
	const alive = "PING\r\n"
	if _, err := fmt.Fprintf(c, "CONNECT %s\r\n%s", say, alive); err != nil {
		return l, err
	}
	for range 20 {
		text, err := c.line()
		switch {
		case strings.HasPrefix(text, "PONG"):
			l.Outcome = fact.LoginAccepted
			return l, nil
		case strings.HasPrefix(text, "-ERR"):
			l.Code, l.Text = "-ERR", strings.Trim(strings.TrimSpace(text[4:]), "'")
			l.Outcome = fact.LoginRefused
			return l, nil
		case err != nil:
			return l, err
		}
	}
	return l, errTooLong
}

// loginSOCKS signs in by name and secret, which shows the secret (RFC 1929).
func loginSOCKS(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "name and secret"}
	if !with.Show {
		return shows("with a name and its secret", nil), nil
	}
	if len(with.Account) > 255 || len(with.Secret) > 255 {
		return l, errors.New("the account or secret is longer than SOCKS can carry")
	}
	if _, err := io.WriteString(c, "\x05\x01\x02"); err != nil {
		return l, err
	}
	chosen := make([]byte, 2)
	if _, err := io.ReadFull(c, chosen); err != nil {
		return l, err
	}
	if chosen[0] != 5 {
		return l, errStranger
	}
	if chosen[1] != 2 {
		l.Outcome, l.Code, l.Text = fact.LoginRefused, "mechanism", "it takes no name and secret"
		return l, nil
	}
	with.presenting()
	say := "\x01" + string(
		[]byte{byte(len(with.Account))},
	) + with.Account + string(
		[]byte{byte(len(with.Secret))},
	) + with.Secret
	if _, err := io.WriteString(c, say); err != nil {
		return l, err
	}
	answer := make([]byte, 2)
	if _, err := io.ReadFull(c, answer); err != nil {
		return l, err
	}
	if l.Outcome = outcome(answer[1] == 0); answer[1] != 0 {
		l.Code = fmt.Sprint(answer[1])
	}
	return l, nil
}

// loginXMPP signs in by the best way that the server offers (RFC 6120 section
// 6).
func loginXMPP(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{}
	f, err := c.offered()
	if err != nil {
		return l, err
	}
	if code, text := f.wrong(); code != "" {
		l.Outcome, l.Code, l.Text = fact.LoginFailed, code, text
		return l, nil
	}
	l.Offered = f.Ways
	way, showing := saslWay(f.Ways, with.Show)
	switch {
	case way == "" && showing:
		return shows("by "+strings.Join(f.Ways, " or "), f.Ways), nil
	case way == "":
		return notOffered(f.Ways), nil
	}
	l.Mechanism = way
	s := newSASL(way, "xmpp", with)
	first := ""
	if way == "PLAIN" || strings.HasPrefix(way, "SCRAM-") { // the client speaks first
		if first, err = s.next(""); err != nil {
			return l, err
		}
		first = base64.StdEncoding.EncodeToString([]byte(first))
	}
	with.presenting()
	_, err = fmt.Fprintf(c, "<auth xmlns='urn:ietf:params:xml:ns:xmpp-sasl' mechanism='%s'>%s</auth>", way, first)
	for range mostChallenges {
		var answer struct {
			XMLName xml.Name
			Inner   string `xml:",chardata"`
			Text    string `xml:"text"`
			Reason  []struct {
				XMLName xml.Name
			} `xml:",any"`
		}
		if err == nil {
			err = c.element(&answer)
		}
		if err != nil {
			return l, err
		}
		switch answer.XMLName.Local {
		case "success":
			l.Outcome = fact.LoginAccepted
			return l, nil
		case "challenge":
			text, failed := base64.StdEncoding.DecodeString(strings.TrimSpace(answer.Inner))
			if failed != nil {
				return l, errSASL
			}
			say, failed := s.next(string(text))
			if failed != nil {
				return l, failed
			}
			_, err = fmt.Fprintf(
				c,
				"<response xmlns='urn:ietf:params:xml:ns:xmpp-sasl'>%s</response>",
				base64.StdEncoding.EncodeToString([]byte(say)),
			)
		default:
			l.Outcome, l.Code, l.Text = fact.LoginRefused, answer.XMLName.Local, strings.TrimSpace(answer.Text)
			if len(answer.Reason) > 0 {
				l.Code = answer.Reason[0].XMLName.Local
			}
			return l, nil
		}
	}
	return l, errSASL
}
