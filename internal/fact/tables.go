package fact

// Tables is a host's packet filters as its kernel tells them, not decoded:
// weighing reads them, by whatever it knows of them by then.
type Tables struct {
	Nftables *Nftables `json:"nftables,omitempty"` // nil: not read, see Unread
	// Saved is the older tables, as the system's own save command writes them.
	Saved  []SavedTables `json:"saved,omitempty"`
	IPSets []IPSet       `json:"ip_sets,omitempty"`
	// Firewall is the filter of a host that runs Windows.
	Firewall *Firewall   `json:"firewall,omitempty"`
	Links    []LinkIndex `json:"links,omitempty"`
	// Unread says what may be in force and was not read, and why.
	Unread []string `json:"unread,omitempty"`
	// Count is how many rules there are, for people.
	Count int `json:"count"`
}

// Nftables is the kernel's messages, each from its family header on (struct
// nfgenmsg of include/uapi/linux/netfilter/nfnetlink.h), in the byte order of
// a little-endian host.
type Nftables struct {
	Tables   [][]byte `json:"tables"`
	Chains   [][]byte `json:"chains"`
	Sets     [][]byte `json:"sets"`
	Elements [][]byte `json:"elements"`
	Rules    [][]byte `json:"rules"`
}

// SavedTables is the text of iptables-save(8) or ip6tables-save(8).
type SavedTables struct {
	Six  bool   `json:"six,omitempty"`
	Text string `json:"text"`
}

// IPSet is one of the kernel's IP sets (ipset(8)).
type IPSet struct {
	Name    string      `json:"name"`
	Index   uint16      `json:"index"`
	Type    string      `json:"type"` // "hash:ip,port"
	Six     bool        `json:"six,omitempty"`
	Members []SetMember `json:"members,omitempty"`
}

// SetMember is one member of an IP set, as far as its type has fields.
type SetMember struct {
	Net   string `json:"net,omitempty"`  // an address, a net, or a range
	Net2  string `json:"net2,omitempty"` // the second address of types with two
	Port  string `json:"port,omitempty"` // a port, or a range
	Proto uint8  `json:"proto,omitempty"`
	Not   bool   `json:"not,omitempty"` // "nomatch"
}

// LinkIndex is a network link by its index.
type LinkIndex struct {
	Index uint32 `json:"index"`
	Name  string `json:"name"`
	Group uint32 `json:"group,omitempty"`
	Kind  string `json:"kind,omitempty"`
	Type  uint16 `json:"type"` // ARPHRD_… of include/uapi/linux/if_arp.h
}
