package wire

import (
	"errors"
	"io"
	"strconv"

	"uakari/internal/fact"
)

// askMQTT opens a session without an account (MQTT 3.1.1 section 3.1), which
// a server grants or refuses by a code.
func askMQTT(c *Conn, _ Question) fact.Reply {
	body := "\x00\x04MQTT\x04\x02\x00\x0a\x00\x06uakari"
	return c.ask(
		"mqtt",
		"a session without an account",
		"\x10"+string(rune(len(body)))+body,
		func(r *fact.Reply) error {
			head := make([]byte, 4)
			if _, err := io.ReadFull(c, head); err != nil {
				return err
			}
			if head[0] != 0x20 || head[1] != 2 || head[2] > 1 || head[3] > 5 {
				r.Spoke = Recognise(head)
				return errors.New("not MQTT")
			}
			switch head[3] {
			case 0:
				io.WriteString(c, "\xe0\x00") // an orderly end
			case 4, 5:
				r.Refused = true
			default:
				r.Code, r.Text = strconv.Itoa(int(head[3])), "the session is refused"
			}
			return nil
		},
	)
}

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
