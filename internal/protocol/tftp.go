package protocol

import "uakari/internal/fact"

// tftp is TFTP (RFC 1350).
var tftp = Protocol{
	Name: "tftp",
	Schemes: []Scheme{
		{Name: "tftp", Port: 69, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
