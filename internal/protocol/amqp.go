package protocol

import "uakari/internal/fact"

// amqp is AMQP 0-9-1.
var amqp = Protocol{
	Name: "amqp",
	Schemes: []Scheme{
		{Name: "amqp", Port: 5672, Security: fact.Plain, First: ClientFirst},
		{Name: "amqps", Port: 5671, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
}
