package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"uakari/internal/fact"
)

// MapperOf is how the port mapper of a scheme is asked; ONC RPC's where it has none.
func MapperOf(scheme string) func(*Conn) (fact.Mapper, error) {
	if ask, ok := Mappers[scheme]; ok {
		return ask
	}
	return Mappers["rpc"]
}

// Mappers is how the port mappers of each protocol are asked what is
// registered with them.
var Mappers = map[string]func(*Conn) (fact.Mapper, error){
	"rpc": mapONC, "dcerpc": mapDCE, "mssql-browser": mapBrowser,
}

var errNotMapper = errors.New("what answers is no port mapper")

// mostMapped bounds a mapper's answer, in bytes.
const mostMapped = 256 << 10

// mostParts bounds how many pieces it comes in; they may be empty.
const mostParts = 1000

// Numbers of ONC RPC: our calls' id and the mapper's program (RFC 1833).
const (
	callID     = 0x75616b61
	oncMapper  = 100000
	oncVersion = 2
)

// oncPrograms are names for the numbers that port mappers register most (the
// registry of RFC 5531).
var oncPrograms = map[uint32]string{
	oncMapper: "portmapper",
	100003:    "nfs",
	100005:    "mountd",
	100011:    "rquotad",
	100021:    "nlockmgr",
	100024:    "status",
	100004:    "ypserv",
	100007:    "ypbind",
	100227:    "nfs_acl",
}

// oncCall is one call without credentials, as one last fragment (RFC 5531
// sections 9 and 11).
func oncCall(program, version, procedure uint32) string {
	var call []byte
	for _, word := range []uint32{callID, 0, 2, program, version, procedure, 0, 0, 0, 0} {
		call = binary.BigEndian.AppendUint32(call, word)
	}
	return string(binary.BigEndian.AppendUint32(nil, uint32(len(call))|1<<31)) + string(call)
}

// askONC calls the procedure that does nothing; any answer to the call will
// do, since servers refuse versions that they do not have (RFC 5531 section
// 12.1).
func askONC(protocol string, program, version uint32) func(*Conn, Question) fact.Reply {
	return func(c *Conn, _ Question) fact.Reply {
		return c.ask(
			protocol,
			"the procedure that does nothing",
			oncCall(program, version, 0),
			func(r *fact.Reply) error {
				head := make([]byte, 16) // the fragment's length, id, reply, accepted or denied
				if _, err := io.ReadFull(c, head); err != nil {
					return err
				}
				size := binary.BigEndian.Uint32(head) &^ (1 << 31)
				if size < 12 || size > mostMapped || binary.BigEndian.Uint32(head[4:]) != callID ||
					binary.BigEndian.Uint32(head[8:]) != 1 ||
					binary.BigEndian.Uint32(head[12:]) > 1 {
					r.Spoke = Recognise(head)
					return errors.New("not RPC")
				}
				return nil
			},
		)
	}
}

// mapONC asks for all that is registered (RFC 1833, procedure 4 of version 2).
func mapONC(c *Conn) (fact.Mapper, error) {
	m := fact.Mapper{Entries: []fact.MapperEntry{}}
	if _, err := io.WriteString(c, oncCall(oncMapper, oncVersion, 4)); err != nil {
		return m, err
	}
	var answer []byte
	for parts := 0; parts < mostParts; parts++ {
		var head [4]byte
		if _, err := io.ReadFull(c, head[:]); err != nil {
			return m, err
		}
		mark := binary.BigEndian.Uint32(head[:])
		size := int(mark &^ (1 << 31))
		if len(answer)+size > mostMapped {
			return m, errNotMapper
		}
		part := make([]byte, size)
		if _, err := io.ReadFull(c, part); err != nil {
			return m, err
		}
		answer = append(answer, part...)
		if mark&(1<<31) != 0 {
			break
		}
	}
	words := make([]uint32, len(answer)/4)
	for i := range words {
		words[i] = binary.BigEndian.Uint32(answer[4*i:])
	}
	// Id, reply, accepted, no verifier, success.
	if len(words) < 7 || words[0] != callID || words[1] != 1 || words[2] != 0 || words[5] != 0 {
		return m, errNotMapper
	}
	for rest := words[6:]; len(rest) >= 5 && rest[0] == 1; rest = rest[5:] {
		transport := map[uint32]string{6: "tcp", 17: "udp"}[rest[3]]
		if transport != "" && rest[4] <= 65535 {
			m.Entries = append(
				m.Entries,
				fact.MapperEntry{
					Program:   rest[1],
					Name:      orNumber(oncPrograms[rest[1]], rest[1]),
					Version:   rest[2],
					Transport: transport,
					Port:      uint16(rest[4]),
				},
			)
		}
	}
	return m, nil
}

func orNumber(name string, number uint32) string {
	if name == "" {
		return fmt.Sprint(number)
	}
	return name
}
