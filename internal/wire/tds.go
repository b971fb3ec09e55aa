package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// The Tabular Data Stream, version 7 (MS-TDS): packets of a kind, the
// negotiation before a login, and the login itself.
const (
	tdsReply    = 0x04
	tdsLogin    = 0x10
	tdsPrelogin = 0x12

	tdsHead  = 8       // bytes before what a packet holds (section 2.2.3.1)
	tdsLast  = 1       // its status: the message ends with it
	mostTDS  = 1 << 15 // bytes of one packet
	tdsWidth = 4096    // of those that are sent
)

// What both sides say of encryption (section 2.2.6.5).
const (
	tdsOff = iota // the login alone
	tdsOn
	tdsNone
	tdsRequired
)

var errNotTDS = errors.New("not TDS")

// tdsMessage reads one message, of any number of packets.
func (c *Conn) tdsMessage() (kind byte, body []byte, err error) {
	for len(body) < mostReply {
		var head [tdsHead]byte
		if _, err := io.ReadFull(c, head[:]); err != nil {
			return 0, body, err
		}
		size := int(binary.BigEndian.Uint16(head[2:])) - tdsHead
		if head[0] != tdsReply && head[0] != tdsPrelogin || size < 0 || size > mostTDS {
			return head[0], append(body, head[:]...), errNotTDS
		}
		part := make([]byte, size)
		if _, err := io.ReadFull(c, part); err != nil {
			return 0, body, err
		}
		body = append(body, part...)
		if head[1]&tdsLast != 0 {
			return head[0], body, nil
		}
	}
	return 0, body, errTooLong
}

// tdsPacket is one packet, which is a whole message.
func tdsPacket(kind byte, body []byte) []byte {
	head := []byte{kind, tdsLast, 0, 0, 0, 0, 1, 0}
	binary.BigEndian.PutUint16(head[2:], uint16(len(body)+tdsHead))
	return append(head, body...)
}

// prelogin is the question before a login (section 2.2.6.5): a version, what
// this side wants of encryption, and no instance.
func prelogin(encryption byte) []byte {
	const table = 5*3 + 1
	body := []byte{
		0, 0, table, 0, 6, // version
		1, 0, table + 6, 0, 1, // encryption
		2, 0, table + 7, 0, 1, // instance
		0xff,
		16, 0, 0, 0, 0, 0,
		encryption,
		0,
	}
	return tdsPacket(tdsPrelogin, body)
}

// preloginAnswer is a server's version, and what it says of encryption.
func preloginAnswer(body []byte) (version string, encryption byte, ok bool) {
	for at := 0; at+5 <= len(body) && body[at] != 0xff; at += 5 {
		from, size := int(binary.BigEndian.Uint16(body[at+1:])), int(binary.BigEndian.Uint16(body[at+3:]))
		if from+size > len(body) {
			return "", 0, false
		}
		switch value := body[from : from+size]; {
		case body[at] == 0 && size >= 4:
			version = fmt.Sprintf("%d.%d.%d", value[0], value[1], binary.BigEndian.Uint16(value[2:]))
		case body[at] == 1 && size == 1:
			encryption, ok = value[0], true
		}
	}
	return version, encryption, ok
}

// askPrelogin says what this side wants of encryption, and hears the other's.
func (c *Conn) askPrelogin(want byte) (version string, encryption byte, err error) {
	if _, err := c.Write(prelogin(want)); err != nil {
		return "", 0, err
	}
	_, body, err := c.tdsMessage()
	if err != nil {
		return "", 0, err
	}
	version, encryption, ok := preloginAnswer(body)
	if !ok {
		return "", 0, errNotTDS
	}
	return version, encryption, nil
}

// upgradeTDS asks for encryption of all of the session. The handshake goes in
// packets of the negotiation (section 2.2.6.5).
func upgradeTDS(c *Conn) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	version, encryption, err := c.askPrelogin(tdsOn)
	if err == nil {
		u.Offered, u.Head = encryption == tdsOn || encryption == tdsRequired, "version "+version
		if u.Offered {
			c.wrapped()
		}
	}
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

// wrapped makes a handshake go in packets, as both sides of TDS 7 do it.
func (c *Conn) wrapped() {
	under := NewConn(c.Conn)
	under.r = c.r
	c.Conn, c.Old = &tdsWrapping{Conn: c.Conn, from: under}, true
	c.r = NewConn(c.Conn).r
}

// tdsWrapping puts the records of a handshake into packets, and takes them out
// of them. Records of data go as they are: so it is once the session is secure.
type tdsWrapping struct {
	net.Conn
	from *Conn
	left []byte // of the packet that was read last
}

// recordOfData is the kind of record that begins what is no handshake (RFC
// 5246 section 6.2.1).
const recordOfData = 23

func (w *tdsWrapping) Write(p []byte) (int, error) {
	if len(p) > 0 && p[0] == recordOfData {
		return w.Conn.Write(p)
	}
	_, err := w.Conn.Write(tdsPacket(tdsPrelogin, p))
	return len(p), err
}

func (w *tdsWrapping) Read(p []byte) (int, error) {
	if len(w.left) == 0 {
		head, err := w.from.r.Peek(1)
		if err != nil {
			return 0, err
		}
		if head[0] != tdsPrelogin && head[0] != tdsReply {
			return w.from.Read(p)
		}
		if _, w.left, err = w.from.tdsMessage(); err != nil {
			return 0, err
		}
	}
	n := copy(p, w.left)
	w.left = w.left[n:]
	return n, nil
}

