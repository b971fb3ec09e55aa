package protocol

import "uakari/internal/fact"

// dcerpc is the mapper of DCE RPC (C706, appendix O).
var dcerpc = Protocol{
	Name: "dcerpc",
	Schemes: []Scheme{
		{Name: "dcerpc", Port: 135, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Maps:    true,
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
