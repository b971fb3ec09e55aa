package protocol

import "uakari/internal/fact"

// ssh is SSH (RFC 4251 to 4254); lines of OpenSSH's log.
var ssh = Protocol{
	Name: "ssh",
	Schemes: []Scheme{
		{Name: "ssh", Aliases: []string{"sftp"}, Port: 22, Security: fact.Plain, First: ServerFirst},
	},
	Settings:     true,
	List:         fact.ListSSH,
	HostKeys:     true,
	HostAccounts: true,
	Stored:       []string{"SSH keys"},
	Codes: []Code{
		{"second-factor", "", "login/second-factor", Coded},
		{"too-many", "", "login/key-refused", Told},
		{"mechanism", "", "login/mechanism-off", Coded},
		{"", "", "login/rejected", Vague},
	},
	Door: []Door{
		{"", "Exceeded MaxStartups", "login/too-many-sessions", "too many others are about to log in"},
		{"", "Not allowed at this time", "login/host-blocked", "it blocks this client's host after earlier failures"},
	},
	Log: []LogLine{
		{"not allowed because account is locked", "login/locked"},
		{"account temporarily locked", "login/locked"},
		{"with correct key but not from a permitted host", "login/not-from-here"},
		{"access denied for user", "login/not-from-here"},
		{keyNotTaken, "login/key-refused"}, {"not met by user", "login/no-right"},
		{"not allowed because not listed in AllowUsers", "login/no-right"},
		{"not allowed because not in any group", "login/missing-group"},
		{"not allowed because none of user's groups are listed in AllowGroups", "login/missing-group"},
		{"not allowed because listed in DenyUsers", "login/no-right"},
		{"not allowed because a group is listed in DenyGroups", "login/no-right"},
		{"not allowed because shell", "login/disabled"},
		{"ROOT LOGIN REFUSED", "login/not-from-here"},
		{"(account expired)", "login/account-expired"},
		{"account has expired", "login/account-expired"},
		{"Account expired", "login/account-expired"},
		// "invalid user" in later lines is said of barred accounts too.
		{"Invalid user ", "login/unknown-account"},
		{"expired password", "login/secret-expired"},
		{"password has expired", "login/secret-expired"},
		{"nologin", "login/closed-for-all"},
		{"System is going down", "login/closed-for-all"},
		{"Partial password for", "login/second-factor"},
		{"Partial publickey for", "login/second-factor"},
		{"Partial keyboard-interactive", "login/second-factor"},
		{"bad ownership or modes", "login/key-too-open"},
		{"Failed publickey for", "login/key-refused"},
		{"Failed password for", "login/wrong-secret"},
	},
	Without: map[string]string{"Alive": askedOnce},
}
