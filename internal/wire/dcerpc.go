package wire

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"uakari/internal/fact"
)

// Kinds of packets of connection-oriented DCE RPC (The Open Group, C706,
// chapter 12).
const (
	dceRequest = 0
	dceReply   = 2
	dceFault   = 3
	dceBind    = 11
	dceBound   = 12
	dceUnbound = 13
)

// Interfaces of the endpoint mapper and of the usual transfer syntax (C706,
// appendices O and I), as they are written.
const (
	mapperInterface = "e1af8308-5d1f-11c9-91a4-08002b14a0fa"
	transferSyntax  = "8a885d04-1ceb-11c9-9fe8-08002b104860"
)

// dceInterfaces are names for the interfaces that mappers register most.
var dceInterfaces = map[string]string{
	mapperInterface:                        "epmapper",
	"12345778-1234-abcd-ef00-0123456789ac": "samr", "12345778-1234-abcd-ef00-0123456789ab": "lsarpc",
	"12345678-1234-abcd-ef00-01234567cffb": "netlogon",
	"e3514235-4b06-11d1-ab04-00c04fc2dcd2": "drsuapi", "12345678-1234-abcd-ef00-0123456789ab": "spoolss",
	"4b324fc8-1670-01d3-1278-5a47bf6ee188": "srvsvc",
	"367abb81-9844-35f1-ad32-98f038001003": "svcctl", "338cd001-2244-31f1-aaaa-900038001003": "winreg",
	"6bffd098-a112-3610-9833-46c3f87e345a": "wkssvc",
	"50abc2a4-574d-40b3-9d66-ee4fd5fba076": "dnsserver", "1ff70682-0a51-30e8-076d-740be8cee98b": "atsvc",
	"82273fdc-e32a-18c3-3f78-827929dc23ea": "eventlog",
	"4fc742e0-4a10-11cf-8273-00aa004ae673": "netdfs", "3919286a-b10c-11d0-9ba8-00c04fd92ef5": "dssetup",
}

// identifier is a UUID as it is sent: its first three parts little end first.
func identifier(text string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(text, "-", ""))
	if err != nil || len(b) != 16 {
		return make([]byte, 16)
	}
	slices.Reverse(b[:4])
	slices.Reverse(b[4:6])
	slices.Reverse(b[6:8])
	return b
}

