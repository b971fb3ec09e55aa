package protocol

import "uakari/internal/fact"

// radius is RADIUS (RFC 2865), asked by its status (RFC 5997). A server answers none whose
// secret it does not share.
var radius = Protocol{
	Name: "radius",
	Schemes: []Scheme{
		{Name: "radius", Port: 1812, UDP: true, Security: fact.Plain, First: ClientFirst},
	},
	Shared: true,
	Codes: []Code{
		{"second-factor", "", "login/second-factor", Coded},
		{"", "", "login/rejected", Vague},
	},
	Door: []Door{
		{"secret", "", "login/wrong-secret", "it shares another secret with its clients"},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Alive": askedOnce},
}
