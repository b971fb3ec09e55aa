package fact

import "net/netip"

// Firewall is the packet filter of Windows, as its registry keeps it.
type Firewall struct {
	Profiles []FirewallProfile `json:"profiles"`
	Rules    []FirewallRule    `json:"rules"`
	// Active is the profiles that are in force on the host's links; empty: not
	// known, and any of them may be.
	Active []string `json:"active,omitempty"`
	// Subnets is the nets of the host's own links; Holders, who holds its ports.
	// Both are nil where they were not seen.
	Subnets []netip.Prefix `json:"subnets,omitempty"`
	Holders []PortHolder   `json:"holders,omitempty"`
}

// FirewallProfile is one profile: "domain", "private" or "public". What is nil
// was not read; the group policy's word goes before the host's own.
type FirewallProfile struct {
	Name     string `json:"name"`
	On       *bool  `json:"on,omitempty"`
	Inbound  string `json:"inbound,omitempty"` // what befalls what no rule speaks of: "block" or "allow"
	Outbound string `json:"outbound,omitempty"`
	Shielded bool   `json:"shielded,omitempty"` // no rule lets anything in
	Alone    bool   `json:"alone,omitempty"`    // the host's own rules do not count
	Policy   bool   `json:"policy,omitempty"`   // a group policy says so
}

// FirewallRule is one rule, in the registry's words (MS-GPFAS section 2.2.2).
type FirewallRule struct {
	ID   string `json:"id"`   // by which commands name it
	From string `json:"from"` // "local", "policy" or "services"
	Text string `json:"text"` // "v2.30|Action=Block|Active=TRUE|Dir=In|Protocol=6|LPort=8443|Name=x|"
}

// PortHolder is a program that holds a port.
type PortHolder struct {
	Transport string `json:"transport"` // "tcp" or "udp"
	Port      uint16 `json:"port"`
	Path      string `json:"path,omitempty"` // "": it could not be seen; "System" for the kernel
	Service   string `json:"service,omitempty"`
}
