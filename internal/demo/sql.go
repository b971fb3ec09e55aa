package demo

import (
	"crypto/tls"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"os"
	"time"
	"unicode/utf16"
)

// A stand-in for a SQL server that speaks TDS (MS-TDS): it negotiates
// encryption, takes a login, and answers every question with nothing.

// Kinds of its packets, and what it says of encryption.
const (
	sqlBatch, sqlReply, sqlLogin, sqlPrelogin = 0x01, 0x04, 0x10, 0x12
	sqlEncrypts, sqlHasNone, sqlWants         = 1, 2, 3
)

// database serves on a listener that encrypts if it has a certificate.
func database(s Stand) error {
	cert, err := tls.LoadX509KeyPair(s.Cert, s.Key)
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", s.Listen)
	if err != nil {
		return err
	}
	go func() { // ends with the process
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				c.SetDeadline(time.Now().Add(10 * time.Second))
				ServeSQL(c, &tls.Config{Certificates: []tls.Certificate{cert}}, s.admits)
			}()
		}
	}()
	return nil
}

// admits says whether a stand-in lets an account in: a database that knows the
// accounts of a domain alone lets in none, and says why in its log alone.
func (s Stand) admits(account, _, _ string) (number uint32, text string) {
	if s.Kind != "domain database" {
		return 0, ""
	}
	log, err := os.OpenFile(s.Log, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o600)
	if err == nil {
		fmt.Fprintf(log,
			"%s Login failed for user '%.40s'. Reason: An attempt to login using SQL authentication failed. "+
				"Server is configured for Windows authentication only.\n", time.Now().UTC().Format(time.DateTime),
			account)
		log.Close()
	}
	return 18456, "Login failed for user '" + account + "'."
}

// ServeSQL answers one client. A configuration of nil is a server that cannot
// encrypt; one whose MinVersion is set, a server that takes no other sessions.
// The judge of a login says by which error it is refused; 0: it is not.
func ServeSQL(c net.Conn, encryption *tls.Config, judge func(account, secret, database string) (uint32,
	string)) error {
	kind, body, err := readSQL(c)
	if err != nil || kind != sqlPrelogin {
		return fmt.Errorf("a packet of kind %d: %w", kind, err)
	}
	has := byte(sqlHasNone)
	if encryption != nil {
		has = sqlEncrypts
		switch wanted := preloginWants(body); {
		case wanted == sqlHasNone && encryption.MinVersion != 0:
			has = sqlWants
		case wanted == sqlHasNone:
			has = sqlHasNone
		}
	}
	if err := writeSQL(c, sqlReply, []byte{0, 0, 11, 0, 6, 1, 0, 17, 0, 1, 0xff, 16, 0, 0x10, 0, 0, 0,
		has}); err != nil {
		return err
	}
	if has == sqlWants {
		return nil // it closes, for the client has none
	}
	if has == sqlEncrypts {
		config := encryption.Clone()
		config.MaxVersion = tls.VersionTLS12
		secured := tls.Server(&sqlHandshake{Conn: c}, config)
		if err := secured.Handshake(); err != nil {
			return err
		}
		c = secured
	}
	kind, body, err = readSQL(c)
	if err != nil || kind != sqlLogin {
		return fmt.Errorf("a packet of kind %d: %w", kind, err)
	}
	number, text := judge(loginField(body, 1, false), loginField(body, 2, true), loginField(body, 8, false))
	if number != 0 {
		return writeSQL(c, sqlReply, append(sqlError(number, text), sqlDone(2)...))
	}
	if err := writeSQL(c, sqlReply, append(sqlWelcome(), sqlDone(0)...)); err != nil {
		return err
	}
	for {
		if _, _, err := readSQL(c); err != nil {
			return err
		}
		if err := writeSQL(c, sqlReply, sqlDone(0)); err != nil {
			return err
		}
	}
}

// readSQL reads one message.
func readSQL(c io.Reader) (kind byte, body []byte, err error) {
	for {
		var head [8]byte
		if _, err := io.ReadFull(c, head[:]); err != nil {
			return 0, nil, err
		}
		size := int(binary.BigEndian.Uint16(head[2:])) - len(head)
		if size < 0 || len(body)+size > 1<<20 {
			return head[0], nil, fmt.Errorf("a packet of %d bytes", size)
		}
		part := make([]byte, size)
		if _, err := io.ReadFull(c, part); err != nil {
			return 0, nil, err
		}
		if body = append(body, part...); head[1]&1 != 0 {
			return head[0], body, nil
		}
	}
}

