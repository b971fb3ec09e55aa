package protocol

import "uakari/internal/fact"

// ntp is NTP (RFC 5905).
var ntp = Protocol{
	Name: "ntp",
	Schemes: []Scheme{
		{Name: "ntp", Port: 123, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst, Record: "_ntp._udp"},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
