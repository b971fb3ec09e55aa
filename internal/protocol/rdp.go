package protocol

import "uakari/internal/fact"

// rdp is the remote desktop's (MS-RDPBCGR), of which its negotiation.
var rdp = Protocol{
	Name: "rdp",
	Schemes: []Scheme{
		{Name: "rdp", Port: 3389, Security: fact.StartTLS, First: ClientFirst},
	},
	LogonRights:    [2]string{"SeRemoteInteractiveLogonRight", "SeDenyRemoteInteractiveLogonRight"},
	HostAccountsOn: "windows",
	Policies: []Policy{
		{Key: `SOFTWARE\Policies\Microsoft\Windows NT\Terminal Services`, Name: "fDenyTSConnections",
			Values: []string{"1"}, Says: "it takes no remote desktops", Shuts: true},
		{Key: `SYSTEM\CurrentControlSet\Control\Terminal Server`, Name: "fDenyTSConnections",
			Values: []string{"1"}, Says: "it takes no remote desktops", Shuts: true},
		{Key: `SYSTEM\CurrentControlSet\Control\Terminal Server\WinStations\RDP-Tcp`, Name: "UserAuthentication",
			Values: []string{"1"}, Says: "an account is wanted before the session"},
		{Key: `SYSTEM\CurrentControlSet\Control\Terminal Server\WinStations\RDP-Tcp`, Name: "SecurityLayer",
			Values: []string{"2"}, Says: "sessions must be under TLS"},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
