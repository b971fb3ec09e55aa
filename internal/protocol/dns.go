package protocol

import "uakari/internal/fact"

// dns is DNS (RFC 1035, RFC 7766 over TCP).
var dns = Protocol{
	Name: "dns",
	Schemes: []Scheme{
		{Name: "dns", Port: 53, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst},
		{Name: "dns+tcp", Port: 53, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
