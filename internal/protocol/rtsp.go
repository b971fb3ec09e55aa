package protocol

import "uakari/internal/fact"

// rtsp is RTSP (RFC 7826).
var rtsp = Protocol{
	Name: "rtsp",
	Schemes: []Scheme{
		{Name: "rtsp", Port: 554, Also: []uint16{8554}, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
