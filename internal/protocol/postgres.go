package protocol

import "uakari/internal/fact"

// postgres is PostgreSQL's own (its manual, "Frontend/Backend Protocol"); refusals are SQLSTATEs (appendix A).
var postgres = Protocol{
	Name:    "postgres",
	Clients: Libpq,
	Schemes: []Scheme{
		{Name: "postgres", Aliases: []string{"postgresql"}, Port: 5432, Security: fact.StartTLS, First: ClientFirst},
	},
	Modes: &Modes{Key: "sslmode", Values: map[string]Mode{
		"disable": {Security: fact.Plain}, "allow": {Security: fact.StartTLS}, "prefer": {Security: fact.StartTLS},
		"require":     {Security: fact.StartTLS, Insist: true},
		"verify-ca":   {Security: fact.StartTLS, Insist: true, Verify: true, AnyName: true},
		"verify-full": {Security: fact.StartTLS, Insist: true, Verify: true},
	}, All: "disable, allow, prefer, require, verify-ca or verify-full",
		Moving: []string{"host", "hostaddr", "port", "dbname"}},
	Settings:  true,
	Accounts:  true,
	List:      fact.ListHBA,
	OwnSecret: "password authentication failed",
	Stored:    []string{"service file", "PGPASSWORD", "password file"},
	Codes: []Code{
		{"28000", "no pg_hba.conf entry", "login/not-from-here", Coded},
		{"28000", "pg_hba.conf rejects", "login/not-from-here", Coded},
		{"28000", "is not permitted to log in", "login/disabled", Coded},
		{"28000", "does not exist", "login/unknown-account", Coded},
		{"28000", "requires a valid client certificate", "login/mechanism-off", Coded},
		{"28000", "Peer authentication failed", "login/mechanism-off", Coded},
		{"28000", "Ident authentication failed", "login/mechanism-off", Coded},
		{"28000", "ClientAuthentication", "login/not-from-here", Told}, // in whatever language
		{"mechanism", "", "login/mechanism-off", Coded},
		{"28P01", "", "login/rejected", Vague},
		{"28000", "", "login/rejected", Vague},
		{"55000", "not currently accepting connections", "login/closed-for-all", Coded},
		{"3D000", "", "login/no-such-resource", Coded},
		{"53300", "", "login/too-many-sessions", Coded},
		{"57P03", "", "answer/not-ready", Coded},
		{"57P0*", "", "answer/not-ready", Coded},
		{"42501", "", "login/no-right", Coded},
	},
	Door: []Door{
		{"53300", "", "login/too-many-sessions", "it has no session left"},
		{"57P03", "", "answer/not-ready", "it is not ready"},
		{"57P01", "", "answer/not-ready", "it is stopping"},
	},
	Log: []LogLine{
		{`FATAL:  database "`, "login/no-such-resource"}, {`LOG:  database "`, "login/no-such-resource"},
		{"does not exist", "login/unknown-account"},
		{"has an expired password", "login/secret-expired"},
		{"has no password assigned", "login/wrong-secret"},
		{"Password does not match", "login/wrong-secret"}, {"no pg_hba.conf entry", "login/not-from-here"},
	},
	Without: map[string]string{"Alive": askedOnce},
}
