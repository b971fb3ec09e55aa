package protocol

import "uakari/internal/fact"

// imap is IMAP (RFC 9051), response codes of RFC 5530.
var imap = Protocol{
	Name: "imap",
	Schemes: []Scheme{
		// Clients that are set to no more than this encrypt where they can, and look no further.
		{Name: "imap", Port: 143, Security: fact.StartTLS, First: ServerFirst, Record: "_imap._tcp"},
		{Name: "imap+starttls", Port: 143, Security: fact.StartTLS, First: ServerFirst, Verify: true,
			Record: "_imap._tcp"},
		{Name: "imaps", Port: 993, Security: fact.TLS, First: ServerFirst, Verify: true, Record: "_imaps._tcp"},
	},
	Alive: "u9 NOOP\r\n",
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded},
		{"AUTHENTICATIONFAILED", "", "login/rejected", Vague},
		{"AUTHORIZATIONFAILED", "", "login/no-right", Coded},
		{"EXPIRED", "", "login/secret-expired", Coded},
		{"PRIVACYREQUIRED", "", "login/mechanism-off", Coded},
		{"UNAVAILABLE", "aximum number of connections", "login/too-many-sessions", Coded},
		{"UNAVAILABLE", "", "login/directory-down", Coded},
		{"LIMIT", "", "login/too-many-sessions", Coded},
		{"NO", "", "login/rejected", Vague},
	},
	Door: []Door{
		{"", "Auth process broken", "login/directory-down", "what it checks accounts with does not run"},
		{"", "oo many", "login/too-many-sessions", "it has no session left for this client"},
		{"", "aximum number of connections", "login/too-many-sessions", "it has no session left for this client"},
	},
	Log: []LogLine{
		{"unknown user", "login/unknown-account"},
		{userUnknown, "login/unknown-account"},
		{"Password mismatch?", "login/wrong-secret"}, // of PAM, which does not say what it was
		{"Password mismatch", "login/wrong-secret"},
		{"password mismatch", "login/wrong-secret"},
		{"account disabled", "login/disabled"},
	},
	Without: map[string]string{"Stored": nothingKept},
}
