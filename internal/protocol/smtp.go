package protocol

import "uakari/internal/fact"

// smtp is SMTP (RFC 5321), logins by RFC 4954 with the enhanced codes of RFC 3463.
var smtp = Protocol{
	Name: "smtp",
	Schemes: []Scheme{
		{Name: "smtp", Port: 25, Security: fact.StartTLS, First: ServerFirst},
		{
			Name:     "submission",
			Port:     587,
			Security: fact.StartTLS,
			First:    ServerFirst,
			Verify:   true,
			Record:   "_submission._tcp",
		},
		{
			Name:     "smtps",
			Aliases:  []string{"submissions"},
			Port:     465,
			Security: fact.TLS,
			First:    ServerFirst,
			Verify:   true,
			Record:   "_submissions._tcp",
		},
	},
	Alive:     "NOOP\r\n",
	DoorLater: true,
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded},
		{"535*", "", "login/rejected", Vague},
		{"534*", "", "login/mechanism-off", Coded},
		{"538*", "", "login/mechanism-off", Coded},
		{"504*", "", "login/mechanism-off", Coded},
		{"503*", "", "login/mechanism-off", Told},
		{"530*", "", "login/mechanism-off", Told},
		{"454*", "", "login/directory-down", Told},
	},
	Door: []Door{
		{"421", "oo many", "login/too-many-sessions", "it has no session left for this client"},
	},
	Log: []LogLine{
		{"user not found", "login/unknown-account"}, {"authentication failure", "login/wrong-secret"},
	},
	Without: map[string]string{"Stored": nothingKept},
}
