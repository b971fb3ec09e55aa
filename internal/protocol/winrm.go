package protocol

import "uakari/internal/fact"

// winrm is remote management of Windows (MS-WSMV), asked over HTTP.
var winrm = Protocol{
	Name: "winrm",
	Over: "http",
	Schemes: []Scheme{
		{Name: "winrm", Port: 5985, Security: fact.Plain, First: ClientFirst},
		{Name: "winrms", Port: 5986, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
}
