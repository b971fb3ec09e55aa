package protocol

import "uakari/internal/fact"

// proxy is a proxy of HTTP that is asked for a tunnel to what the endpoint
// names behind its host (RFC 9110 section 9.3.6).
var proxy = Protocol{
	Name: "proxy",
	Schemes: []Scheme{
		{Name: "proxy", Port: 3128, Also: []uint16{8080}, Security: fact.Plain, First: ClientFirst},
		{Name: "proxy+tls", Port: 3129, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded},
		{"407", "", "login/rejected", Vague},
		{"403", "", "login/no-right", Told},
	},
	Door: []Door{
		{"403", "", "answer/source-refused", "it gives no such tunnel to this client"},
		{"502", "", "answer/hop-fails", "it does not reach what the tunnel leads to"},
		{"503", "", "answer/hop-fails", "it does not reach what the tunnel leads to"},
		{"504", "", "answer/hop-fails", "it gets no answer from what the tunnel leads to"},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Alive": askedOnce},
}
