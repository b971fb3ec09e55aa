package protocol

import "uakari/internal/fact"

// rsync is the rsync daemon's.
var rsync = Protocol{
	Name: "rsync",
	Schemes: []Scheme{
		{Name: "rsync", Port: 873, Security: fact.Plain, First: ServerFirst},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
