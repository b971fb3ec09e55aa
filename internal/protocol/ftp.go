package protocol

import "uakari/internal/fact"

// ftp is FTP (RFC 959), TLS by RFC 4217.
var ftp = Protocol{
	Name: "ftp",
	Schemes: []Scheme{
		{Name: "ftp", Port: 21, Security: fact.StartTLS, First: ServerFirst},
	},
}
