package protocol

import "uakari/internal/fact"

// tftp is TFTP (RFC 1350).
var tftp = Protocol{
	Name: "tftp",
	Mute: true, // its answers come from another port
	Schemes: []Scheme{
		{Name: "tftp", Port: 69, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst},
	},
}
