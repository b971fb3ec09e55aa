package tell

import (
	"bytes"
	"encoding/binary"
	"time"
)

// Frame is one packet as it was seen on a link of a host, from the header of the
// network on.
type Frame struct {
	At     time.Time
	Host   string
	Link   string
	Out    bool
	Data   []byte
	Length int // of the whole packet; Data may hold its beginning alone
}

// PacketFile is packets in the open format pcapng (draft-ietf-opsawg-pcapng): an
// interface for each link of each host, and times in nanoseconds. It is written here
// since the libraries that can do it build tables of every protocol at each start.
func PacketFile(list []Frame) []byte {
	const (
		section, linkBlock, packetBlock = 0x0A0D0D0A, 1, 6
		rawLink                         = 101 // LINKTYPE_RAW: the packet begins with IPv4 or IPv6
		optName, optResolution, optApp  = 2, 9, 4
		optFlags                        = 2 // of a packet: 1 came in, 2 went out
	)
	var b bytes.Buffer
	le := binary.LittleEndian
	option := func(body []byte, code uint16, value []byte) []byte {
		body = le.AppendUint16(le.AppendUint16(body, code), uint16(len(value)))
		return append(append(body, value...), make([]byte, -len(value)&3)...)
	}
	block := func(kind uint32, body []byte) {
		length := uint32(12 + len(body))
		b.Write(le.AppendUint32(le.AppendUint32(nil, kind), length))
		b.Write(body)
		b.Write(le.AppendUint32(nil, length))
	}
	head := le.AppendUint32(nil, 0x1A2B3C4D)
	head = le.AppendUint16(le.AppendUint16(head, 1), 0)
	head = le.AppendUint64(head, 1<<64-1) // how long the section is, is not said
	block(section, append(option(head, optApp, []byte("uakari")), 0, 0, 0, 0))
	links := map[string]uint32{}
	for _, f := range list {
		name := f.Host + " " + f.Link
		id, known := links[name]
		if !known {
			id = uint32(len(links))
			links[name] = id
			body := le.AppendUint32(le.AppendUint16(le.AppendUint16(nil, rawLink), 0), 0)
			body = option(option(body, optName, []byte(name)), optResolution, []byte{9})
			block(linkBlock, append(body, 0, 0, 0, 0))
		}
		at := uint64(f.At.UnixNano())
		body := le.AppendUint32(le.AppendUint32(le.AppendUint32(nil, id), uint32(at>>32)), uint32(at))
		body = le.AppendUint32(le.AppendUint32(body, uint32(len(f.Data))), uint32(max(f.Length, len(f.Data))))
		body = append(append(body, f.Data...), make([]byte, -len(f.Data)&3)...)
		flags := uint32(1)
		if f.Out {
			flags = 2
		}
		block(packetBlock, append(option(body, optFlags, le.AppendUint32(nil, flags)), 0, 0, 0, 0))
	}
	return b.Bytes()
}
