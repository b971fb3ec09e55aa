package protocol

import "uakari/internal/fact"

// git is the daemon of Git (its manual, "git protocol").
var git = Protocol{
	Name: "git",
	Schemes: []Scheme{
		{Name: "git", Port: 9418, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
