package fact

import "net/netip"

// Packets is what was seen on the links of a host of the openings, answers and
// resets of a port, in the order in which it was seen: headers alone, no payload.
type Packets struct {
	// Try says that this host made the tries itself; else it watched.
	Try      bool      `json:"try,omitempty"`
	WatchMS  float64   `json:"watch_ms"`
	Segments []Segment `json:"segments"`
	// Echoes is where echo requests came from that were seen meanwhile: a sign
	// that both watched at the same time.
	Echoes []netip.Addr `json:"echoes,omitempty"`
	More   bool         `json:"more,omitempty"` // there were more than are kept
}

// Segment is one packet of the flow that opens it, answers or resets it.
type Segment struct {
	AtMS  float64        `json:"at_ms"` // since the watch began
	Link  string         `json:"link"`
	Out   bool           `json:"out,omitempty"` // it left by the link; else it came
	From  netip.AddrPort `json:"from"`
	To    netip.AddrPort `json:"to"`
	Flags string         `json:"flags"` // "SYN", "SYN ACK", "RST", …
	Hops  int            `json:"hops"`  // its hop limit
	// Sequence and Acknowledged are the header's numbers (RFC 9293 section
	// 3.1), which stay where addresses are translated.
	Sequence     uint32 `json:"sequence"`
	Acknowledged uint32 `json:"acknowledged,omitempty"`
}

// Opens reports whether a segment opens a connection.
func (s Segment) Opens() bool { return s.Flags == "SYN" }

// Answers reports whether it is the answer to an opening.
func (s Segment) Answers() bool { return s.Flags == "SYN ACK" }

// Resets reports whether it ends a connection, or refuses one.
func (s Segment) Resets() bool { return s.Flags == "RST" || s.Flags == "RST ACK" }
