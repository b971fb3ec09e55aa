package protocol

import "uakari/internal/fact"

// socks5 is SOCKS version 5 (RFC 1928, RFC 1929).
var socks5 = Protocol{
	Name: "socks5",
	Schemes: []Scheme{
		{Name: "socks5", Port: 1080, Security: fact.Plain, First: ClientFirst},
	},
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded}, {"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
