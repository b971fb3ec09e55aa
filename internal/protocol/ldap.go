package protocol

import "uakari/internal/fact"

// ldap is LDAP (RFC 4511, result codes in appendix A), with the sub-codes that one directory writes into its text.
var ldap = Protocol{
	Name:    "ldap",
	Clients: LDAPConf,
	Schemes: []Scheme{
		{Name: "ldap", Port: 389, Security: fact.Plain, First: ClientFirst, Record: "_ldap._tcp"},
		{Name: "ldap+starttls", Port: 389, Security: fact.StartTLS, First: ClientFirst, Verify: true,
			Record: "_ldap._tcp"},
		{Name: "ldaps", Port: 636, Security: fact.TLS, First: ClientFirst, Verify: true, Record: "_ldaps._tcp"},
	},
	Accounts: true,
	Entries:  true,
	Codes: []Code{
		{"49", "policy: passwordExpired", "login/secret-expired", Coded},
		{"49", "policy: accountLocked", "login/locked", Coded},
		{"49", "80090346", "login/mechanism-off", Coded}, // the tie to the TLS session is missing
		{"49", "data 525", "login/unknown-account", Coded},
		{"49", "data 52e", "login/wrong-secret", Coded},
		{"49", "data 530", "login/policy-blocks", Told},
		{"49", "data 532", "login/secret-expired", Coded},
		{"49", "data 533", "login/disabled", Coded},
		{"49", "data 701", "login/account-expired", Coded},
		{"49", "data 773", "login/must-change", Coded},
		{"49", "data 775", "login/locked", Coded},
		{"49", "", "login/rejected", Vague},
		{"32", "", "login/rejected", Vague},
		{"8", "", "login/mechanism-off", Coded},
		{"13", "", "login/mechanism-off", Coded},
		{"48", "", "login/mechanism-off", Coded},
		{"50", "", "login/no-right", Coded},
		{"52", "", "login/directory-down", Told},
		{"51", "", "login/directory-down", Told},
		{"53", "", "login/rejected", Vague},
	},
	Policies: []Policy{
		{Key: `SYSTEM\CurrentControlSet\Services\NTDS\Parameters`, Name: "LDAPServerIntegrity", Values: []string{"2"},
			Says: "LDAP must be signed or encrypted", Refuses: []Code{{Code: "8"}}},
		{Key: `SYSTEM\CurrentControlSet\Services\NTDS\Parameters`, Name: "LdapEnforceChannelBinding",
			Values: []string{"2"}, Says: "a login over TLS must be tied to its session",
			Refuses: []Code{{Code: "49", Text: "80090346"}}},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
