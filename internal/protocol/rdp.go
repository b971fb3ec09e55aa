package protocol

import "uakari/internal/fact"

// rdp is the remote desktop's (MS-RDPBCGR), of which its negotiation.
var rdp = Protocol{
	Name: "rdp",
	Schemes: []Scheme{
		{Name: "rdp", Port: 3389, Security: fact.StartTLS, First: ClientFirst},
	},
	LogonRights: [2]string{"SeRemoteInteractiveLogonRight", "SeDenyRemoteInteractiveLogonRight"},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
