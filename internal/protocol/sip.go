package protocol

import "uakari/internal/fact"

// sip is SIP (RFC 3261).
var sip = Protocol{
	Name: "sip",
	Schemes: []Scheme{
		{Name: "sip", Port: 5060, UDP: true, Security: fact.Plain, First: ClientFirst, Record: "_sip._udp"},
		{Name: "sip+tcp", Port: 5060, Security: fact.Plain, First: ClientFirst, Record: "_sip._tcp"},
		{Name: "sips", Port: 5061, Security: fact.TLS, First: ClientFirst, Verify: true, Record: "_sips._tcp"},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
