package session

import (
	"context"
	"net"
	"net/netip"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// TestAnyPort asks a server whose answers come from another port than it was asked
// on, and one whose host has somebody else on a port of its own.
func TestAnyPort(t *testing.T) {
	asked, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer asked.Close()
	var ended string
	done := make(chan struct{})
	go func() {
		defer close(done)
		buffer := make([]byte, 512)
		for _, answer := range []string{"\x00\x05\x00\x01File not found\x00", "\x00\x03\x00\x01tides",
			"\x00\x05\x00\x02not yours\x00"} {
			_, from, err := asked.ReadFrom(buffer)
			if err != nil {
				return
			}
			other, err := net.ListenPacket("udp", "127.0.0.1:0")
			if err != nil {
				return
			}
			other.WriteTo([]byte(answer), from)
			if answer[1] == 3 { // the block is answered where it came from
				n, _, err := other.ReadFrom(buffer)
				if err == nil {
					ended = string(buffer[:n])
				}
			}
			other.Close()
		}
	}()
	at := netip.MustParseAddrPort(asked.LocalAddr().String())
	for _, c := range []struct{ path, code string }{{"/", ""}, {"/levels", ""}, {"/secret", "2"}} {
		var got *fact.Reply
		target := fact.Target{
			Name:     "tidebook.varzea.example",
			Addr:     at.Addr(),
			Port:     at.Port(),
			Scheme:   "tftp",
			Security: fact.Plain,
			Path:     c.path,
		}
		Look(
			context.Background(),
			look.Env{Path: c.path, Whole: c.path},
			fact.Order{Look: fact.LookSession, Target: target},
			func(f fact.Fact) {
				if f.Reply != nil {
					got = f.Reply
				}
			},
		)
		if got == nil || got.Ending != fact.Done || got.Code != c.code {
			t.Errorf("%s: %+v", c.path, got)
		}
	}
	asked.Close()
	<-done
	if ended != "\x00\x05\x00\x00it is there\x00" {
		t.Errorf("the block is answered %q", ended)
	}
}
