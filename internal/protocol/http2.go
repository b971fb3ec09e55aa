package protocol

import "uakari/internal/fact"

// http2 is HTTP/2 (RFC 9113), under gRPC.
var http2 = Protocol{
	Name:   "http2",
	Speaks: []string{"h2"},
	Schemes: []Scheme{
		{Name: "grpc", Port: 50051, Security: fact.Plain, First: ClientFirst},
		{Name: "grpcs", Port: 443, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
