package protocol

import "uakari/internal/fact"

// radius is RADIUS (RFC 2865).
var radius = Protocol{
	Name: "radius",
	Mute: true, // it answers none whose secret it does not share
	Schemes: []Scheme{
		{Name: "radius", Port: 1812, UDP: true, Security: fact.Plain, First: ClientFirst},
	},
}
