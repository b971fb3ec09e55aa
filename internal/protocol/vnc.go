package protocol

import "uakari/internal/fact"

// vnc is the remote framebuffer protocol (RFC 6143).
var vnc = Protocol{
	Name: "vnc",
	Schemes: []Scheme{
		{Name: "vnc", Port: 5900, Also: []uint16{5901}, Security: fact.Plain, First: ServerFirst},
	},
}
