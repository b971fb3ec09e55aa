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

// loginMQTT opens a session by name and secret, which shows the secret (MQTT
// 3.1.1 section 3.1).
func loginMQTT(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "CONNECT"}
	if !with.Show {
		return shows("CONNECT", nil), nil
	}
	text := func(s string) string { return string([]byte{byte(len(s) >> 8), byte(len(s))}) + s }
	const named, secret, clean = 1 << 7, 1 << 6, 1 << 1
	body := text(
		"MQTT",
	) + string(
		[]byte{4, named | secret | clean, 0, 10},
	) + text(
		"uakari",
	) + text(
		with.Account,
	) + text(
		with.Secret,
	)
	head := []byte{0x10}
	for left := len(body); ; left >>= 7 {
		if left < 0x80 {
			head = append(head, byte(left))
			break
		}
		head = append(head, byte(left)|0x80)
	}
	with.presenting()
	if _, err := io.WriteString(c, string(head)+body); err != nil {
		return l, err
	}
	answer := make([]byte, 4)
	if _, err := io.ReadFull(c, answer); err != nil {
		return l, err
	}
	if answer[0] != 0x20 || answer[1] != 2 {
		return l, errors.New("not MQTT")
	}
	if l.Outcome = outcome(answer[3] == 0); answer[3] != 0 {
		l.Code, l.Text = strconv.Itoa(int(answer[3])), mqttRefusals[answer[3]]
		return l, nil
	}
	_, err := io.WriteString(c, "\xe0\x00") // an orderly end
	return l, err
}

// mqttRefusals is what the codes of a refused session mean (section 3.2.2.3).
var mqttRefusals = map[byte]string{
	1: "its version is not spoken", 2: "its identifier is not taken", 3: "the server is unavailable",
	4: "the name or secret is malformed or wrong", 5: "it is not authorised",
}

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

func hasWay(ways []string, want string) bool {
	for _, w := range ways {
		if strings.EqualFold(w, want) {
			return true
		}
	}
	return false
}

// loginFTP signs in by name and secret, which shows the secret (RFC 959
// section 5.4).
func loginFTP(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "USER and PASS"}
	if !with.Show {
		return shows("USER and PASS", nil), nil
	}
	if strings.ContainsAny(with.Account+with.Secret, "\r\n") {
		return l, errors.New("the account or secret has a line's end in it")
	}
	with.presenting()
	code := 0
	for _, line := range []string{"USER " + with.Account, "PASS " + with.Secret} {
		if _, err := fmt.Fprintf(c, "%s\r\n", line); err != nil {
			return l, err
		}
		var err error
		if code, l.Text, err = c.smtpReply(); err != nil {
			return l, err
		}
		if code != 331 {
			break
		}
	}
	switch {
	case code == 230:
		l.Outcome, l.Text = fact.LoginAccepted, ""
	case code == 332:
		l.Outcome, l.Code = fact.LoginMore, "332"
	case code >= 400:
		l.Outcome, l.Code = fact.LoginRefused, strconv.Itoa(code)
		l.Text = strings.TrimPrefix(l.Text, l.Code+" ")
	default:
		return l, errNotFTP
	}
	return l, nil
}

// loginPOP3 signs in by the best way that the server offers (RFC 5034), or by
// name and secret (RFC 1939 section 7), which shows the secret.
func loginPOP3(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "USER and PASS"}
	offers, err := c.popOffers()
	if err != nil {
		return l, err
	}
	l.Offered = offers
	way, _ := saslWay(offers, with.Show)
	if way == "" && !with.Show {
		return shows("USER and PASS", offers), nil
	}
	if strings.ContainsAny(with.Account+with.Secret, "\r\n") {
		return l, errors.New("the account or secret has a line's end in it")
	}
	with.presenting()
	if way != "" {
		l.Mechanism = way
		s := newSASL(way, "pop", with)
		_, err := fmt.Fprintf(c, "AUTH %s\r\n", way)
		for range mostChallenges {
			var line string
			if err == nil {
				line, err = c.line()
			}
			if err != nil {
				return l, err
			}
			challenge, more := strings.CutPrefix(line, "+ ")
			if !more && line != "+" {
				return popOutcome(l, line)
			}
			err = s.answerLine(c, challenge)
		}
		return l, errSASL
	}
	line := ""
	for _, say := range []string{"USER " + with.Account, "PASS " + with.Secret} {
		if _, err := fmt.Fprintf(c, "%s\r\n", say); err != nil {
			return l, err
		}
		if line, err = c.line(); err != nil {
			return l, err
		}
		if !strings.HasPrefix(line, "+OK") {
			break
		}
	}
	return popOutcome(l, line)
}

// popOffers is the ways to sign in that a server lists (RFC 2449).
func (c *Conn) popOffers() (ways []string, err error) {
	if _, err := io.WriteString(c, "CAPA\r\n"); err != nil {
		return nil, err
	}
	for range 100 {
		line, err := c.line()
		switch {
		case err != nil:
			return nil, err
		case line == "." || strings.HasPrefix(line, "-ERR"):
			return ways, nil
		}
		if rest, ok := strings.CutPrefix(line, "SASL "); ok {
			ways = strings.Fields(foreign.Clean(rest))
		}
	}
	return nil, errTooLong
}

// popOutcome reads the last line of a try, with its code if it has one (RFC
// 3206).
func popOutcome(l fact.Login, line string) (fact.Login, error) {
	rest, refused := strings.CutPrefix(line, "-ERR")
	if !refused && !strings.HasPrefix(line, "+OK") {
		return l, errNotPOP3
	}
	if l.Outcome = outcome(!refused); refused {
		l.Code, l.Text = "-ERR", strings.TrimSpace(rest)
		if inside, text, ok := strings.Cut(strings.TrimPrefix(l.Text, "["), "]"); ok &&
			strings.HasPrefix(l.Text, "[") {
			l.Code, l.Text = inside, strings.TrimSpace(text)
		}
	}
	return l, nil
}
