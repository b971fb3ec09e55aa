package fact

import "net/netip"

// Upstreams is the backends that a gateway passes requests to, by its
// settings.
type Upstreams struct {
	List []Upstream `json:"list"`
}

// Upstream is one backend, and where the settings name it.
type Upstream struct {
	Scheme string `json:"scheme"` // "http" or "https"
	Host   string `json:"host"`
	Port   uint16 `json:"port"`
	Path   string `json:"path"` // of the settings file
	Line   int    `json:"line"`
}

// At is the backend as it is tried at an address.
func (u Upstream) At(addr netip.Addr, security Security) Target {
	return Target{Name: u.Host, Addr: addr, Port: u.Port, Scheme: u.Scheme, Security: security, Path: "/"}
}

// ProxySetting is a proxy that the client's environment names; empty if it
// names none.
type ProxySetting struct {
	Name string `json:"name"` // of the variable
	// Value is the proxy without an account.
	Value   string `json:"value"`
	NoProxy string `json:"no_proxy,omitempty"`
}
