package protocol

import "uakari/internal/fact"

// finger is the name server of users (RFC 1288).
var finger = Protocol{
	Name: "finger",
	Schemes: []Scheme{
		{Name: "finger", Port: 79, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
