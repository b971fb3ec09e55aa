package trail

import "time"

// CertList is what was judged of a chain of certificates ("uakari.certs/1").
type CertList struct {
	Format   string     `json:"format"`
	Of       string     `json:"of"` // the endpoint or files
	Chain    []Cert     `json:"chain"`
	Root     string     `json:"root,omitempty"` // the trusted root that the path ends at
	Store    string     `json:"store,omitempty"`
	Names    []Coverage `json:"names"`
	Needs    []CertNeed `json:"needs,omitempty"` // of both sides of an endpoint
	Problems []string   `json:"problems"`        // what keeps this client from accepting them
	Doubts   []string   `json:"doubts"`
	Why      string     `json:"why,omitempty"` // why no certificate was seen
}

// Cert is one certificate, in the order sent.
type Cert struct {
	Subject     string    `json:"subject"`
	Issuer      string    `json:"issuer"`
	NotBefore   time.Time `json:"not_before"`
	NotAfter    time.Time `json:"not_after"`
	DaysLeft    int       `json:"days_left"`
	Covers      []string  `json:"covers,omitempty"`
	Fingerprint string    `json:"fingerprint"` // SHA-256, in hexadecimal
	Key         string    `json:"key"`         // "RSA 2048"
	Signature   string    `json:"signature"`
	Authority   bool      `json:"authority,omitempty"`
	// By is the place in the chain, from 0, of the one that vouches for it; -1:
	// none that was sent.
	By int `json:"by"`
}

// CertNeed is a certificate that one side must send, or have in its store.
type CertNeed struct {
	Host        string `json:"host"`
	Does        string `json:"does"` // "sends", "presents" (a client), or "trusts"
	What        string `json:"what"`
	Fingerprint string `json:"fingerprint,omitempty"` // SHA-256, in hexadecimal
	State       string `json:"state"`                 // "present", "absent" or "unseen"
	Place       string `json:"place,omitempty"`       // the store
}

// Coverage is whether the certificate covers one name.
type Coverage struct {
	Name    string `json:"name"`
	Covered bool   `json:"covered"`
}
