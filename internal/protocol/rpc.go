package protocol

import "uakari/internal/fact"

// rpc is the mapper of ONC RPC (RFC 1833).
var rpc = Protocol{
	Name: "rpc",
	Schemes: []Scheme{
		{Name: "rpc", Port: 111, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Maps:    true,
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
