package wire

import (
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// bson is a document that is being written (bsonspec.org, version 1.1), of the kinds of
// values that signing in needs.
type bson []byte

func (b bson) number(name string, value int32) bson {
	return binary.LittleEndian.AppendUint32(append(append(append(b, 0x10), name...), 0), uint32(value))
}

func (b bson) text(name, value string) bson {
	b = binary.LittleEndian.AppendUint32(append(append(append(b, 0x02), name...), 0), uint32(len(value)+1))
	return append(append(b, value...), 0)
}

func (b bson) bytes(name, value string) bson {
	b = binary.LittleEndian.AppendUint32(append(append(append(b, 0x05), name...), 0), uint32(len(value)))
	return append(append(b, 0), value...)
}

func (b bson) whole() []byte {
	return append(append(binary.LittleEndian.AppendUint32(nil, uint32(len(b)+5)), b...), 0)
}

// mongoMessage is a command as one message (OP_MSG of the wire protocol).
func mongoMessage(id uint32, command bson, database string) []byte {
	const opMsg, head = 2013, 16
	body := append([]byte{0, 0, 0, 0, 0}, command.text("$db", database).whole()...)
	b := binary.LittleEndian.AppendUint32(nil, uint32(len(body)+head))
	b = binary.LittleEndian.AppendUint32(b, id)
	b = binary.LittleEndian.AppendUint32(b, 0)
	return append(binary.LittleEndian.AppendUint32(b, opMsg), body...)
}

var errBSON = errors.New("a document that cannot be read")

// mongoAnswer reads the answer to a message: its values that are numbers, texts or bytes.
func (c *Conn) mongoAnswer(id uint32) (numbers map[string]float64, texts map[string]string, err error) {
	head := make([]byte, 16)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil, nil, err
	}
	size := binary.LittleEndian.Uint32(head)
	const least = 16 + 5 + 5
	if binary.LittleEndian.Uint32(head[8:]) != id || size < least || size > mostReply {
		return nil, nil, errStranger
	}
	rest := make([]byte, size-16)
	if _, err := io.ReadFull(c, rest); err != nil {
		return nil, nil, err
	}
	return readBSON(rest[5:])
}

// readBSON reads a document's own values; those of what lies in it are passed over.
func readBSON(b []byte) (numbers map[string]float64, texts map[string]string, err error) {
	numbers, texts = map[string]float64{}, map[string]string{}
	if len(b) < 5 || int(binary.LittleEndian.Uint32(b)) > len(b) || binary.LittleEndian.Uint32(b) < 5 {
		return nil, nil, errBSON
	}
	for b = b[4:binary.LittleEndian.Uint32(b)]; len(b) > 0 && b[0] != 0; {
		kind := b[0]
		name, rest, ok := bytes.Cut(b[1:], []byte{0})
		long := 0
		if len(rest) >= 4 {
			long = int(int32(binary.LittleEndian.Uint32(rest)))
		}
		size := map[byte]int{0x01: 8, 0x02: 4 + long, 0x03: long, 0x04: long, 0x05: 5 + long, 0x07: 12, 0x08: 1,
			0x09: 8, 0x0a: 0, 0x10: 4, 0x11: 8, 0x12: 8, 0x13: 16}
		n, known := size[kind]
		if !ok || !known || n < 0 || n > len(rest) || kind == 0x02 && long < 1 {
			return nil, nil, errBSON
		}
		switch key := string(name); kind {
		case 0x01:
			numbers[key] = math.Float64frombits(binary.LittleEndian.Uint64(rest))
		case 0x10:
			numbers[key] = float64(long)
		case 0x08:
			numbers[key] = float64(rest[0])
		case 0x02:
			texts[key] = string(rest[4 : n-1])
		case 0x05:
			texts[key] = string(rest[5:n])
		}
		b = rest[n:]
	}
	return numbers, texts, nil
}

// loginMongo signs in by SCRAM-SHA-256, which does not show the secret, in the database of
// the endpoint's path, or in "admin".
func loginMongo(c *Conn, with Credentials) (fact.Login, error) {
	const way = "SCRAM-SHA-256"
	l := fact.Login{Mechanism: way}
	database, _, _ := strings.Cut(strings.Trim(with.Path, "/"), "?")
	database = cmp.Or(database, "admin")
	s := newSASL(way, "mongodb", with)
	say, err := s.next("")
	if err != nil {
		return l, err
	}
	command := bson(nil).number("saslStart", 1).text("mechanism", way).bytes("payload", say)
	with.presenting()
	for id := uint32(7); id < 7+4; id++ {
		if _, err := c.Write(mongoMessage(id, command, database)); err != nil {
			return l, err
		}
		numbers, texts, err := c.mongoAnswer(id)
		switch {
		case err != nil:
			return l, err
		case numbers["ok"] != 1:
			l.Outcome, l.Code, l.Text = fact.LoginRefused, fmt.Sprint(int(numbers["code"])),
				foreign.Clean(texts["errmsg"])
			return l, nil
		case numbers["done"] == 1:
			l.Outcome = fact.LoginAccepted
			return l, nil
		}
		if say, err = s.next(texts["payload"]); err != nil {
			return l, err
		}
		command = bson(nil).number("saslContinue", 1).number("conversationId",
			int32(numbers["conversationId"])).bytes("payload", say)
	}
	return l, errTooLong
}

// askMongo says hello in the database "admin" (OP_MSG of the wire protocol).
func askMongo(c *Conn, _ Question) fact.Reply {
	document := func(elements []byte) []byte {
		return append(append(binary.LittleEndian.AppendUint32(nil, uint32(len(elements)+5)), elements...), 0)
	}
	elements := append([]byte("\x10hello\x00\x01\x00\x00\x00\x02$db\x00"), "\x06\x00\x00\x00admin\x00"...)
	body := append([]byte{0, 0, 0, 0, 0}, document(elements)...)
	send := binary.LittleEndian.AppendUint32(nil, uint32(len(body)+16))
	send = binary.LittleEndian.AppendUint32(send, 7)
	send = binary.LittleEndian.AppendUint32(send, 0)
	send = append(binary.LittleEndian.AppendUint32(send, 2013), body...)
	return c.ask("mongodb", "hello", string(send), func(r *fact.Reply) error {
		head := make([]byte, 16)
		if _, err := io.ReadFull(c, head); err != nil {
			return err
		}
		size := binary.LittleEndian.Uint32(head)
		if binary.LittleEndian.Uint32(head[8:]) != 7 || size < 26 || size > mostReply {
			r.Text, r.Spoke = foreign.Clean(string(head)), Recognise(head)
			return errStranger
		}
		rest := make([]byte, size-16)
		if _, err := io.ReadFull(c, rest); err != nil {
			return err
		}
		if at := bytes.Index(rest, []byte("\x02errmsg\x00")); at >= 0 && at+12 < len(rest) {
			text, _, _ := bytes.Cut(rest[at+12:], []byte{0})
			r.Code, r.Text = "error", foreign.Clean(string(text))
		} else if bytes.Contains(rest, []byte("\x08isWritablePrimary\x00\x00")) &&
			bytes.Contains(rest, []byte("\x08secondary\x00\x00")) {
			r.Text = "neither the first of its set nor a copy"
		}
		return nil
	})
}
