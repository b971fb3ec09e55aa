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
	Problems []string   `json:"problems"` // what keeps this client from accepting them
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

// Coverage is whether the certificate covers one name.
type Coverage struct {
	Name    string `json:"name"`
	Covered bool   `json:"covered"`
}
