package fact

// Library is the TLS library that a client's programs use, and what its
// settings on that host let it speak.
type Library struct {
	Name    string `json:"name,omitempty"`    // "OpenSSL 3", "GnuTLS", "Go"; "": not known
	Program string `json:"program,omitempty"` // that the card names, and that is linked to it
	// Sure is whether it is the library of that program; else it is the one
	// that most programs of the host use.
	Sure  bool   `json:"sure,omitempty"`
	Place string `json:"place,omitempty"` // of its settings
	Min   string `json:"min,omitempty"`   // "TLS 1.2"; "": as old as it can
	Max   string `json:"max,omitempty"`
	Level int    `json:"level"` // of security (SSL_CTX_set_security_level(3)); -1: not known
	// Suites is what it offers of TLS 1.2 and before, by number; NewSuites of
	// TLS 1.3, by name, where the settings name any. None: not known.
	Suites    []uint16 `json:"suites,omitempty"`
	NewSuites []string `json:"new_suites,omitempty"`
	Unread    string   `json:"unread,omitempty"` // why not all of it is known
}
