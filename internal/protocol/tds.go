package protocol

import "uakari/internal/fact"

// tds is the Tabular Data Stream of SQL servers (MS-TDS); refusals are numbers
// of errors, whose reason stands in the server's own log.
var tds = Protocol{
	Name: "tds",
	Schemes: []Scheme{
		{Name: "mssql", Aliases: []string{"sqlserver"}, Port: 1433, Security: fact.StartTLS, First: ClientFirst},
	},
	Speaks: []string{"tds/8.0"},
	Codes: []Code{
		{"encryption", "", "settings/wrong-security", Coded},
		{"4060", "", "login/no-such-resource", Told},
		{"4064", "", "login/no-such-resource", Told},
		{"18452", "", "login/mechanism-off", Told},
		{"18470", "", "login/disabled", Coded},
		{"18486", "", "login/locked", Coded},
		{"18487", "", "login/secret-expired", Coded},
		{"18488", "", "login/must-change", Coded},
		{"18451", "", "login/closed-for-all", Coded},
		{"18461", "", "login/closed-for-all", Coded},
		{"17142", "", "answer/not-ready", Coded},
		{"17188", "", "answer/not-ready", Coded},
		{"17189", "", "login/too-many-sessions", Told},
		{"17809", "", "login/too-many-sessions", Coded},
		{"916", "", "login/no-right", Coded},
		{"18456", "", "login/rejected", Vague},
		{"", "", "login/rejected", Vague},
	},
	Door: []Door{{"encryption", "", "settings/wrong-security", "it takes encrypted sessions alone"}},
	Modes: &Modes{Key: "encrypt", Values: map[string]Mode{
		"disable": {Security: fact.Plain}, "no": {Security: fact.StartTLS}, "false": {Security: fact.StartTLS},
		"optional":  {Security: fact.StartTLS},
		"yes":       {Security: fact.StartTLS, Insist: true, Verify: true},
		"true":      {Security: fact.StartTLS, Insist: true, Verify: true},
		"mandatory": {Security: fact.StartTLS, Insist: true, Verify: true},
		"strict":    {Security: fact.TLS, Insist: true, Verify: true},
	}, All: "disable, optional (no, false), mandatory (yes, true) or strict", Browser: "mssql-browser"},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Alive": askedOnce},
}
