package protocol

import "uakari/internal/fact"

// nats is the client protocol of NATS.
var nats = Protocol{
	Name: "nats",
	Schemes: []Scheme{
		{Name: "nats", Port: 4222, Security: fact.Plain, First: ServerFirst},
	},
	Codes: []Code{
		{"-ERR", "maximum connections", "login/too-many-sessions", Coded},
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
