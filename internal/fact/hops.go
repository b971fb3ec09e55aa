package fact

import "net/netip"

// Upstreams is the backends that a gateway passes requests to, by its
// settings.
type Upstreams struct {
	List []Upstream `json:"list"`
}

// Upstream is one backend, and where the settings name it.
type Upstream struct {
	Scheme string `json:"scheme"` // "http", "https", "tcp", "tls" or "unix"
	Host   string `json:"host,omitempty"`
	Port   uint16 `json:"port,omitempty"`
	// Socket is a local one in place of an address, and Open whether somebody
	// listens on it; nil if that could not be seen.
	Socket string `json:"socket,omitempty"`
	Open   *bool  `json:"open,omitempty"`
	Path   string `json:"path"` // of the settings file
	Line   int    `json:"line"`
	// Verified is that the gateway checks its certificate, Name, for which name ("": the
	// host's), and Trust, by which file of roots ("": the gateway's own). AnyName is that it
	// takes a certificate of any name.
	Verified bool   `json:"verified,omitempty"`
	Name     string `json:"name,omitempty"`
	Trust    string `json:"trust,omitempty"`
	AnyName  bool   `json:"any_name,omitempty"`
}

// At is the backend as it is tried at an address.
func (u Upstream) At(addr netip.Addr, security Security) Target {
	return Target{Name: u.Host, Addr: addr, Port: u.Port, Scheme: u.Scheme, Security: security, Path: "/",
		Trust: u.Trust}
}

// ProxySetting is a proxy that the client's environment names; empty if it
// names none.
type ProxySetting struct {
	Name string `json:"name"` // of the variable
	// Value is the proxy without an account.
	Value   string `json:"value"`
	NoProxy string `json:"no_proxy,omitempty"`
	// By is the one program whose own file sets it ("curl"); System, that the system's
	// settings do, whose exceptions are patterns.
	By     string `json:"by,omitempty"`
	System bool   `json:"system,omitempty"`
	// Script is the file or URL of a script that decides. Of what it said of an endpoint Said
	// is its own words, Line the line that decided (0: not known), Falls that it allows another
	// way where the proxy does not answer, and Wrong why it says nothing.
	Script string `json:"script,omitempty"`
	Said   string `json:"said,omitempty"`
	Line   int    `json:"line,omitempty"`
	Falls  bool   `json:"falls,omitempty"`
	Wrong  string `json:"wrong,omitempty"`
}
