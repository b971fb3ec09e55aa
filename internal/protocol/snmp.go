package protocol

import "uakari/internal/fact"

// snmp is SNMP (RFC 3416, RFC 3414).
var snmp = Protocol{
	Name: "snmp",
	Schemes: []Scheme{
		{Name: "snmp", Port: 161, UDP: true, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
