package wire

import (
	"slices"
	"testing"

	"uakari/internal/fact"
)

// overHTTP is the protocols whose answers are those of HTTP, and what says nothing itself.
var overHTTP = []string{"http", "websocket", "proxy", "rdp"}

// TestStrangers is what is told of servers of another protocol, whether the answer was
// looked at or read away as a line.
func TestStrangers(t *testing.T) {
	for name, p := range Protocols {
		if p.Ask == nil || p.Greet != nil || slices.Contains(overHTTP, name) {
			continue
		}
		const answer = "HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\nno\r\n"
		r := p.Ask(peer(t, answer), Question{Host: "tidebook.varzea.example"})
		if r.Ending != fact.Malformed || r.Spoke != "http" {
			t.Errorf("%s: ending %s, it spoke %q, told %q", name, r.Ending, r.Spoke, r.Text)
		}
	}
}
