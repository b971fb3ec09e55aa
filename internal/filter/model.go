package filter

// Ruleset is all the filter tables of one host.
type Ruleset struct {
	Tables []*Table
	// Opaque lists what is in force and not understood as a whole: chains of
	// a kind that this package does not model, with the families concerned.
	Opaque []string
	// Links names the host's links by index, for rules that give an index.
	Links map[uint32]Link
	rules int

	hooks map[hookKey][]*Chain // the base chains of a hook, in order
}

// Link is one network link of the host.
type Link struct {
	Name  string
	Group uint32
	Kind  string // "veth", "bridge"; "" for hardware
	Type  uint16 // ARPHRD_…: 1 Ethernet, 772 loopback
}

// Count is how many rules the tables have.
func (r *Ruleset) Count() int { return r.rules }

// Table is one table.
type Table struct {
	Family Family
	Name   string
	Xtable Xtable // the program whose rules these are, if not nft
	Chains map[string]*Chain
	Sets   map[string]*Set
	order  []*Chain
	handle uint64
	share  shared // of the rules, while they are read
}

// Title is the name that the table is known by: "inet filter".
func (t *Table) Title() string {
	if t.Xtable == Windows {
		return t.Name
	}
	return t.Family.String() + " " + t.Name
}

// Xtable says that a table is kept by iptables, and by which variant.
type Xtable uint8

const (
	NotXtables Xtable = iota
	OverNft           // rules of iptables, kept by the kernel as nftables
	Legacy            // the older tables
	Windows           // the firewall of Windows
)

// Family is an address family of tables.
type Family uint8

// The kernel's numbers (include/uapi/linux/netfilter.h).
const (
	Inet   Family = 1
	IPv4   Family = 2
	ARP    Family = 3
	Netdev Family = 5
	Bridge Family = 7
	IPv6   Family = 10
)

var familyNames = map[Family]string{
	Inet:   "inet",
	IPv4:   "ip",
	ARP:    "arp",
	Netdev: "netdev",
	Bridge: "bridge",
	IPv6:   "ip6",
}

func (f Family) String() string {
	if name, ok := familyNames[f]; ok {
		return name
	}
	return "unknown"
}

// covers reports whether tables of a family see a packet of IPv4 or IPv6.
func (f Family) covers(six bool) bool {
	return f == Inet || f == Netdev || f == IPv4 && !six || f == IPv6 && six
}

// Hook is a place in the kernel where base chains are called
// (include/uapi/linux/netfilter.h).
type Hook uint8

const (
	Prerouting Hook = iota
	Input
	Forward
	Output
	Postrouting
	Ingress      // of a link, before all others
	Egress       // of a link, after them
	NoHook  Hook = 255
)

var hookNames = []string{"prerouting", "input", "forward", "output", "postrouting", "ingress", "egress"}

func (h Hook) String() string {
	if int(h) < len(hookNames) {
		return hookNames[h]
	}
	return ""
}

// Chain is a chain of rules. A base chain has a hook.
type Chain struct {
	Table    *Table
	Name     string
	Hook     Hook
	Type     string // "filter", "nat" or "route"
	Priority int
	Drop     bool // the policy of a base chain
	// Links is those whose packets a chain at Ingress or Egress sees; a name that ends in
	// "*" stands for all that begin so.
	Links []string
	Rules []*Rule

	heads []head // of the rules
	// seen orders chains of one priority: the kernel calls the one that was
	// made last first.
	seen uint64
}

// Rule is one rule.
type Rule struct {
	Chain   *Chain
	Handle  uint64 // 0: not known
	Number  int    // its place in the chain, from 1
	Text    string // as its keeper would write it; "": rendered when asked for
	Comment string
	Body    []Op
	peers   []string // of a rule of Windows, as it has them
}

// Op is one part of a rule: either a condition or something done.
type Op struct {
	Cond *Cond
	Act  *Act
}

// Compare is how a condition compares.
type Compare uint8

