package wire

import (
	"encoding/binary"
	"fmt"
	"io"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Packets of TFTP (RFC 1350 section 5).
const (
	tftpData  = 3
	tftpError = 5

	tftpNotFound = 1
	tftpDenied   = 2
)

// askTFTP asks for the file of the endpoint's path, or for one that nobody has:
// that it is not there is an answer too. Of a file the first block is enough, and
// the server is told so.
func askTFTP(c *Conn, q Question) fact.Reply {
	file, named := strings.CutPrefix(q.Path, "/")
	if named = named && file != ""; !named {
		file = "uakari-asks-for-nothing"
	}
	return c.ask("tftp", "the file "+foreign.Clean(file), "\x00\x01"+file+"\x00octet\x00", func(r *fact.Reply) error {
		head := c.unread()
		if len(head) < 4 || head[0] != 0 {
			return c.stranger(r)
		}
		switch code := binary.BigEndian.Uint16(head[2:]); head[1] {
		case tftpData:
			_, err := io.WriteString(c, "\x00\x05\x00\x00it is there\x00")
			return err
		case tftpError:
			text, _, _ := strings.Cut(string(head[4:]), "\x00")
			if named || code != tftpNotFound && code != tftpDenied {
				r.Code, r.Text = fmt.Sprint(code), foreign.Clean(text)
			}
			return nil
		}
		return c.stranger(r)
	})
}
