package protocol

import "uakari/internal/fact"

// memcached is memcached's text protocol.
var memcached = Protocol{
	Name: "memcached",
	Schemes: []Scheme{
		{Name: "memcached", Port: 11211, Security: fact.Plain, First: ClientFirst},
	},
}
