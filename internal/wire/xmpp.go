package wire

import (
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// stream opens a stream to a host (RFC 6120 section 4.2).
func stream(host string) string {
	var name strings.Builder
	xml.EscapeText(&name, []byte(host))
	return "<?xml version='1.0'?><stream:stream to='" + name.String() +
		"' version='1.0' xmlns='jabber:client' xmlns:stream='http://etherx.jabber.org/streams'>"
}

// features is what a server offers at the beginning of a stream, or why it
// ends it.
type features struct {
	XMLName  xml.Name
	StartTLS *struct {
		Required *struct{} `xml:"required"`
	} `xml:"starttls"`
	Ways      []string                     `xml:"mechanisms>mechanism"`
	Condition []struct{ XMLName xml.Name } `xml:",any"`
	Text      string                       `xml:"text"`
}

// xmppStream keeps its reader, and what was offered at its beginning.
type xmppStream struct {
	xml    *xml.Decoder
	begun  bool // its beginning was read
	offers features
}

// openStream opens a stream and reads what the server offers.
func (c *Conn) openStream(host string) (features, error) {
	var f features
	if _, err := io.WriteString(c, stream(host)); err != nil {
		return f, err
	}
	return f, c.element(&f)
}

// offered is what the server offers on this connection, in a stream that was
// opened before or is now.
func (c *Conn) offered() (features, error) {
	if s := kept[xmppStream](c); s.offers.XMLName.Local != "" {
		return s.offers, nil
	}
	return c.openStream(c.Name)
}

// element reads the next element within a stream.
func (c *Conn) element(into any) error {
	head, err := c.r.Peek(1)
	if err != nil {
		return err
	}
	if head[0] != '<' {
		return errStranger
	}
	s := kept[xmppStream](c)
	if s.xml == nil {
		s.xml = xml.NewDecoder(io.LimitReader(c, mostReply))
	}
	for {
		token, err := s.xml.Token()
		if err != nil {
			var syntax *xml.SyntaxError
			if errors.As(err, &syntax) {
				return errors.Join(errStranger, err)
			}
			return err
		}
		start, ok := token.(xml.StartElement)
		switch {
		case !ok:
		case start.Name.Local == "stream":
			s.begun = true
		case !s.begun: // nothing stands outside the server's own stream
			return errStranger
		default:
			return s.xml.DecodeElement(into, &start)
		}
	}
}

// wrong is why a stream was ended; "" where it was not.
func (f features) wrong() (code, text string) {
	if f.XMLName.Local != "error" {
		return "", ""
	}
	for _, any := range f.Condition {
		return any.XMLName.Local, foreign.Clean(strings.TrimSpace(f.Text))
	}
	return "error", foreign.Clean(strings.TrimSpace(f.Text))
}

// upgradeXMPP asks for TLS (RFC 6120 section 5.4).
func upgradeXMPP(c *Conn) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	f, err := c.openStream(c.Name)
	if code, _ := f.wrong(); code != "" {
		u.Head = code
	}
	if err == nil && f.StartTLS != nil {
		var answer struct{ XMLName xml.Name }
		if _, err = io.WriteString(c, "<starttls xmlns='urn:ietf:params:xml:ns:xmpp-tls'/>"); err == nil {
			err = c.element(&answer)
		}
		u.Offered = answer.XMLName.Local == "proceed"
	}
	kept[xmppStream](c).offers = f
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

// askXMPP opens a stream to the host that the endpoint names; one that the
// server does not serve is refused.
func askXMPP(c *Conn, q Question) fact.Reply {
	began := time.Now()
	r := fact.Reply{Protocol: "xmpp", Asked: "a stream to " + c.Name}
	f, err := c.offered()
	r.FirstMS = MS(time.Since(began))
	r.Code, r.Text = f.wrong()
	r.Ways = f.Ways
	if errors.Is(err, errStranger) {
		err = errors.Join(err, c.stranger(&r))
	}
	r.Ending, r.TookMS = ending(err), MS(time.Since(began))
	return r
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
