package fact

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

// ProxySetting is a proxy that the client's environment names; empty if it
// names none.
type ProxySetting struct {
	Name string `json:"name"` // of the variable
	// Value is the proxy without an account.
	Value   string `json:"value"`
	NoProxy string `json:"no_proxy,omitempty"`
}
