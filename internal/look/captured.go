package look

import "time"

// Captured is one packet of a port, or one that says something of it, as a link of
// this host showed it, from the header of the network on.
type Captured struct {
	At     time.Time
	Link   string
	Out    bool
	Data   []byte
	Length int // of the whole packet
}
