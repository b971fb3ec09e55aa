package fact

import (
	"net/netip"
	"time"
)

// Ask is what the administrator asked for. Everything that decides a
// judgement is in it, so that a kept set needs nothing else.
type Ask struct {
	Endpoint  Endpoint         `json:"endpoint"`
	Began     time.Time        `json:"began"`
	Command   string           `json:"command,omitempty"` // the command line, to be repeated
	Account   string           `json:"account,omitempty"`
	Unit      string           `json:"unit,omitempty"`
	Card      *Card            `json:"card,omitempty"`
	Sheets    []Sheet          `json:"sheets,omitempty"`
	Only      []string         `json:"only,omitempty"`      // rungs; empty: all
	Resolvers []netip.AddrPort `json:"resolvers,omitempty"` // instead of the host's own
	WaitMS    float64          `json:"wait_ms"`             // longest wait for one connect
	IdleS     int              `json:"idle_s,omitempty"`    // seconds that a connection is left idle; 0: none is
	Widths    []int            `json:"widths,omitempty"`    // of requests side by side; none: nothing is tried so
}

// Endpoint is what the client tries to reach, as parsed.
type Endpoint struct {
	Input     string   `json:"input"`
	Scheme    string   `json:"scheme"`
	Assumed   bool     `json:"assumed,omitempty"` // the scheme was not given but taken from the port
	Host      string   `json:"host"`              // in ASCII form; exactly as typed if Stray is not empty
	Port      uint16   `json:"port"`
	Transport string   `json:"transport"` // "tcp" or "udp"
	Security  Security `json:"security"`
	Path      string   `json:"path,omitempty"`
	Verify    bool     `json:"verify"` // clients of this endpoint check its certificate

	// Stray lists characters that have no place in a host name and cannot
	// be seen, or look like another; Clean is the host without them.
	Stray []Stray `json:"stray,omitempty"`
	Clean string  `json:"clean,omitempty"`
}

// Stray is one stray character.
type Stray struct {
	At   int    `json:"at"`   // the character's place in the input, counted from 1
	Code string `json:"code"` // "U+200B"
	Name string `json:"name"` // "zero-width space"
}
