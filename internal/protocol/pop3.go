package protocol

import "uakari/internal/fact"

// pop3 is POP3 (RFC 1939), TLS by RFC 2595.
var pop3 = Protocol{
	Name: "pop3",
	Schemes: []Scheme{
		// As with IMAP: who checks the server, says so.
		{Name: "pop3", Port: 110, Security: fact.StartTLS, First: ServerFirst, Record: "_pop3._tcp"},
		{Name: "pop3+starttls", Port: 110, Security: fact.StartTLS, First: ServerFirst, Verify: true,
			Record: "_pop3._tcp"},
		{Name: "pop3s", Port: 995, Security: fact.TLS, First: ServerFirst, Verify: true, Record: "_pop3s._tcp"},
	},
	Codes: []Code{
		{"AUTH", "", "login/rejected", Vague}, // RFC 3206
		{"IN-USE", "", "login/too-many-sessions", Coded},
		{"LOGIN-DELAY", "", "login/host-blocked", Told},
		{"SYS/TEMP", "", "login/directory-down", Told},
		{"SYS/PERM", "", "login/no-such-resource", Told},
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
