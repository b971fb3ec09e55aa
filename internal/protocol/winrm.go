package protocol

import "uakari/internal/fact"

// winrm is remote management of Windows (MS-WSMV), asked over HTTP.
var winrm = Protocol{
	Name:           "winrm",
	Over:           "http",
	HostAccountsOn: "windows",
	Policies: []Policy{
		{Key: `SOFTWARE\Policies\Microsoft\Windows\WinRM\Service`, Name: "AllowBasic", Values: []string{"0"},
			Says: "nobody signs in by name and password alone", Refuses: []Code{{Code: "mechanism"}}},
		{Key: `SOFTWARE\Microsoft\Windows\CurrentVersion\WSMAN\Service`, Name: "auth_basic", Values: []string{"0"},
			Says: "nobody signs in by name and password alone", Refuses: []Code{{Code: "mechanism"}}},
		{Key: `SOFTWARE\Policies\Microsoft\Windows\WinRM\Service`, Name: "AllowUnencryptedTraffic",
			Values: []string{"0"}, Says: "messages must be encrypted"},
	},
	Schemes: []Scheme{
		{Name: "winrm", Port: 5985, Security: fact.Plain, First: ClientFirst},
		{Name: "winrms", Port: 5986, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
}
