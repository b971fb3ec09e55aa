package protocol

import "uakari/internal/fact"

// amqp is AMQP 0-9-1.
var amqp = Protocol{
	Name: "amqp",
	Schemes: []Scheme{
		{Name: "amqp", Port: 5672, Security: fact.Plain, First: ClientFirst},
		{Name: "amqps", Port: 5671, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded},
		{"403", "", "login/rejected", Vague},
		{"530", "not found", "login/no-such-resource", Coded},
		{"530", "refused for user", "login/no-right", Coded},
		{"530", "", "login/no-right", Told},
		{"402", "", "login/no-such-resource", Coded},
		{"320", "", "login/policy-blocks", Told},
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
