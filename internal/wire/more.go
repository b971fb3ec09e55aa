package wire

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// greetPOP3 reads "+OK …"; "-ERR" is a refusal (RFC 1939 section 4).
func greetPOP3(c *Conn) fact.Greeting {
	g := c.firstLine("pop3", func(s string) bool {
		return strings.HasPrefix(s, "+OK") ||
			strings.HasPrefix(s, "-ERR")
	})
	if g.Protocol == "pop3" && strings.HasPrefix(g.Head, "-ERR") {
		g.Refusal, g.Code = g.Head, "-ERR"
	}
	return g
}

// upgradePOP3 asks for TLS (RFC 2595 section 4).
func upgradePOP3(c *Conn) fact.Upgrade {
	return c.askUpgrade("STLS\r\n", func(answer string) bool { return strings.HasPrefix(answer, "+OK") })
}

// askUpgrade sends a line that asks for TLS and reads a line in answer.
func (c *Conn) askUpgrade(ask string, good func(string) bool) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	_, err := io.WriteString(c, ask)
	if err == nil {
		var line string
		line, err = c.line()
		u.Offered, u.Head = good(line), foreign.Clean(line)
	}
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

// askPOP3 asks what the server can do (RFC 2449 section 5); any answer will
// do, since old servers know no such question.
func askPOP3(c *Conn, _ Question) fact.Reply {
	return c.ask("pop3", "CAPA", "CAPA\r\n", func(r *fact.Reply) error {
		text, err := c.line()
		r.Text = foreign.Clean(text)
		if err == nil && !strings.HasPrefix(text, "+OK") && !strings.HasPrefix(text, "-ERR") {
			return errNotPOP3
		}
		return err
	})
}

var errNotPOP3 = errors.New("not POP3")

// greetFTP reads "220 …"; 4xx and 5xx are refusals (RFC 959 section 5.4). It
// is a greeting as that of mail servers is.
func greetFTP(c *Conn) fact.Greeting {
	g := greetSMTP(c)
	if g.Protocol == "smtp" {
		g.Protocol = "ftp"
	}
	return g
}

// upgradeFTP asks for TLS (RFC 4217 section 4).
func upgradeFTP(c *Conn) fact.Upgrade {
	return c.askUpgrade("AUTH TLS\r\n", func(answer string) bool { return strings.HasPrefix(answer, "234") })
}

// askFTP asks for nothing (RFC 959 section 4.1.3). Servers that want an
// account first say so.
func askFTP(c *Conn, _ Question) fact.Reply {
	return c.ask("ftp", "NOOP", "NOOP\r\n", func(r *fact.Reply) error {
		code, text, err := c.smtpReply()
		if err == nil && (code < 100 || code > 599) {
			err = errNotFTP
		}
		r.Status, r.Text, r.Refused = code, foreign.Clean(text), code == 530
		if code >= 400 && code != 530 {
			r.Code = strconv.Itoa(code)
		}
		return err
	})
}

var errNotFTP = errors.New("not FTP")

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

// dnsCodes is what a server says that does not answer as it should (RFC 1035
// section 4.1.1).
var dnsCodes = map[byte]string{1: "FORMERR", 2: "SERVFAIL", 3: "NXDOMAIN", 4: "NOTIMP", 5: "REFUSED", 9: "NOTAUTH"}

// dnsQuestion is the name that the endpoint's path asks for or, where it has
// none, the root without recursion: a server answers that from itself, and any
// answer will do, since not every server answers for others.
func dnsQuestion(path string) (asked, question string) {
	name := strings.Trim(path, "/.")
	if name == "" || len(name) > 253 {
		return "who answers for the root", "\x75\x61\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\x01"
	}
	question = "\x75\x61\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00"
	for label := range strings.SplitSeq(name, ".") {
		label = label[:min(len(label), 63)]
		question += string(rune(len(label))) + label
	}
	return name, question + "\x00\x00\x01\x00\x01"
}

// askDNS asks a server. Over TCP a message's length comes before it (RFC
// 7766).
func askDNS(c *Conn, q Question) fact.Reply {
	what, question := dnsQuestion(q.Path)
	send := question
	if !q.Datagram {
		send = string([]byte{0, byte(len(question))}) + question
	}
	return c.ask("dns", what, send, func(r *fact.Reply) error {
		message, err := c.dnsMessage(q.Datagram)
		if err != nil {
			r.Spoke = Recognise(message)
			return err
		}
		// The same number and, unless there is no room for it, the same question;
		// the bit that says that it is an answer (RFC 1035 section 4.1.1).
		asked := binary.BigEndian.Uint16(message[4:])
		if string(message[:2]) != question[:2] || message[2]&0x80 == 0 || asked > 1 ||
			asked == 1 && !strings.HasPrefix(string(message[12:]), question[12:]) {
			r.Spoke = Recognise(message)
			return errNotDNS
		}
		if code := message[3] & 15; code != 0 {
			r.Vague = true
			r.Text = "it says " + dnsCodes[code] + " about the root, as servers of other names may; a path asks for a name"
			if strings.Trim(q.Path, "/.") != "" {
				r.Code, r.Text = cmp.Or(dnsCodes[code], strconv.Itoa(int(code))), "asked for "+what
			}
		}
		return nil
	})
}

var errNotDNS = errors.New("not DNS")

// dnsMessage reads one message.
func (c *Conn) dnsMessage(datagram bool) ([]byte, error) {
	const head = 12
	if datagram {
		b := make([]byte, mostLine)
		n, err := c.Read(b)
		if err == nil && n < head {
			err = errNotDNS
		}
		return b[:n], err
	}
	size := make([]byte, 2)
	if _, err := io.ReadFull(c, size); err != nil {
		return size, err
	}
	b := make([]byte, binary.BigEndian.Uint16(size))
	if len(b) < head {
		return size, errNotDNS
	}
	_, err := io.ReadFull(c, b)
	return b, err
}
