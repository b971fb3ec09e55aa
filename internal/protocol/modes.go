package protocol

import "uakari/internal/fact"

// Modes is what a parameter of connection URLs says about security.
type Modes struct {
	Key    string
	Values map[string]Mode // in small letters
	All    string          // how the values are told
}

// Mode is what clients do that are told so.
type Mode struct {
	Security fact.Security
	Verify   bool // they check the server's certificate
	Insist   bool // they go without TLS in no case
	AnyName  bool // they take a certificate of any name
}
