package protocol

import "uakari/internal/fact"

// mongodb is the wire protocol of MongoDB, of which its hello.
var mongodb = Protocol{
	Name: "mongodb",
	Schemes: []Scheme{
		{Name: "mongodb", Port: 27017, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