// askTDS negotiates without encryption, unless the session is encrypted
// already: then it was negotiated, and all else wants an account.
func askTDS(c *Conn, q Question) fact.Reply {
	if q.Agreed {
		return fact.Reply{Ending: fact.Done, Protocol: "tds", Asked: "the negotiation before a login", Refused: true}
	}
	return c.ask("tds", "the negotiation before a login", string(prelogin(tdsNone)), func(r *fact.Reply) error {
		kind, body, err := c.tdsMessage()
		if err != nil {
			r.Spoke = Recognise(body)
			return err
		}
		_, encryption, ok := preloginAnswer(body)
		if kind != tdsReply || !ok {
			return errNotTDS
		}
		if r.Refused = true; encryption == tdsOn || encryption == tdsRequired {
			r.Refused, r.Code, r.Text = false, "encryption", "it takes encrypted sessions alone"
		}
		return nil
	})
}

// utf16le is text as the protocol has it.
func utf16le(text string) []byte {
	var b []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		b = binary.LittleEndian.AppendUint16(b, unit)
	}
	return b
}

// login7 is a login with a name and a secret (section 2.2.6.4).
func login7(with Credentials, database string) []byte {
	const fixed = 94
	head := make([]byte, fixed)
	binary.LittleEndian.PutUint32(head[4:], 0x74000004) // version 7.4
	binary.LittleEndian.PutUint32(head[8:], tdsWidth)
	binary.LittleEndian.PutUint32(head[12:], 7)
	head[24], head[25] = 0xe0, 0x03 // as ODBC's clients: a message at login, a failing database is fatal
	secret := utf16le(with.Secret)
	for i, b := range secret { // obscured, no more (section 2.2.6.4)
		secret[i] = (b<<4 | b>>4) ^ 0xa5
	}
	var values []byte
	for i, value := range [][]byte{
		utf16le("uakari"), utf16le(with.Account), secret, utf16le("uakari"), utf16le(with.Host), nil,
		utf16le("uakari"),
		nil, utf16le(database),
	} {
		binary.LittleEndian.PutUint16(head[36+4*i:], uint16(fixed+len(values)))
		binary.LittleEndian.PutUint16(head[38+4*i:], uint16(len(value)/2))
		values = append(values, value...)
	}
	for _, at := range []int{78, 82, 86} { // integrated sign-in, a file to attach, a new secret: none
		binary.LittleEndian.PutUint16(head[at:], uint16(fixed+len(values)))
	}
	body := append(head, values...)
	binary.LittleEndian.PutUint32(body, uint32(len(body)))
	return tdsPacket(tdsLogin, body)
}

// loginTDS signs in by a name and its secret, which shows the secret.
func loginTDS(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "name and secret"}
	if !with.Show {
		return shows("with a name and its secret", nil), nil
	}
	if !with.Agreed {
		if _, encryption, err := c.askPrelogin(tdsNone); err != nil {
			return l, err
		} else if encryption == tdsOn || encryption == tdsRequired {
			l.Outcome, l.Code, l.Text = fact.LoginRefused, "encryption", "it takes encrypted sessions alone"
			return l, nil
		}
	}
	const mostName = 128
	if len(with.Account) > mostName || len(with.Secret) > mostName {
		return l, errors.New("the account or secret is longer than the protocol can carry")
	}
	with.presenting()
	if _, err := c.Write(login7(with, databaseOf(with.Path, ""))); err != nil {
		return l, err
	}
	_, body, err := c.tdsMessage()
	if err != nil {
		return l, err
	}
	return tdsOutcome(l, body)
}

// tdsOutcome reads the tokens of an answer to a login (section 2.2.7): the
// first error tells why, and an acknowledgement that it is open.
func tdsOutcome(l fact.Login, body []byte) (fact.Login, error) {
	for len(body) >= 3 {
		token, size := body[0], int(binary.LittleEndian.Uint16(body[1:]))
		if token == 0xfd || token == 0xfe || token == 0xff { // done, which has no length
			break
		}
		if size+3 > len(body) {
			return l, errNotTDS
		}
		value := body[3 : 3+size]
		body = body[3+size:]
		switch {
		case token == 0xad:
			l.Outcome = fact.LoginAccepted
		case token == 0xaa && size >= 8 && l.Code == "":
			length := int(binary.LittleEndian.Uint16(value[6:]))
			l.Code = strconv.FormatUint(uint64(binary.LittleEndian.Uint32(value)), 10)
			l.Text = fmt.Sprintf("%s (state %d, class %d)", tdsText(value[8:], length), value[4], value[5])
		case token == 0xaa, token == 0xab, token == 0xe3, token == 0xae, token == 0xed:
		default:
			return l, errNotTDS
		}
	}
	switch {
	case l.Outcome == fact.LoginAccepted && l.Code != "" || l.Outcome == "" && l.Code != "":
		l.Outcome = fact.LoginRefused
	case l.Outcome == "":
		return l, errNotTDS
	}
	return l, nil
}

// tdsText is text of so many characters.
func tdsText(b []byte, length int) string {
	var units []uint16
	for i := 0; i < length && 2*i+1 < len(b); i++ {
		units = append(units, binary.LittleEndian.Uint16(b[2*i:]))
	}
	return foreign.Clean(string(utf16.Decode(units)))
}

// databaseOf is the database that an endpoint's path names.
func databaseOf(path, otherwise string) string {
	name, _, _ := strings.Cut(strings.Trim(path, "/"), "?")
	if name == "" {
		return otherwise
	}
	return name
}
