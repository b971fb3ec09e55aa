package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// PostgreSQL's codes for requests before a session (the manual's "Message
// Formats").
const (
	postgresTLS     = 80877103
	postgresVersion = 3 << 16
)

// upgradePostgres sends an SSLRequest; the server says S or N.
func upgradePostgres(c *Conn) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	request := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, 8), postgresTLS)
	_, err := c.Write(request)
	if err == nil {
		var b byte
		if b, err = c.r.ReadByte(); err == nil {
			u.Offered, u.Head = b == 'S', string(rune(b))
			if b != 'S' && b != 'N' {
				err = fmt.Errorf("answered %q", b)
				u.Head = foreign.Clean(string(append([]byte{b}, c.unread()...)))
			}
		}
	}
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

// askPostgres begins a session without naming an account, which no server
// accepts: a running one answers that, and one that starts up or stops says
// so (SQLSTATE 57P03).
func askPostgres(c *Conn, _ Question) fact.Reply {
	body := binary.BigEndian.AppendUint32(nil, postgresVersion)
	body = append(body, 0)
	send := binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))
	return c.ask("postgres", "a session without an account", string(append(send, body...)), func(r *fact.Reply) error {
		kind, message, err := c.postgresMessage()
		if err != nil {
			r.Text = foreign.Clean(string(message))
			return err
		}
		if kind == 'R' && len(message) >= 4 { // it asks who is there, or lets anybody in
			r.Refused = binary.BigEndian.Uint32(message) != 0
			return nil
		}
		fields := postgresFields(message)
		if kind != 'E' || fields['S'] == "" || len(fields['C']) != 5 || fields['M'] == "" {
			return errNotPostgres
		}
		// "No user name specified": it took the question and wants an account.
		// A pool of sessions calls a question without one a breach of protocol.
		if fields['C'] == "28000" || fields['C'] == "08P01" {
			r.Refused = true
			return nil
		}
		r.Code, r.Text = foreign.Clean(fields['C']), foreign.Clean(fields['M'])
		return nil
	})
}

var errNotPostgres = errors.New("not PostgreSQL")

// postgresMessage reads one message: its kind and what it holds.
func (c *Conn) postgresMessage() (kind byte, body []byte, err error) {
	head := make([]byte, 5)
	if _, err := io.ReadFull(c, head); err != nil {
		return 0, head, err
	}
	size := int(binary.BigEndian.Uint32(head[1:])) - 4
	if size < 0 || size > mostReply || !strings.ContainsRune("ERNKSZvTDCI", rune(head[0])) {
		return 0, head, errNotPostgres
	}
	body = make([]byte, size)
	_, err = io.ReadFull(c, body)
	return head[0], body, err
}

// postgresFields splits an ErrorResponse into its fields by their letters.
func postgresFields(body []byte) map[byte]string {
	fields := map[byte]string{}
	for _, each := range strings.Split(string(body), "\x00") {
		if each != "" {
			fields[each[0]] = each[1:]
		}
	}
	return fields
}

// askRedis asks for an echo (PING). An answer that wants an account is well.
func askRedis(c *Conn, _ Question) fact.Reply {
	return c.ask("redis", "PING", "*1\r\n$4\r\n"+"PING"+"\r\n", func(r *fact.Reply) error {
		text, err := c.line()
		r.Text = foreign.Clean(text)
		code, words, _ := strings.Cut(strings.TrimPrefix(r.Text, "-"), " ")
		switch {
		case err != nil:
			return err
		case strings.HasPrefix(text, "-NOAUTH"), strings.HasPrefix(text, "-NOPERM"):
			r.Refused = true
		case strings.HasPrefix(text, "-") && code != "" && code == strings.ToUpper(code) && words != "":
			r.Code, r.Text = code, words
		case text != "+PONG":
			r.Spoke = Recognise([]byte(text))
			return errNotRedis
		default:
			if told := c.redisHolds(); told != "" {
				r.Code, r.Text, _ = strings.Cut(foreign.Clean(told), " ")
			}
		}
		return nil
	})
}

var errNotRedis = errors.New("not Redis")
