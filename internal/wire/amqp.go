package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// askAMQP offers version 0-9-1: a server that speaks it begins a session, one
// that speaks another says which (AMQP 0-9-1 section 2.2.4).
func askAMQP(c *Conn, _ Question) fact.Reply {
	return c.ask("amqp", "a session of version 0-9-1", "AMQP\x00\x00\x09\x01", func(r *fact.Reply) error {
		head := make([]byte, 8)
		if _, err := io.ReadFull(c, head); err != nil {
			r.Text = foreign.Clean(string(head))
			return err
		}
		if string(head[:4]) == "AMQP" {
			r.Code, r.Text = "version", fmt.Sprintf("it speaks another version (% x)", head[4:])
			return nil
		}
		// A frame of channel 0 with the method Connection.Start (sections 2.3.5
		// and 1.4.2.1): it wants an account next.
		rest := make([]byte, 3)
		if _, err := io.ReadFull(c, rest); err != nil {
			return err
		}
		class, method := binary.BigEndian.Uint16([]byte{head[7], rest[0]}), binary.BigEndian.Uint16(rest[1:])
		if head[0] != 1 || binary.BigEndian.Uint16(head[1:]) != 0 || binary.BigEndian.Uint32(head[3:]) < 4 ||
			class != 10 ||
			method != 10 {
			r.Spoke = Recognise(head)
			return errNotAMQP
		}
		r.Refused = true
		return nil
	})
}

var errNotAMQP = errors.New("not AMQP")

// Methods of AMQP 0-9-1 by class and number (section 1.3 of its reference).
const (
	amqpStart   = 10<<16 | 10
	amqpStartOK = 10<<16 | 11
	amqpTune    = 10<<16 | 30
	amqpTuneOK  = 10<<16 | 31
	amqpOpen    = 10<<16 | 40
	amqpOpened  = 10<<16 | 41
	amqpClose   = 10<<16 | 50
)

// amqpMethod reads the next method on channel 0.
func (c *Conn) amqpMethod() (method uint32, arguments []byte, err error) {
	for range 20 {
		head := make([]byte, 7)
		if _, err := io.ReadFull(c, head); err != nil {
			return 0, nil, err
		}
		size := binary.BigEndian.Uint32(head[3:])
		if size > mostReply {
			return 0, nil, errNotAMQP
		}
		body := make([]byte, size+1)
		if _, err := io.ReadFull(c, body); err != nil {
			return 0, nil, err
		}
		if body[size] != 0xce {
			return 0, nil, errNotAMQP
		}
		if head[0] == 1 && size >= 4 {
			return binary.BigEndian.Uint32(body), body[4:size], nil
		}
	}
	return 0, nil, errTooLong
}

func (c *Conn) sendAMQP(method uint32, arguments string) error {
	body := string(binary.BigEndian.AppendUint32(nil, method)) + arguments
	_, err := io.WriteString(c, "\x01\x00\x00"+string(binary.BigEndian.AppendUint32(nil,
		uint32(len(body))))+body+"\xce")
	return err
}

func longText(s string) string {
	return string(binary.BigEndian.AppendUint32(nil, uint32(len(s)))) + s
}

// loginAMQP signs in by name and secret, which shows the secret, and opens the
// virtual host that the endpoint names (AMQP 0-9-1 section 2.2.4).
func loginAMQP(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "PLAIN"}
	if !with.Show {
		return shows("PLAIN", nil), nil
	}
	if _, err := io.WriteString(c, "AMQP\x00\x00\x09\x01"); err != nil {
		return l, err
	}
	method, body, err := c.amqpMethod()
	switch {
	case err != nil:
		return l, err
	case method != amqpStart:
		return l, errNotAMQP
	}
	if l.Offered = amqpWays(body); !hasWay(l.Offered, "PLAIN") {
		return notOffered(l.Offered), nil
	}
	with.presenting()
	if err := c.sendAMQP(amqpStartOK,
		amqpProperties+"\x05PLAIN"+longText("\x00"+with.Account+"\x00"+with.Secret)+"\x05en_US"); err != nil {
		return l, err
	}
	host := amqpHost(with.Path)
	for range 10 {
		method, body, err := c.amqpMethod()
		if err != nil {
			return l, err
		}
		switch method {
		case amqpTune:
			if len(body) < 8 {
				return l, errNotAMQP
			}
			err = c.sendAMQP(amqpTuneOK, string(body[:8]))
			if err == nil {
				err = c.sendAMQP(amqpOpen, string([]byte{byte(len(host))})+host+"\x00\x00")
			}
		case amqpOpened:
			l.Outcome = fact.LoginAccepted
			return l, nil
		case amqpClose:
			l.Outcome = fact.LoginRefused
			l.Code, l.Text = amqpReason(body)
			return l, nil
		default:
			return l, errNotAMQP
		}
		if err != nil {
			return l, err
		}
	}
	return l, errTooLong
}

// amqpProperties is what this client says of itself: that a refusal may be told
// before the connection is closed.
var amqpProperties = longText("\x0ccapabilitiesF" + longText("\x1cauthentication_failure_close"+"t\x01"))

// amqpWays is the ways to sign in that a server offers, which stand behind its
// version and its properties.
func amqpWays(body []byte) []string {
	if len(body) < 6 {
		return nil
	}
	rest := body[2:]
	size := binary.BigEndian.Uint32(rest)
	if uint64(size)+8 > uint64(len(rest)) {
		return nil
	}
	rest = rest[4+size:]
	size = binary.BigEndian.Uint32(rest)
	if uint64(size)+4 > uint64(len(rest)) {
		return nil
	}
	return strings.Fields(foreign.Clean(string(rest[4 : 4+size])))
}

// amqpHost is the virtual host of an endpoint ("URI Specification"): "/" where
// it names none.
func amqpHost(path string) string {
	path, _, _ = strings.Cut(path, "?")
	name, ok := strings.CutPrefix(path, "/")
	if !ok || name == "" {
		return "/"
	}
	if plainName, err := url.PathUnescape(name); err == nil {
		name = plainName
	}
	return name[:min(len(name), 255)]
}

// amqpReason is the code and text with which a server closes.
func amqpReason(body []byte) (code, text string) {
	if len(body) < 3 || int(body[2])+3 > len(body) {
		return "", ""
	}
	return strconv.Itoa(int(binary.BigEndian.Uint16(body))), string(body[3 : 3+int(body[2])])
}
