package path

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// mapperThat answers every call with the same words, in one or two pieces.
func mapperThat(t *testing.T, pieces ...[]uint32) netip.AddrPort {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			io.ReadFull(c, make([]byte, 44))
			for i, words := range pieces {
				mark := uint32(4 * len(words))
				if i == len(pieces)-1 {
					mark |= 1 << 31
				}
				b := binary.BigEndian.AppendUint32(nil, mark)
				for _, w := range words {
					b = binary.BigEndian.AppendUint32(b, w)
				}
				c.Write(b)
			}
			c.Close()
		}
	}()
	return netip.MustParseAddrPort(l.Addr().String())
}

// TestMapper asks mappers that answer well, badly, or not to us.
func TestMapper(t *testing.T) {
	const id = 0x75616b61
	good := []uint32{
		id,
		1,
		0,
		0,
		0,
		0,
		1,
		100003,
		3,
		6,
		2049,
		1,
		100003,
		3,
		17,
		2049,
		1,
		555555,
		1,
		6,
		40000,
		1,
		7,
		7,
		99,
		7,
		0,
	}
	for name, c := range map[string]struct {
		pieces [][]uint32
		want   string
	}{
		"registered":           {[][]uint32{good}, "nfs tcp 2049, nfs udp 2049, 555555 tcp 40000"},
		"in two pieces":        {[][]uint32{good[:9], good[9:]}, "nfs tcp 2049, nfs udp 2049, 555555 tcp 40000"},
		"nothing":              {[][]uint32{{id, 1, 0, 0, 0, 0, 0}}, ""},
		"cut off":              {[][]uint32{{id, 1, 0, 0, 0, 0, 1, 100003}}, ""},
		"another call":         {[][]uint32{{1, 1, 0, 0, 0, 0, 0}}, "no port mapper"},
		"refused":              {[][]uint32{{id, 1, 1, 0, 0, 0, 0}}, "no port mapper"},
		"too short":            {[][]uint32{{id}}, "no port mapper"},
		"it closes at once":    {nil, "could not ask the port mapper"},
		"a piece that is huge": {[][]uint32{make([]uint32, 256<<10)}, "could not ask the port mapper"},
	} {
		place := mapperThat(t, c.pieces...)
		var got string
		Mapper(
			context.Background(),
			look.Env{Wait: 2 * time.Second},
			fact.Order{Target: fact.Target{Addr: place.Addr(), Port: place.Port()}},
			func(f fact.Fact) {
				if f.Failed != nil {
					got = f.Saw
					return
				}
				var list []string
				for _, e := range f.Mapper.Entries {
					list = append(list, e.Name+" "+e.Transport+" "+strconv.Itoa(int(e.Port)))
				}
				got = strings.Join(list, ", ")
			},
		)
		if c.want != "" && !strings.Contains(got, c.want) || c.want == "" && got != "" {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
