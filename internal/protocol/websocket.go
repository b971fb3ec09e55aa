package protocol

import "uakari/internal/fact"

// websocket is WebSocket (RFC 6455).
var websocket = Protocol{
	Name: "websocket",
	Schemes: []Scheme{
		{Name: "ws", Port: 80, Security: fact.Plain, First: ClientFirst},
		{Name: "wss", Port: 443, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
