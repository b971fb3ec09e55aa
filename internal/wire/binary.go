package wire

import (
	"bytes"
	"encoding/asn1"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Protocols of binary messages in which one question shows all.

// askSOCKS offers to sign in with nothing, or with a name and a secret (RFC
// 1928 section 3). A proxy that wants the second wants an account first.
func askSOCKS(c *Conn, _ Question) fact.Reply {
	return c.ask("socks5", "which way to sign in", "\x05\x02\x00\x02", func(r *fact.Reply) error {
		head, err := c.r.Peek(2)
		if len(head) < 2 || head[0] != 5 {
			return errors.Join(err, c.stranger(r))
		}
		switch head[1] {
		case 0:
		case 2:
			r.Refused = true
		case 0xff:
			r.Code, r.Text = "no way", "none of the ways to sign in that clients offer"
		default:
			return c.stranger(r)
		}
		c.r.Discard(2)
		return nil
	})
}

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

// greetVNC reads the version of a screen's server (RFC 6143 section 7.1.1).
func greetVNC(c *Conn) fact.Greeting {
	return c.firstLine("vnc", func(s string) bool { return strings.HasPrefix(s, "RFB ") })
}

// askVNC says the version that both know and reads how to sign in; none of the
// ways means that the server gives a reason instead (RFC 6143 section 7.1.2).
func askVNC(c *Conn, _ Question) fact.Reply {
	return c.ask("vnc", "how to sign in", "RFB 003.008\n", func(r *fact.Reply) error {
		count, err := c.r.ReadByte()
		if err != nil {
			return err
		}
		if count > 0 {
			ways := make([]byte, count)
			_, err := io.ReadFull(c, ways)
			r.Refused = !bytes.Contains(ways, []byte{vncNone})
			for _, way := range ways {
				r.Ways = append(r.Ways, fmt.Sprint(way))
			}
			return err
		}
		r.Code = "refused"
		r.Text, err = c.vncReason()
		return err
	})
}

// engineQuestion is the discovery of an engine, which no secret is needed for
// (RFC 3414 section 4): an SNMPv3 message with an empty engine.
const engineQuestion = "\x30\x3e\x02\x01\x03\x30\x11\x02\x04\x75\x61\x6b\x61\x02\x03\x00\xff\xe3\x04\x01\x04\x02\x01\x03\x04\x10\x30\x0e\x04\x00\x02\x01\x00\x02\x01\x00\x04\x00\x04\x00\x04\x00" +
	"\x30\x14\x04\x00\x04\x00\xa0\x0e\x02\x04\x75\x61\x6b\x61\x02\x01\x00\x02\x01\x00\x30\x00"

// askSNMP discovers the engine of an agent. It answers with a report, whatever
// accounts it knows.
func askSNMP(c *Conn, _ Question) fact.Reply {
	return c.ask("snmp", "its engine", engineQuestion, func(r *fact.Reply) error {
		head := c.unread()
		var m snmpMessage
		if _, err := asn1.Unmarshal(head, &m); err != nil || m.Version != 3 || m.Header.ID != snmpID ||
			m.Data.Class != asn1.ClassUniversal || m.Data.Tag != asn1.TagSequence {
			r.Spoke, r.Text = Recognise(head), foreign.Clean(string(head[:min(len(head), mostHead)]))
			return errStranger
		}
		var scoped struct {
			Engine, Context []byte
			PDU             asn1.RawValue
		}
		if _, err := asn1.Unmarshal(m.Data.FullBytes, &scoped); err != nil ||
			scoped.PDU.Class != asn1.ClassContextSpecific ||
			scoped.PDU.Tag != snmpResponse && scoped.PDU.Tag != snmpReport || len(scoped.Engine) == 0 {
			return errStranger // our own question has no engine, and is a request
		}
		return nil
	})
}

// snmpMessage is a message of version 3 (RFC 3412 section 6).
type snmpMessage struct {
	Version int
	Header  struct {
		ID, MaxSize int
		Flags       []byte
		Model       int
	}
	Security []byte
	Data     asn1.RawValue
}

const (
	snmpID = 0x75616b61 // of engineQuestion

	snmpResponse = 2 // tags of what answers (RFC 3416 section 3)
	snmpReport   = 8
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
