package protocol

import "uakari/internal/fact"

// syslog is syslog (RFC 5426, RFC 6587, RFC 5425): it is never answered.
var syslog = Protocol{
	Name: "syslog",
	Mute: true,
	Schemes: []Scheme{
		{Name: "syslog", Port: 514, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst},
		{Name: "syslog+tcp", Port: 514, Open: true, Security: fact.Plain, First: NobodyKnows},
		{Name: "syslog+tls", Port: 6514, Open: true, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
}
