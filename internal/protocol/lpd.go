package protocol

import "uakari/internal/fact"

// lpd is the line printer's (RFC 1179).
var lpd = Protocol{
	Name: "lpd",
	Schemes: []Scheme{
		{Name: "lpd", Port: 515, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
