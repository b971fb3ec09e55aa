package wire

import (
	"encoding/binary"
	"io"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// upgradeRDP agrees on what protects a session (MS-RDPBCGR section 2.2.1.1):
// TLS, alone or with a sign-in of its own (CredSSP).
func upgradeRDP(c *Conn) fact.Upgrade {
	u := fact.Upgrade{}
	_, err := io.WriteString(c, "\x03\x00\x00\x13\x0e\xe0\x00\x00\x00\x00\x00\x01\x00\x08\x00\x03\x00\x00\x00")
	if err != nil {
		u.Ending = ending(err)
		return u
	}
	head := make([]byte, 4)
	if _, err = io.ReadFull(c, head); err != nil {
		u.Ending = ending(err)
		return u
	}
	size := int(binary.BigEndian.Uint16(head[2:]))
	if head[0] != 3 || size < 11 || size > 512 {
		u.Ending, u.Head = fact.Malformed, foreign.Clean(string(head))
		return u
	}
	rest := make([]byte, size-4)
	if _, err = io.ReadFull(c, rest); err != nil || rest[1] != 0xd0 {
		u.Ending = cmpEnding(err)
		return u
	}
	u.Ending = fact.Done
	if len(rest) >= 15 {
		chosen := binary.LittleEndian.Uint32(rest[11:])
		u.Offered = rest[7] == 2 && chosen != 0
		if rest[7] == 3 {
			u.Head = rdpFailures[chosen]
		}
	}
	return u
}

// cmpEnding is how a step ended that came to an end: by its error, or by what
// is no answer of the protocol.
func cmpEnding(err error) fact.Ending {
	if err == nil {
		return fact.Malformed
	}
	return ending(err)
}

// rdpFailures is why a server agrees to none (MS-RDPBCGR section 2.2.1.2.2).
var rdpFailures = map[uint32]string{
	1: "it wants TLS", 2: "it allows no TLS", 3: "it has no certificate for TLS",
	4: "its flags are inconsistent", 5: "it wants a sign-in before the session",
	6: "it wants TLS with a certificate of the client",
}

// askAgreed is the question of a protocol in which the upgrade was all that is
// said without an account.
func askAgreed(protocol string) func(*Conn, Question) fact.Reply {
	return func(*Conn, Question) fact.Reply {
		return fact.Reply{Ending: fact.Done, Protocol: protocol, Asked: "what protects the session"}
	}
}