const (
	Equal Compare = iota
	NotEqual
	Less
	LessEqual
	Greater
	GreaterEqual
	Within    // A <= x <= B
	NotWithin //
	InSet
	NotInSet
	AnyOf // one of several conditions holds
	AllOf // all of them
	NoneOf
	Opaque // not understood, or dependent on what cannot be read
)

// Cond is one condition on a packet.
type Cond struct {
	Op    Compare
	Parts []Part // what is loaded; several are concatenated for a set
	A, B  []byte // what it is compared with, as the kernel's registers hold it
	Set   *Set
	Name  string // of the set
	Conds []*Cond
	Why   string // for Opaque: the reason, in words
	State bool   // for Opaque: it depends on state that nobody can read (a rate, the time)
}

// Source is where a part of a comparison comes from.
type Source uint8

const (
	FromLink Source = iota // bytes of the link, network and transport headers
	FromNetwork
	FromTransport
	FromMeta
	FromCT
	FromFib
	FromExtension
	FromConst
	FromMap
	FromNowhere // not understood
)

// Part is one value that a rule loads, with what is done to it.
type Part struct {
	Source Source
	Key    uint8 // of meta, ct or fib
	Offset uint16
	Len    uint8
	Flags  uint8 // of fib; the direction of ct (255: none)
	Name   string
	Mask   []byte // nil: all bits
	Xor    []byte
	Swap   uint8 // size of the words whose bytes are exchanged; 0: none
	Shift  int8  // bits to the right; negative: to the left
	Const  []byte
	Map    *Set
	From   []Part
	Why    string // for FromNowhere
}

// Doing is what a rule does.
type Doing uint8

const (
	Accept Doing = iota
	Drop
	Reject
	Jump
	Goto
	Return
	Continue
	Queue
	DNAT
	SNAT
	Masquerade
	Redirect
	SetMark
	SetCTMark
	RestoreMark
	SaveMark
	NoTrack
	VerdictMap
	Nothing // no effect on where the packet goes: a counter, a log line
	Puzzle  // not understood
)

// Act is something a rule does.
type Act struct {
	Doing  Doing
	Chain  string // of Jump and Goto
	target *Chain
	With   Refusal
	Set    *Set // of VerdictMap
	Name   string
	Parts  []Part // what VerdictMap looks up, what SetMark sets
	// Keep is the bits of the mark that are kept, over which the value is turned; 0: none is,
	// and the mark is the value.
	Keep         uint32
	Addr, AddrTo []Part // of DNAT and SNAT; nil: unchanged
	Port, PortTo []Part
	Final        bool   // the packet is accepted in this table when it is done (iptables' nat)
	Prefixed     bool   // addresses are mapped net to net
	Text         string // for Nothing: "counter", "log"
	Why          string // for Puzzle
}

// Refusal is with what a packet is rejected.
type Refusal uint8

const (
	ByPortUnreachable Refusal = iota
	ByReset
	ByHostUnreachable
	ByNetUnreachable
	ByProtoUnreachable
	ByAdminProhibited
	ByHostProhibited
	ByNetProhibited
	ByPolicyFail
	ByRejectRoute
)

var refusalNames = []string{
	"icmp-port-unreachable",
	"tcp-reset",
	"icmp-host-unreachable",
	"icmp-net-unreachable",
	"icmp-proto-unreachable",
	"icmp-admin-prohibited",
	"icmp-host-prohibited",
	"icmp-net-prohibited",
	"icmp-policy-fail",
	"icmp-reject-route",
}

func (r Refusal) String() string { return refusalNames[r] }

// Code is the type and code of the ICMP message that a packet is refused with
// (RFC 792, RFC 1812 section 5.2.7.1, RFC 4443 section 3.1).
func (r Refusal) Code(six bool) (kind, code uint8) {
	if six {
		return 1, [...]uint8{4, 0, 3, 0, 1, 1, 1, 1, 5, 6}[r]
	}
	return 3, [...]uint8{3, 0, 1, 0, 2, 13, 10, 9, 13, 0}[r]
}
