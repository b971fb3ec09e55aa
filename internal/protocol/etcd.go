package protocol

import "uakari/internal/fact"

// etcd is etcd's, asked over HTTP.
var etcd = Protocol{
	Name: "etcd",
	Over: "http",
	Schemes: []Scheme{
		{Name: "etcd", Port: 2379, Security: fact.Plain, First: ClientFirst},
		{Name: "etcds", Port: 2379, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
}
