package tell

import (
	"bytes"
	"errors"
	"io"
	"testing"
	"time"

	"github.com/gopacket/gopacket/pcapgo"
)

// TestPacketFile is read by another program's library as it was meant.
func TestPacketFile(t *testing.T) {
	at := time.Date(2026, 11, 27, 3, 0, 0, 123456789, time.UTC)
	list := []Frame{
		{at, "gauge-07", "eth0", true, []byte{0x45, 1, 2}, 60},
		{at.Add(time.Millisecond), "tidebook", "eth1", false, []byte{0x60, 1, 2, 3}, 4},
		{at.Add(time.Second), "gauge-07", "eth0", false, []byte{0x45}, 1},
	}
	r, err := pcapgo.NewNgReader(bytes.NewReader(PacketFile(list)), pcapgo.NgReaderOptions{WantMixedLinkType: true})
	if err != nil {
		t.Fatal(err)
	}
	for i, want := range list {
		data, info, err := r.ReadPacketData()
		if err != nil {
			t.Fatal(err)
		}
		link, err := r.Interface(info.InterfaceIndex)
		if err != nil || link.Name != want.Host+" "+want.Link || !bytes.Equal(data, want.Data) ||
			info.Length != want.Length || !info.Timestamp.Equal(want.At) {
			t.Errorf("%d: %q %v %+v, %v; expected %+v", i, link.Name, data, info, err, want)
		}
	}
	if _, _, err := r.ReadPacketData(); !errors.Is(err, io.EOF) {
		t.Errorf("behind the last: %v", err)
	}
	if len(PacketFile(nil)) == 0 {
		t.Error("a file without packets has no head")
	}
}
