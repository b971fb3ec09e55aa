package wire

import (
	"encoding/binary"
	"errors"
	"fmt"

	"uakari/internal/fact"
)

// askKafka asks which requests a broker knows (KIP-35, ApiVersions version 0).
func askKafka(c *Conn, _ Question) fact.Reply {
	const client, id = "uakari", 0x75616b61
	b := binary.BigEndian.AppendUint16(nil, 18)
	b = binary.BigEndian.AppendUint16(b, 0)
	b = binary.BigEndian.AppendUint32(b, id)
	b = append(binary.BigEndian.AppendUint16(b, uint16(len(client))), client...)
	send := append(binary.BigEndian.AppendUint32(nil, uint32(len(b))), b...)
	return c.ask("kafka", "which requests it knows", string(send), func(r *fact.Reply) error {
		head, err := c.r.Peek(10)
		if len(head) < 10 || binary.BigEndian.Uint32(head) < 6 || binary.BigEndian.Uint32(head) > mostTalk ||
			binary.BigEndian.Uint32(head[4:]) != id {
			return errors.Join(err, c.stranger(r))
		}
		if code := binary.BigEndian.Uint16(head[8:]); code != 0 {
			r.Code, r.Text = fmt.Sprint(code), "it does not answer which requests it knows"
		}
		return nil
	})
}
