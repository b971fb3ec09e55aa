package wire

import (
	"encoding/asn1"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

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
