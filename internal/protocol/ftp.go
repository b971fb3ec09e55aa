package protocol

import "uakari/internal/fact"

// ftp is FTP (RFC 959), TLS by RFC 4217.
var ftp = Protocol{
	Name: "ftp",
	Schemes: []Scheme{
		{Name: "ftp", Port: 21, Security: fact.StartTLS, First: ServerFirst},
	},
	Codes: []Code{
		{"421", "", "login/too-many-sessions", Told},
		{"530", "", "login/rejected", Vague},
		{"534", "", "login/mechanism-off", Coded}, // RFC 2228 section 5
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
