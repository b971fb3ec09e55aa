package fact

// Told is what the settings of a client's own programs say for an endpoint, as
// far as that is another place than the endpoint's own.
type Told struct {
	By     string `json:"by"`                // "ssh", or "programs of PostgreSQL"
	Host   string `json:"host,omitempty"`    // where they go instead, and where that stands
	HostAt string `json:"host_at,omitempty"` // "/root/.ssh/config:3", "the environment, PGHOST"
	Port   uint16 `json:"port,omitempty"`
	PortAt string `json:"port_at,omitempty"`
	Jump   string `json:"jump,omitempty"` // the host that they go through, without an account
	JumpAt string `json:"jump_at,omitempty"`
	// Only says that this holds only for programs that are not told a host.
	Only bool `json:"only,omitempty"`
}
