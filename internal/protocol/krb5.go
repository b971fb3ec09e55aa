package protocol

import "uakari/internal/fact"

// krb5 is Kerberos (RFC 4120, error codes in section 7.5.9).
var krb5 = Protocol{
	Name: "krb5",
	Schemes: []Scheme{
		{
			Name:     "kerberos",
			Aliases:  []string{"krb5"},
			Port:     88,
			Security: fact.Plain,
			First:    ClientFirst,
			Record:   "_kerberos._tcp",
		},
	},
	Tickets: true,
	Stored:  []string{"tickets"},
	Codes: []Code{
		{"6", "", "login/unknown-account", Coded},
		{"18", "", "login/locked", Told},
		{"1", "", "login/account-expired", Coded},
		{"23", "", "login/secret-expired", Coded},
		{"24", "", "login/wrong-secret", Coded},
		{"37", "", "login/clock-skew", Coded},
		{"14", "", "login/mechanism-off", Coded},
		{"12", "", "login/policy-blocks", Told},
		{"7", "", "login/no-principal", Coded},
		{"8", "", "login/duplicate-principal", Coded},
		{"27", "", "login/no-principal", Told},
		{"13", "", "login/policy-blocks", Told},
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Door": noDoor, "Alive": askedOnce},
}
