package protocol

import "uakari/internal/fact"

// nfs is NFS (RFC 1813), over ONC RPC.
var nfs = Protocol{
	Name: "nfs",
	Schemes: []Scheme{
		{Name: "nfs", Port: 2049, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
