package trail

// JourneyFormat names the format of a [Journey].
const JourneyFormat = "uakari.journey/1"

// Journey is one packet's way through the tables of one or more hosts and
// layers, and the way of the reply to it (docs/schema/journey.schema.json).
type Journey struct {
	Format string        `json:"format"`
	Packet JourneyPacket `json:"packet"`
	Leg
	Reply Leg `json:"reply"`
	// Later is what becomes of the packets that follow, where that differs.
	Later   *Leg     `json:"later,omitempty"`
	Suppose *Suppose `json:"suppose,omitempty"`
	Mend    []Remedy `json:"mend,omitempty"`
	// Doubts is what is odd about the layers themselves.
	Doubts []string `json:"doubts,omitempty"`
}

// JourneyPacket is the packet that was asked for.
type JourneyPacket struct {
	Transport string `json:"transport"`
	From      string `json:"from"`
	FromPort  uint16 `json:"from_port"` // 0: any of the client's own
	To        string `json:"to"`
	ToPort    uint16 `json:"to_port"`
}

// Leg is one direction of a journey.
type Leg struct {
	Verdict    string    `json:"verdict"` // accept, drop, reject or unknown
	RejectWith string    `json:"reject_with,omitempty"`
	WhyUnknown string    `json:"why_unknown,omitempty"`
	Steps      []Step    `json:"steps"`
	Rewrites   []Rewrite `json:"rewrites"`
	Blocks     []int     `json:"blocks"` // indexes of the steps that stop it
}

// Step is one thing that happened to the packet.
type Step struct {
	Host   string `json:"host"`
	Hook   string `json:"hook"`
	Table  string `json:"table,omitempty"`
	Chain  string `json:"chain,omitempty"`
	Rule   int    `json:"rule,omitempty"`   // its place in the chain, from 1; 0: the policy
	Handle uint64 `json:"handle,omitempty"` // 0: not known
	Text   string `json:"text,omitempty"`
	Effect string `json:"effect"`
	Maybe  string `json:"maybe,omitempty"` // why it is not certain
}

// Rewrite is a translation on the way.
type Rewrite struct {
	Host string `json:"host"`
	Kind string `json:"kind"` // "source" or "destination"
	Was  string `json:"was"`
	Now  string `json:"now"`
}

// Suppose is what a supposed change would do.
type Suppose struct {
	Change string   `json:"change"`
	Before string   `json:"before"` // the verdict
	After  string   `json:"after"`
	Opens  []string `json:"opens"` // what else it lets through: "443/tcp to 10.20.7.0/24 (256 addresses)"
	Closes []string `json:"closes"`
	// Partly says why the two lists may not be whole; "": they are.
	Partly string `json:"partly,omitempty"`
}
