package wire

import (
	"cmp"
	"encoding/binary"
	"errors"
	"io"
	"strconv"
	"strings"

	"uakari/internal/fact"
)

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
