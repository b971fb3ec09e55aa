package protocol

import "uakari/internal/fact"

// memcached is memcached's text protocol.
var memcached = Protocol{
	Name: "memcached",
	Schemes: []Scheme{
		{Name: "memcached", Port: 11211, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