func writeSQL(c io.Writer, kind byte, body []byte) error {
	head := []byte{kind, 1, 0, 0, 0, 0, 1, 0}
	binary.BigEndian.PutUint16(head[2:], uint16(len(body)+len(head)))
	_, err := c.Write(append(head, body...))
	return err
}

// preloginWants is what a client says of encryption.
func preloginWants(body []byte) byte {
	for at := 0; at+5 <= len(body) && body[at] != 0xff; at += 5 {
		if from := int(binary.BigEndian.Uint16(body[at+1:])); body[at] == 1 && from < len(body) {
			return body[from]
		}
	}
	return sqlHasNone
}

// sqlHandshake carries a handshake in packets, until the records are of data.
type sqlHandshake struct {
	net.Conn
	left []byte
	raw  bool
}

func (h *sqlHandshake) Read(p []byte) (int, error) {
	if h.raw {
		return h.Conn.Read(p)
	}
	if len(h.left) == 0 {
		first := make([]byte, 1)
		if _, err := io.ReadFull(h.Conn, first); err != nil {
			return 0, err
		}
		if first[0] != sqlPrelogin {
			h.raw = true
			p[0] = first[0]
			return 1, nil
		}
		var err error
		if _, h.left, err = readSQL(io.MultiReader(&oneByte{first}, h.Conn)); err != nil {
			return 0, err
		}
	}
	n := copy(p, h.left)
	h.left = h.left[n:]
	return n, nil
}

// oneByte is a byte that was read already.
type oneByte struct{ left []byte }

func (o *oneByte) Read(p []byte) (int, error) {
	n := copy(p, o.left)
	if o.left = o.left[n:]; n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

func (h *sqlHandshake) Write(p []byte) (int, error) {
	if h.raw || len(p) > 0 && p[0] == 23 {
		return h.Conn.Write(p)
	}
	return len(p), writeSQL(h.Conn, sqlPrelogin, p)
}

// loginField is one text of a login, by its place in the table of them.
func loginField(body []byte, n int, obscured bool) string {
	if len(body) < 40+4*n {
		return ""
	}
	from, size := int(binary.LittleEndian.Uint16(body[36+4*n:])), 2*int(binary.LittleEndian.Uint16(body[38+4*n:]))
	if from+size > len(body) {
		return ""
	}
	var units []uint16
	for at := from; at < from+size; at += 2 {
		low, high := body[at], body[at+1]
		if obscured {
			low, high = low^0xa5, high^0xa5
			low, high = low<<4|low>>4, high<<4|high>>4
		}
		units = append(units, uint16(low)|uint16(high)<<8)
	}
	return string(utf16.Decode(units))
}

// sqlText is text with its length in characters before it, in so many bytes.
func sqlText(text string, width int) []byte {
	units := utf16.Encode([]rune(text))
	b := []byte{byte(len(units)), byte(len(units) >> 8)}[:width]
	for _, u := range units {
		b = binary.LittleEndian.AppendUint16(b, u)
	}
	return b
}

func sqlToken(token byte, body []byte) []byte {
	return append([]byte{token, byte(len(body)), byte(len(body) >> 8)}, body...)
}

// sqlError is an error of state 1 and class 14, as all that refuse a login are.
func sqlError(number uint32, text string) []byte {
	b := binary.LittleEndian.AppendUint32(nil, number)
	b = append(append(b, 1, 14), sqlText(text, 2)...)
	b = append(append(b, sqlText("ledger", 1)...), 0, 1, 0, 0, 0)
	return sqlToken(0xaa, b)
}

// sqlWelcome is the acknowledgement of a login.
func sqlWelcome() []byte {
	b := append([]byte{1, 0x74, 0, 0, 4}, sqlText("ledger", 1)...)
	return sqlToken(0xad, append(b, 16, 0, 0x10, 0))
}

func sqlDone(status byte) []byte { return []byte{0xfd, status, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0} }
