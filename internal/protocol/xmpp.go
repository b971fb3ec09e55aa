package protocol

import "uakari/internal/fact"

// xmpp is XMPP (RFC 6120, refusals in section 6.5).
var xmpp = Protocol{
	Name: "xmpp",
	Schemes: []Scheme{
		{Name: "xmpp", Port: 5222, Security: fact.StartTLS, First: ClientFirst, Verify: true,
			Record: "_xmpp-client._tcp"},
		{Name: "xmpps", Port: 5223, Security: fact.TLS, First: ClientFirst, Verify: true,
			Record: "_xmpps-client._tcp"},
	},
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded},
		{"account-disabled", "", "login/disabled", Coded},
		{"credentials-expired", "", "login/secret-expired", Coded},
		{"encryption-required", "", "settings/wrong-security", Coded},
		{"invalid-mechanism", "", "login/mechanism-off", Coded},
		{"temporary-auth-failure", "", "login/directory-down", Told},
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
