package fact

import (
	"net/netip"
	"time"
)

// HostFormat names the file format of a [HostRecord].
const HostFormat = "uakari.host/1"

// HostRecord is all that was seen on one host, to be carried to another. It
// answers looks as the host itself would, from what it holds.
type HostRecord struct {
	Format string    `json:"format"`
	Host   string    `json:"host"`
	Began  time.Time `json:"began"`
	Ended  time.Time `json:"ended"`
	// Incomplete is why it is not whole: "deadline" or "interrupted".
	Incomplete string    `json:"incomplete,omitempty"`
	For        *Endpoint `json:"for,omitempty"` // the endpoint it was made for
	Facts      []Fact    `json:"facts"`
}

// Identity is which host this is, and its clock.
type Identity struct {
	Host   string    `json:"host"`
	System string    `json:"system"`           // "linux"
	Name   string    `json:"name,omitempty"`   // "Debian GNU/Linux 12 (bookworm)"
	Kernel string    `json:"kernel,omitempty"` // release
	Arch   string    `json:"arch"`
	Boot   time.Time `json:"boot,omitzero"`
	Clock  time.Time `json:"clock"` // what its clock says now
	// Synchronised is what the kernel says of its clock (adjtimex(2)); nil:
	// it could not be asked.
	Synchronised *bool `json:"synchronised,omitempty"`
	// Also is other names that the host answers to, and TimeFrom whose time it follows, of
	// Windows: "the domain", "NTP from clock.varzea.example", "nobody".
	Also     []string `json:"also,omitempty"`
	TimeFrom string   `json:"time_from,omitempty"`
	// Policies is settings of Windows that hold and make its servers refuse something.
	Policies []Policy `json:"policies,omitempty"`
}

// Policy is one of them.
type Policy struct {
	Place string `json:"place"` // "HKLM\…\LDAPServerIntegrity"
	Value string `json:"value"`
	Says  string `json:"says"`
}

// Routes is every route and policy rule of a host.
type Routes struct {
	Rules []string `json:"rules"` // in the order in which they are asked
	List  []string `json:"list"`  // "default via 10.20.0.1 dev eth0 table 254"
	// Entries and Policies are the same, for evaluation.
	Entries  []RouteEntry  `json:"entries,omitempty"`
	Policies []RoutePolicy `json:"policies,omitempty"`
}

// RouteEntry is one route.
type RouteEntry struct {
	Table  int          `json:"table"`
	Dst    netip.Prefix `json:"dst"`
	Type   string       `json:"type"` // "unicast", "blackhole", …
	Dev    string       `json:"dev,omitempty"`
	Via    netip.Addr   `json:"via,omitzero"`
	Source netip.Addr   `json:"source,omitzero"`
	Metric int          `json:"metric,omitempty"`
	Down   bool         `json:"down,omitempty"` // the kernel does not use it: its link is down
	Many   []string     `json:"many,omitempty"` // the links of a route with several ways
	Text   string       `json:"text"`
}

// RoutePolicy is one policy rule (ip-rule(8)).
type RoutePolicy struct {
	Priority int          `json:"priority"`
	Six      bool         `json:"six,omitempty"`
	From     netip.Prefix `json:"from,omitzero"`
	To       netip.Prefix `json:"to,omitzero"`
	Mark     uint32       `json:"mark,omitempty"`
	Mask     uint32       `json:"mask,omitempty"`
	In       string       `json:"in,omitempty"`
	Out      string       `json:"out,omitempty"`
	Table    int          `json:"table,omitempty"`
	Type     string       `json:"type,omitempty"`
	Suppress int          `json:"suppress"` // routes with at most this prefix length do not count; -1: all do
	Invert   bool         `json:"invert,omitempty"`
	Opaque   string       `json:"opaque,omitempty"` // what of it is not understood
}

// Neighbours is a host's whole neighbour table.
type Neighbours struct {
	List []Neighbour `json:"list"`
}

// Neighbour is one entry of it.
type Neighbour struct {
	Addr  netip.Addr `json:"addr"`
	Link  string     `json:"link"`
	MAC   string     `json:"mac,omitempty"`
	State string     `json:"state"`
}

// Kernel is the settings and counters that decide connections, by their names
// PolicyEnforced is whether the kernel enforces its policy of mandatory access: "1",
// or "0", where it only writes down what it would refuse (/sys/fs/selinux/enforce).
const PolicyEnforced = "selinux/enforce"

// below /proc/sys and in /proc/net/netstat.
type Kernel struct {
	// Settings is by their names below /proc/sys, and PolicyEnforced.
	Settings map[string]string `json:"settings"`
	Counters map[string]uint64 `json:"counters"`
}

// Peers is who is connected to a port, and from which address.
type Peers struct {
	Port uint16 `json:"port"` // 0: any
	List []Peer `json:"list"`
}

// Peer is one source address with its connections.
type Peer struct {
	Addr  netip.Addr `json:"addr"`
	State string     `json:"state"` // "established", "syn-received", …
	Count int        `json:"count"`
}

// Barriers is what can stop packets beside filter tables and routes; each
// makes the way in unread.
type Barriers struct {
	Programs []string `json:"programs,omitempty"` // packet programs: "XDP on eth0"
	// Groups is packet programs of control groups, which see what the
	// processes in them send and get.
	Groups   []GroupProgram `json:"groups,omitempty"`
	Unread   string         `json:"unread,omitempty"`   // why Groups may not be all
	Links    []string       `json:"links,omitempty"`    // tunnels and bridges: "wg0 (wireguard)"
	Policies int            `json:"policies,omitempty"` // IPsec policies
	Tracked  int            `json:"tracked,omitempty"`  // entries of the state table
	TrackMax int            `json:"track_max,omitempty"`
}

// GroupProgram is one packet program of a control group.
type GroupProgram struct {
	Group string `json:"group"` // "/system.slice/tidebook.service"
	Hook  string `json:"hook"`  // what it decides on: "what comes in"
	Name  string `json:"name,omitempty"`
}

// Resources is what a service may run out of.
type Resources struct {
	Disks []Disk `json:"disks"`
	// Kills is the processes that the kernel killed for memory, from its log.
	Kills []LogLine `json:"kills,omitempty"`
	// Denials is what mandatory access control refused, from the log.
	Denials []LogLine `json:"denials,omitempty"`
}

// Disk is one file system that the service writes to.
type Disk struct {
	Path       string `json:"path"`
	Free       uint64 `json:"free"` // bytes for ordinary users
	Size       uint64 `json:"size"` // bytes
	FreeInodes uint64 `json:"free_inodes"`
	Inodes     uint64 `json:"inodes"`
}

// Full reports whether nothing can be written any more.
func (d Disk) Full() bool { return d.Size > 0 && d.Free == 0 || d.Inodes > 0 && d.FreeInodes == 0 }

// LogLine is one line of a log.
type LogLine struct {
	At   time.Time `json:"at,omitzero"`
	Unit string    `json:"unit,omitempty"`
	Text string    `json:"text"`
}
