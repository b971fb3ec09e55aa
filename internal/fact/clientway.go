package fact

// ClientWay is how the client programs of a protocol connect by the settings of the account
// that runs them: what their library reads of the environment and of its files.
type ClientWay struct {
	By string `json:"by"` // "programs of PostgreSQL (libpq)"
	// Mode is how they encrypt, by the protocol's own word ("verify-full"); "" if nothing says so.
	Mode string `json:"mode,omitempty"`
	// Lax is that they go without TLS where the server has none, whatever they would check.
	Lax bool `json:"lax,omitempty"`
	// NoCheck is that they take any certificate.
	NoCheck bool `json:"no_check,omitempty"`
	// Trust is the file of roots, and behind a comma of revocation lists, that they go by, and
	// Presented the certificate and key of their own (CERT,KEY); "" for the system's, and none.
	Trust     string `json:"trust,omitempty"`
	Presented string `json:"presented,omitempty"`
	// Settings is everything that decides, in the order in which the library asks for it.
	Settings []ClientSetting `json:"settings,omitempty"`
}

// ClientSetting is one value, where it stands, and where values stand that it overrides.
type ClientSetting struct {
	Name  string   `json:"name"`
	Value string   `json:"value"`
	At    string   `json:"at"` // "/root/.pg_service.conf:3", "the environment, PGSSLMODE"
	Over  []string `json:"over,omitempty"`
}

// Named finds a setting; nil if nothing says it.
func (w *ClientWay) Named(name string) *ClientSetting {
	for i := range w.Settings {
		if w.Settings[i].Name == name {
			return &w.Settings[i]
		}
	}
	return nil
}
