//go:build linux

package linux

import (
	"encoding/binary"
	"errors"

	"uakari/internal/foreign"
)

// The kinds of fields of Protocol Buffers (protobuf.dev, "Encoding"). The library of
// these reads the whole program at every start, and only this is wanted of it.
const (
	kindNumber  = 0
	kindFixed64 = 1
	kindBytes   = 2
	kindFixed32 = 5
	mostNumber  = 1<<29 - 1
)

// message is the fields of one message of Protocol Buffers, by their numbers, in the order
// in which they came.
type message map[int][]field

// field is one value: a number, or bytes.
type field struct {
	number uint64
	bytes  []byte
}

var errMessage = errors.New("a message that cannot be read")

func parseMessage(b []byte) (message, error) {
	m := message{}
	for len(b) > 0 {
		tag, n := binary.Uvarint(b)
		if n <= 0 || tag>>3 == 0 || tag>>3 > mostNumber {
			return nil, errMessage
		}
		b = b[n:]
		var f field
		switch tag & 7 {
		case kindNumber:
			if f.number, n = binary.Uvarint(b); n <= 0 {
				return nil, errMessage
			}
		case kindBytes:
			size, head := binary.Uvarint(b)
			if head <= 0 || size > uint64(len(b)-head) {
				return nil, errMessage
			}
			n = head + int(size)
			f.bytes = b[head:n]
		case kindFixed64:
			n = 8
		case kindFixed32:
			n = 4
		default: // groups, which nobody writes any more
			return nil, errMessage
		}
		if n > len(b) {
			return nil, errMessage
		}
		number := int(tag >> 3)
		m[number] = append(m[number], f)
		b = b[n:]
	}
	return m, nil
}

// text, count and list are a field's last value as text or as a number, and all of them.
func (m message) text(number int) string {
	if list := m[number]; len(list) > 0 {
		return foreign.Clean(string(list[len(list)-1].bytes))
	}
	return ""
}

func (m message) count(number int) int64 {
	if list := m[number]; len(list) > 0 {
		return int64(list[len(list)-1].number)
	}
	return 0
}

// in is the message that a field is; an empty one if it is none.
func (m message) in(number int) message {
	if all := m.all(number); len(all) > 0 {
		return all[len(all)-1]
	}
	return message{}
}

// all is every message of a field that is given more than once.
func (m message) all(number int) []message {
	var list []message
	for _, f := range m[number] {
		if each, err := parseMessage(f.bytes); err == nil {
			list = append(list, each)
		}
	}
	return list
}

// asking is a message of one text, in a field.
func asking(number int, text string) []byte {
	b := binary.AppendUvarint(nil, uint64(number)<<3|kindBytes)
	return append(binary.AppendUvarint(b, uint64(len(text))), text...)
}

// with adds a field that holds a number.
func with(message []byte, number int, value uint64) []byte {
	return binary.AppendUvarint(binary.AppendUvarint(message, uint64(number)<<3|kindNumber), value)
}
