package fact

import "time"

// MostPairs is how many pairs are kept; where there are so many, there may be
// more.
const MostPairs = 50

// CertFiles is the certificates and keys that a service's settings name. Of a
// key no more is kept than whether it belongs to its certificate.
type CertFiles struct {
	Pairs  []CertPair    `json:"pairs"`
	Stores []ClientStore `json:"stores,omitempty"`
}

// ClientStore is the certificates by which a service judges those of its
// clients.
type ClientStore struct {
	Program string   `json:"program"`
	Place   string   `json:"place"` // where the settings name it
	Names   []string `json:"names,omitempty"`
	Ports   []uint16 `json:"ports,omitempty"`
	Path    string   `json:"path"`
	Demands bool     `json:"demands,omitempty"` // a client without a certificate is turned away
	Roots   [][]byte `json:"roots,omitempty"`   // DER
	Wrong   string   `json:"wrong,omitempty"`   // why the service cannot use it
	Unread  string   `json:"unread,omitempty"`
}

// CertPair is one certificate file with the key for it.
type CertPair struct {
	Program string   `json:"program"`
	Place   string   `json:"place"`           // where the settings name it: "/etc/nginx/nginx.conf:12"
	Names   []string `json:"names,omitempty"` // of the hosts that the settings give it to
	Ports   []uint16 `json:"ports,omitempty"` // on which it is served, as far as the settings say
	// Versions is the versions of TLS that are spoken with it, in the settings' words; "" where
	// they say nothing.
	Versions string `json:"versions,omitempty"`

	Cert    string    `json:"cert"`
	Chain   [][]byte  `json:"chain,omitempty"` // DER, as the file has them
	Changed time.Time `json:"changed,omitzero"`
	Key     string    `json:"key,omitempty"`
	// Belongs is whether the key belongs to the first certificate; nil: that
	// could not be seen.
	Belongs *bool `json:"belongs,omitempty"`
	// Wrong is why the service cannot use the files: "no such file", "no
	// certificate in it", "openldap may not read it".
	Wrong string `json:"wrong,omitempty"`
	// Unread is why this look could not read them.
	Unread string `json:"unread,omitempty"`
}
