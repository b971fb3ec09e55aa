package wire

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// dceSaid is one packet of a server.
func dceSaid(kind byte, body []byte) string { return string(dcePacket(kind, body)) }

// dceBoundTo is the answer to a session that is wanted.
func dceBoundTo(result uint16) string {
	body := []byte{0xd0, 0x16, 0xd0, 0x16, 1, 0, 0, 0, 4, 0, '1', '3', '5', 0, 0, 0, 1, 0, 0, 0}
	body = little.AppendUint16(body, result)
	return dceSaid(dceBound, append(body, make([]byte, 22)...))
}

// towerOf is a tower to a port.
func towerOf(uuid string, protocol byte, port uint16) []byte {
	floor := func(left, right []byte) []byte {
		b := append(little.AppendUint16(nil, uint16(len(left))), left...)
		return append(little.AppendUint16(b, uint16(len(right))), right...)
	}
	tower := little.AppendUint16(nil, 5)
	tower = append(tower, floor(append(append([]byte{0x0d}, identifier(uuid)...), 1, 0), []byte{0, 0})...)
	tower = append(tower, floor(append(append([]byte{0x0d}, identifier(transferSyntax)...), 2, 0), []byte{0, 0})...)
	tower = append(tower, floor([]byte{0x0b}, []byte{0, 0})...)
	tower = append(tower, floor([]byte{protocol}, binary.BigEndian.AppendUint16(nil, port))...)
	return append(tower, floor([]byte{0x09}, []byte{10, 20, 0, 14})...)
}

// page is what a mapper answers, with towers and a status.
func page(status uint32, towers ...[]byte) []byte {
	body := append(little.AppendUint32(nil, uint32(20)), 0, 0, 0, 0)
	body = append(body, make([]byte, 20)...)
	words := func(list ...uint32) {
		for _, w := range list {
			body = little.AppendUint32(body, w)
		}
	}
	align := func() {
		for len(body)%4 != 0 {
			body = append(body, 0)
		}
	}
	words(uint32(len(towers)), 500, 0, uint32(len(towers)))
	for i := range towers {
		body = append(body, make([]byte, 16)...)
		words(uint32(i+1), 0, 2)
		body = append(body, 'x', 0)
		align()
	}
	for _, tower := range towers {
		words(uint32(len(tower)), uint32(len(tower)))
		body = append(body, tower...)
		align()
	}
	words(status)
	return body
}

// TestMapDCE reads what an endpoint mapper says, whole and broken.
func TestMapDCE(t *testing.T) {
	const samr = "12345778-1234-abcd-ef00-0123456789ac"
	good := page(
		0x16c9a0d6,
		towerOf(samr, 0x07, 49154),
		towerOf("00000000-0000-0000-0000-00000000ab12", 0x07, 49155),
		towerOf(samr, 0x0f, 0),
	)
	lies := bytes.Clone(good)
	little.PutUint32(lies[28:], 1<<30)
	parts := func(kind byte, body []byte, last bool) string {
		text := []byte(dceSaid(kind, body))
		if !last {
			text[3] = 1
		}
		return string(text)
	}
	cut := 60
	second := append(slices.Clone(good[:8]), good[cut:]...)
	want := []fact.MapperEntry{{Interface: samr, Name: "samr", Version: 1, Transport: "tcp", Port: 49154},
		{
			Interface: "00000000-0000-0000-0000-00000000ab12",
			Name:      "00000000-0000-0000-0000-00000000ab12",
			Version:   1,
			Transport: "tcp",
			Port:      49155,
		}}
	for _, c := range []struct {
		name  string
		says  []string
		want  []fact.MapperEntry
		wrong string
	}{
		{"all in one", []string{dceBoundTo(0), dceSaid(dceReply, good)}, want, ""},
		{"in two parts", []string{dceBoundTo(0), parts(dceReply, good[:cut], false) + parts(dceReply, second, true)},
			want, ""},
		{"nothing", []string{dceBoundTo(0), dceSaid(dceReply, page(0x16c9a0d6))}, []fact.MapperEntry{}, ""},
		{"no session by result", []string{dceBoundTo(2)}, nil, "result 2"},
		{"no session by a word of its own", []string{dceSaid(dceUnbound, []byte{4, 0})}, nil, "reason 4"},
		{"it fails", []string{dceBoundTo(0), dceSaid(dceFault, []byte{0, 0, 0, 0, 0, 0, 0, 0, 5, 0, 0, 0})}, nil,
			"0x00000005"},
		{"a status", []string{dceBoundTo(0), dceSaid(dceReply, page(0x16c9a0d1))}, nil, "0x16c9a0d1"},
		{"a number that lies", []string{dceBoundTo(0), dceSaid(dceReply, lies)}, nil, "no port mapper"},
		{"cut off", []string{dceBoundTo(0), dceSaid(dceReply, good[:80])}, nil, "no port mapper"},
		{"another protocol", []string{"SSH-2.0-made-up-and-long-enough\r\n"}, nil, "not DCE RPC"},
	} {
		got, err := mapDCE(peer(t, c.says...))
		switch {
		case c.wrong == "" && (err != nil || !slices.Equal(got.Entries, c.want)):
			t.Errorf("%s: %+v, %v", c.name, got, err)
		case c.wrong != "" && (err == nil || !strings.Contains(err.Error(), c.wrong)):
			t.Errorf("%s: %v, want %q", c.name, err, c.wrong)
		}
	}
	if got := identified(identifier(samr)); got != samr {
		t.Errorf("an identifier there and back: %s", got)
	}
}
