package protocol

import "uakari/internal/fact"

// mongodb is the wire protocol of MongoDB: its hello, and signing in by SCRAM.
var mongodb = Protocol{
	Name: "mongodb",
	Schemes: []Scheme{
		{Name: "mongodb", Port: 27017, Security: fact.Plain, First: ClientFirst},
	},
	Codes: []Code{
		{"13", "", "login/no-right", Coded},
		{"334", "", "login/mechanism-off", Coded},
		{"18", "", "login/rejected", Vague},
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{
		"Log":    inPrograms,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
