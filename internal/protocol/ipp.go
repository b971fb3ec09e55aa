package protocol

import "uakari/internal/fact"

// ipp is printing over HTTP (RFC 8010).
var ipp = Protocol{
	Name: "ipp",
	Over: "http",
	Schemes: []Scheme{
		{Name: "ipp", Port: 631, Security: fact.Plain, First: ClientFirst},
		{Name: "ipps", Port: 631, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
}
