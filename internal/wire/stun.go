package wire

import (
	"encoding/binary"
	"fmt"

	"uakari/internal/fact"
)

// askSTUN asks by which address the server sees this client (RFC 8489
// section 2).
func askSTUN(c *Conn, _ Question) fact.Reply {
	const cookie, transaction = "\x21\x12\xa4\x42", "uakari-stun1"
	return c.ask("stun", "the address it sees", "\x00\x01\x00\x00"+cookie+transaction, func(r *fact.Reply) error {
		head := c.unread()
		if len(head) < 20 || string(head[4:20]) != cookie+transaction {
			return c.stranger(r)
		}
		if kind := binary.BigEndian.Uint16(head); kind != 0x0101 {
			r.Code = fmt.Sprintf("%#04x", kind)
		}
		return nil
	})
}
