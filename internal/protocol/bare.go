package protocol

import "uakari/internal/fact"

// bare is a connection of which nothing more is known.
var bare = Protocol{
	Mute: true,
	Schemes: []Scheme{
		{Name: "tls", Security: fact.TLS, First: ClientFirst, Verify: true},
		{Name: "tcp", Security: fact.Plain, First: NobodyKnows},
		{Name: "udp", UDP: true, Security: fact.Plain, First: NobodyKnows},
	},
}
