package protocol

import "uakari/internal/fact"

// Modes is what a parameter of connection URLs says about security.
type Modes struct {
	Key    string
	Values map[string]Mode // in small letters
	All    string          // how the values are told
	// Moving is the parameters that say where to go, in place of what stands before the
	// path.
	Moving []string
	// Browser is the scheme that tells which port a named instance has.
	Browser string
}

// Mode is what clients do that are told so.
type Mode struct {
	Security fact.Security
	Verify   bool // they check the server's certificate
	Insist   bool // they go without TLS in no case
	AnyName  bool // they take a certificate of any name
}
