package wire

import (
	"encoding/xml"
	"errors"
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
	if c.offers.XMLName.Local != "" {
		return c.offers, nil
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
	if c.xml == nil {
		c.xml = xml.NewDecoder(io.LimitReader(c, mostReply))
	}
	for {
		token, err := c.xml.Token()
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
			c.streamed = true
		case !c.streamed: // nothing stands outside the server's own stream
			return errStranger
		default:
			return c.xml.DecodeElement(into, &start)
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
	c.offers = f
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
		r.Spoke, r.Text = Recognise(c.unread()), foreign.Clean(string(c.unread()))
	}
	r.Ending, r.TookMS = ending(err), MS(time.Since(began))
	return r
}
