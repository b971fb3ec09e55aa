package protocol

import "uakari/internal/fact"

const lanmanServer = `SYSTEM\CurrentControlSet\Services\LanmanServer\Parameters`

// smb is SMB (MS-SMB2); refusals are status codes (MS-ERREF section 2.3.1).
var smb = Protocol{
	Name: "smb",
	Schemes: []Scheme{
		{Name: "smb", Port: 445, Security: fact.Plain, First: ClientFirst},
	},
	Codes: []Code{
		{"C0000064", "", "login/unknown-account", Coded},
		{"C000006A", "", "login/wrong-secret", Coded},
		{"C0000234", "", "login/locked", Coded},
		{"C0000072", "", "login/disabled", Coded},
		{"C0000193", "", "login/account-expired", Coded},
		{"C0000071", "", "login/secret-expired", Coded},
		{"C0000224", "", "login/must-change", Coded},
		{"C000006F", "", "login/policy-blocks", Told},
		{"C0000070", "", "login/not-from-here", Coded},
		{"C000006E", "", "login/policy-blocks", Told},
		{"C000015B", "", "login/no-right", Coded},
		{"C0000022 share", "", "login/no-right", Coded},
		{"C0000022", "", "login/no-right", Told},
		{"C00000CC", "", "login/no-such-resource", Coded},
		{"C00000D0", "", "login/too-many-sessions", Coded},
		{"C0000133", "", "login/clock-skew", Coded},
		{"C000005E", "", "login/directory-down", Coded},
		{"C0000192", "", "login/directory-down", Coded},
		{"C00000BB", "", "login/mechanism-off", Told},
		{"", "", "login/rejected", Vague},
	},
	HostAccountsOn: "windows",
	Policies: []Policy{
		{Key: lanmanServer, Name: "RequireSecuritySignature", Values: []string{"1"}, Says: "sessions must be signed"},
		{Key: lanmanServer, Name: "EncryptData", Values: []string{"1"}, Says: "sessions must be encrypted"},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
