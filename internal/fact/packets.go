package fact

import (
	"net/netip"
	"time"
)

// What a host does in a look at packets: it tries, or watches while another does.
const (
	TryOpening   = "try"         // opens a connection
	WatchOpening = "watch"       // and this is what is seen of it
	TryLarge     = "try-large"   // speaks as a client would
	WatchLarge   = "watch-large" // and packets of nearly full size are seen too
)

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
	Began  time.Time    `json:"began,omitzero"`
	// Errors is ICMP messages about packets of the port, and Asked the neighbours that
	// this host asked for meanwhile.
	Errors []PacketError    `json:"errors,omitempty"`
	Asked  []AskedNeighbour `json:"asked,omitempty"`
	More   bool             `json:"more,omitempty"` // there were more than are kept
}

// PacketError is an ICMP message that quotes a packet of the flow (RFC 792, RFC 4443).
type PacketError struct {
	AtMS  float64        `json:"at_ms"`
	Link  string         `json:"link"`
	Out   bool           `json:"out,omitempty"`
	From  netip.Addr     `json:"from"`
	Type  uint8          `json:"type"`
	Code  uint8          `json:"code"`
	About netip.AddrPort `json:"about"` // where the quoted packet was going
	Hops  int            `json:"hops"`
}

// AskedNeighbour is an address that a host asked for on a link (ARP, RFC 826; neighbour
// discovery, RFC 4861), and whether anybody answered.
type AskedNeighbour struct {
	Addr     netip.Addr `json:"addr"`
	Link     string     `json:"link"`
	Times    int        `json:"times"`
	Answered bool       `json:"answered,omitempty"`
	// By is the hardware addresses that answered.
	By []string `json:"by,omitempty"`
}

// Segment is one packet of the flow that opens it, answers or resets it, or one of
// nearly full size.
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
	// Options is what an opening or its answer offers (RFC 9293 section 3.2), in the
	// order in which it stands there: "mss 1460, sack, timestamps, scale 7".
	Options string `json:"options,omitempty"`
	// Length is the bytes of the whole packet, with its network's header. A segment that
	// was not cut up yet by the card that sends it is longer than any link takes.
	Length int `json:"length,omitempty"`
	// Damaged says that its checksum (RFC 9293 section 3.1) is wrong. It is known of what
	// came without payload, and not made by this same machine.
	Damaged bool   `json:"damaged,omitempty"`
	Raw     []byte `json:"raw,omitempty"` // its headers, from the network's on
}

// Large reports whether it is of nearly full size.
func (s Segment) Large() bool { return s.Length >= LargePacket }

// LargePacket is more than every link has to take (RFC 8200 section 5 asks for 1280),
// and less than most do, in bytes.
const LargePacket = 1281

// Opens reports whether a segment opens a connection.
func (s Segment) Opens() bool { return s.Flags == "SYN" }

// Answers reports whether it is the answer to an opening.
func (s Segment) Answers() bool { return s.Flags == "SYN ACK" }

// Resets reports whether it ends a connection, or refuses one.
func (s Segment) Resets() bool { return s.Flags == "RST" || s.Flags == "RST ACK" }