// identified writes a UUID that was sent.
func identified(sent []byte) string {
	b := slices.Clone(sent[:16])
	slices.Reverse(b[:4])
	slices.Reverse(b[4:6])
	slices.Reverse(b[6:8])
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

var little = binary.LittleEndian

// dcePacket is one packet that is first and last of its call.
func dcePacket(kind byte, body []byte) []byte {
	head := []byte{5, 0, kind, 3, 0x10, 0, 0, 0}
	head = little.AppendUint16(head, uint16(len(body)+16))
	head = little.AppendUint16(head, 0)
	return append(little.AppendUint32(head, 1), body...)
}

// dceBindTo offers one interface with the usual transfer syntax.
func dceBindTo(uuid string, version uint32) []byte {
	const fragment = 5840 // the size that every implementation takes
	body := little.AppendUint16(little.AppendUint16(nil, fragment), fragment)
	body = append(body, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 1, 0)
	body = append(body, identifier(uuid)...)
	body = little.AppendUint32(body, version)
	body = append(body, identifier(transferSyntax)...)
	return dcePacket(dceBind, little.AppendUint32(body, 2))
}

var errNotDCE = errors.New("not DCE RPC")

// dceRead reads one packet: its kind, whether it is the last of its call, and
// what it holds.
func (c *Conn) dceRead() (kind byte, last bool, body []byte, err error) {
	head := make([]byte, 16)
	if _, err := io.ReadFull(c, head); err != nil {
		return 0, false, head, err
	}
	size := int(little.Uint16(head[8:])) - len(head)
	if head[0] != 5 || head[4]>>4 != 1 || size < 0 {
		return 0, false, head, errNotDCE
	}
	body = make([]byte, size)
	_, err = io.ReadFull(c, body)
	return head[2], head[3]&2 != 0, body, err
}

// bindMapper begins to speak with the endpoint mapper. A refusal is its code.
func (c *Conn) bindMapper() (refusal string, err error) {
	kind, _, body, err := c.dceRead()
	switch {
	case err != nil:
		return "", err
	case kind == dceUnbound && len(body) >= 2:
		return fmt.Sprintf("reason %d", little.Uint16(body)), nil
	case kind != dceBound || len(body) < 10:
		return "", errNotDCE
	}
	// Two sizes and a group, then the second address, on a border of four.
	at := 10 + int(little.Uint16(body[8:]))
	at = (at + 3) &^ 3
	if len(body) < at+8 {
		return "", errNotDCE
	}
	if result := little.Uint16(body[at+4:]); result != 0 {
		return fmt.Sprintf("result %d", result), nil
	}
	return "", nil
}

// askDCE binds to the endpoint mapper, which every one lets anybody do.
func askDCE(c *Conn, _ Question) fact.Reply {
	return c.ask(
		"dcerpc",
		"a session with the endpoint mapper",
		string(dceBindTo(mapperInterface, 3)),
		func(r *fact.Reply) error {
			refusal, err := c.bindMapper()
			if refusal != "" {
				r.Code, r.Text = "refused", "the session is refused, "+refusal
			}
			return err
		},
	)
}

// mapDCE asks for all that is registered, a page at a time (C706, appendix O,
// ept_lookup).
func mapDCE(c *Conn) (fact.Mapper, error) {
	m := fact.Mapper{Entries: []fact.MapperEntry{}}
	if _, err := c.Write(dceBindTo(mapperInterface, 3)); err != nil {
		return m, err
	}
	if refusal, err := c.bindMapper(); err != nil || refusal != "" {
		return m, errors.Join(err, wordsAsError(refusal))
	}
	const page, mostPages, atEnd = 500, 20, 0x16c9a0d6
	handle := make([]byte, 20)
	for range mostPages {
		// All elements, of no object and no interface in particular, of all versions.
		question := append(append([]byte{}, bytes.Repeat([]byte{0}, 12)...), 1, 0, 0, 0)
		question = little.AppendUint32(append(question, handle...), page)
		call := little.AppendUint32(nil, uint32(len(question)))
		call = append(call, 0, 0, 2, 0) // the context, and the number of the operation
		if _, err := c.Write(dcePacket(dceRequest, append(call, question...))); err != nil {
			return m, err
		}
		stub, err := c.dceAnswer()
		if err != nil {
			return m, err
		}
		n, status, err := mappedPage(stub, &m)
		switch {
		case err != nil:
			return m, err
		case status != 0 && status != atEnd:
			return m, fmt.Errorf("the mapper refuses, status 0x%08x", status)
		}
		handle = slices.Clone(stub[:20])
		if status == atEnd || n == 0 || bytes.Equal(handle, make([]byte, 20)) {
			break
		}
	}
	return m, nil
}

func wordsAsError(refusal string) error {
	if refusal == "" {
		return nil
	}
	return errors.New("the mapper refuses a session, " + refusal)
}

// dceAnswer puts the parts of an answer together.
func (c *Conn) dceAnswer() ([]byte, error) {
	var stub []byte
	for {
		kind, last, body, err := c.dceRead()
		switch {
		case err != nil:
			return nil, err
		case kind == dceFault && len(body) >= 12:
			return nil, fmt.Errorf("the mapper fails, status 0x%08x", little.Uint32(body[8:]))
		case kind != dceReply || len(body) < 8 || len(stub)+len(body) > mostMapped:
			return nil, errNotMapper
		}
		stub = append(stub, body[8:]...)
		if last {
			return stub, nil
		}
	}
}

// mappedPage reads one page of entries into a list: how many there were, and
// the status of the call.
func mappedPage(stub []byte, m *fact.Mapper) (n int, status uint32, err error) {
	r := ndr{b: stub, at: 20}
	n = int(r.word())
	r.word() // the room that there was
	r.word() // where it begins
	if given := int(r.word()); given != n || n > len(stub)/24 {
		return 0, 0, errNotMapper
	}
	var towers int
	for range n {
		r.take(16) // the object
		if r.word() != 0 {
			towers++
		}
		r.word()
		r.take(int(r.word())) // a note
		r.align()
	}
	for range towers {
		r.word()
		tower := r.take(int(r.word()))
		r.align()
		if e, ok := towerEntry(tower); ok {
			m.Entries = append(m.Entries, e)
		}
	}
	status = r.word()
	if r.short {
		return 0, 0, errNotMapper
	}
	return n, status, nil
}

// ndr reads what is written in the usual transfer syntax, little end first.
type ndr struct {
	b     []byte
	at    int
	short bool
}

func (r *ndr) take(n int) []byte {
	if n < 0 || n > len(r.b)-r.at {
		r.short = true
		return nil
	}
	r.at += n
	return r.b[r.at-n : r.at]
}

func (r *ndr) word() uint32 {
	b := r.take(4)
	if b == nil {
		return 0
	}
	return little.Uint32(b)
}

func (r *ndr) align() { r.take((4 - r.at%4) % 4) }

// towerEntry reads a tower of five floors or so: the interface, the syntax,
// the protocols, and the port (C706, appendix L). Towers that lead to no port
// are left out.
func towerEntry(tower []byte) (fact.MapperEntry, bool) {
	var e fact.MapperEntry
	if len(tower) < 2 {
		return e, false
	}
	floors := int(little.Uint16(tower))
	rest := tower[2:]
	part := func() []byte {
		if len(rest) < 2 || len(rest)-2 < int(little.Uint16(rest)) {
			rest = nil
			return nil
		}
		p := rest[2 : 2+int(little.Uint16(rest))]
		rest = rest[2+len(p):]
		return p
	}
	for i := range min(floors, 8) {
		left, right := part(), part()
		switch {
		case i == 0 && len(left) == 19 && left[0] == 0x0d:
			e.Interface, e.Version = identified(left[1:]), uint32(little.Uint16(left[17:]))
			e.Name = dceInterfaces[e.Interface]
		case i >= 3 && len(left) == 1 && len(right) == 2 && (left[0] == 0x07 || left[0] == 0x08):
			e.Transport = map[byte]string{0x07: "tcp", 0x08: "udp"}[left[0]]
			e.Port = binary.BigEndian.Uint16(right)
		}
	}
	if e.Name == "" {
		e.Name = e.Interface
	}
	return e, e.Interface != "" && e.Port != 0
}
