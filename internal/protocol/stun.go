package protocol

import "uakari/internal/fact"

// stun is STUN (RFC 8489).
var stun = Protocol{
	Name: "stun",
	Schemes: []Scheme{
		{Name: "stun", Port: 3478, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst,
			Record: "_stun._udp"},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
