package fact

import (
	"net/netip"
	"strconv"
	"time"
)

// Containers is the containers of a host: what its engines tell of them, and
// what its kernel shows of their networks.
type Containers struct {
	Engines []Engine    `json:"engines,omitempty"`
	List    []Container `json:"list"`
}

// Engine is one engine of containers.
type Engine struct {
	Name   string `json:"name"`   // "podman", "docker", "containerd"
	Socket string `json:"socket"` // that it was asked over
	Unread string `json:"unread,omitempty"`
	// Disk is that it was not asked: Socket is the file or folder that was read in place.
	Disk bool `json:"disk,omitempty"`
}

// Container is one container, or a network namespace that no engine tells of.
type Container struct {
	Engine string `json:"engine,omitempty"` // its name; "": the kernel shows it alone
	ID     string `json:"id,omitempty"`
	Name   string `json:"name,omitempty"`
	Image  string `json:"image,omitempty"`
	Digest string `json:"digest,omitempty"`
	Pod    string `json:"pod,omitempty"`
	Shares string `json:"shares,omitempty"` // the number of the container whose network it has

	State    string    `json:"state,omitempty"` // "running", "exited", "created", "restarting", "paused", "dead"
	ExitCode int       `json:"exit_code,omitempty"`
	Starved  bool      `json:"starved,omitempty"` // it was killed for want of memory
	Error    string    `json:"error,omitempty"`   // the engine's own word on why it does not start
	Restarts int       `json:"restarts,omitempty"`
	Policy   string    `json:"policy,omitempty"` // when it is started again
	Started  time.Time `json:"started,omitzero"`
	Ended    time.Time `json:"ended,omitzero"`
	Health   string    `json:"health,omitempty"`      // "healthy", "unhealthy", "starting"
	Checked  string    `json:"checked,omitempty"`     // what the last check said
	PID      int       `json:"pid,omitempty"`         // of its first process
	Keeper   int       `json:"keeper,omitempty"`      // the process that keeps it, as the kernel shows it
	HostNet  bool      `json:"host_net,omitempty"`    // it has the host's own network
	Names    []string  `json:"environment,omitempty"` // of its environment's variables, without values

	Published []Published `json:"published,omitempty"`
	Networks  []Network   `json:"networks,omitempty"`
	Mounts    []Mount     `json:"mounts,omitempty"`
	// Held and Listeners are of its network namespace; Seen is that both were
	// read.
	Seen      bool       `json:"seen,omitempty"`
	Held      []Address  `json:"held,omitempty"`
	Listeners []Listener `json:"listeners,omitempty"`
	Log       []LogLine  `json:"log,omitempty"`
}

// Published is a port of the host that leads into a container.
type Published struct {
	Transport string     `json:"transport"`
	Addr      netip.Addr `json:"addr,omitzero"` // of the host; invalid: all
	Port      uint16     `json:"port"`
	Inside    uint16     `json:"inside"`
}

// Network is one network that a container is in.
type Network struct {
	Name     string       `json:"name"`
	Addrs    []netip.Addr `json:"addrs,omitempty"`
	Gateway  netip.Addr   `json:"gateway,omitzero"`
	Aliases  []string     `json:"aliases,omitempty"`
	Internal bool         `json:"internal,omitempty"` // it leads nowhere else
	Isolated bool         `json:"isolated,omitempty"` // it is kept apart from other networks
}

// Mount is a file or folder of the host in a container.
type Mount struct {
	Source string `json:"source"`
	Inside string `json:"inside"`
}

// Called is how people name it.
func (c Container) Called() string {
	switch {
	case c.Name != "":
		return c.Name
	case c.ID != "":
		return c.ID[:min(len(c.ID), 12)]
	}
	return "the network namespace of pid " + strconv.Itoa(c.PID)
}

// Holds reports whether a container has an address in its own network.
func (c Container) Holds(addr netip.Addr) bool {
	for _, n := range c.Networks {
		for _, a := range n.Addrs {
			if a == addr {
				return true
			}
		}
	}
	for _, h := range c.Held {
		if h.Prefix.Addr() == addr {
			return true
		}
	}
	return false
}

// Own is its address in its own network; invalid if it is not known.
func (c Container) Own() netip.Addr {
	for _, n := range c.Networks {
		if len(n.Addrs) > 0 {
			return n.Addrs[0]
		}
	}
	for _, h := range c.Held {
		if !h.Local && h.Prefix.Addr().Is4() {
			return h.Prefix.Addr()
		}
	}
	return netip.Addr{}
}

// On is its listeners on a port of a transport.
func (c Container) On(transport string, port uint16) []Listener {
	return Listeners{All: c.Listeners}.On(transport, port)
}

// Together reports whether two containers have one network between them.
func (c Container) Together(other Container) bool {
	base := func(c Container) string {
		if c.Shares != "" {
			return c.Shares
		}
		return c.ID
	}
	return c.Engine == other.Engine && c.ID != other.ID && (c.Pod != "" && c.Pod == other.Pod ||
		base(c) == base(other))
}
