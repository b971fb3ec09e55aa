package protocol

import "uakari/internal/fact"

// mysql is MariaDB's and MySQL's own; refusals are numbers (their manuals, "Error Codes").
var mysql = Protocol{
	Name:    "mysql",
	Clients: OptionFiles,
	Schemes: []Scheme{
		{Name: "mysql", Aliases: []string{"mariadb"}, Port: 3306, Security: fact.StartTLS, First: ServerFirst},
	},
	Modes: &Modes{Key: "ssl-mode", Values: map[string]Mode{
		"disabled": {Security: fact.Plain}, "preferred": {Security: fact.StartTLS},
		"required":        {Security: fact.StartTLS, Insist: true},
		"verify_ca":       {Security: fact.StartTLS, Insist: true, Verify: true, AnyName: true},
		"verify_identity": {Security: fact.StartTLS, Insist: true, Verify: true},
	}, All: "disabled, preferred, required, verify_ca or verify_identity"},
	List:         fact.ListMySQL,
	AccountHosts: true,
	Stored:       []string{"option file", "MYSQL_PWD"},
	Codes: []Code{
		{"1045", "", "login/rejected", Vague},
		{"1698", "", "login/rejected", Vague}, // no such account, or one whose way is another
		{"1251", "", "login/mechanism-off", Coded},
		{"1524", "", "login/mechanism-off", Coded},
		{"mechanism", "", "login/mechanism-off", Coded},
		{"1044", "", "login/no-right", Coded},
		{"1049", "", "login/no-such-resource", Coded},
		{"1040", "", "login/too-many-sessions", Coded},
		{"1203", "", "login/too-many-sessions", Coded},
		{"1226", "", "login/too-many-sessions", Coded},
		{"1129", "", "login/host-blocked", Coded},
		{"1130", "", "login/not-from-here", Coded},
		{"4151", "", "login/locked", Coded},
		{"3118", "", "login/locked", Coded},
		{"4150", "", "login/locked", Coded},
		{"3955", "", "login/locked", Coded},
		{"1820", "", "login/must-change", Coded},
		{"1862", "", "login/secret-expired", Coded},
	},
	Door: []Door{
		{"1130", "", "answer/source-refused", "it refuses this client's address"},
		{"1129", "", "login/host-blocked", "it blocks this client's host after earlier errors"},
		{"1040", "", "login/too-many-sessions", "it has no session left"},
		{"1053", "", "answer/not-ready", "it is stopping"},
	},
	Without: map[string]string{"Log": inPrograms, "Alive": askedOnce},
}
