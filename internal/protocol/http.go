package protocol

import "uakari/internal/fact"

// WebScheme is the scheme of a page, encrypted or not.
func WebScheme(s fact.Security) string {
	if s == fact.TLS {
		return "https"
	}
	return "http"
}

// http is HTTP (RFC 9110); logins by its challenges.
var http = Protocol{
	Name:    "http",
	Clients: WebPrograms,
	Schemes: []Scheme{
		{Name: "https", Port: 443, Also: []uint16{8443}, Security: fact.TLS, First: ClientFirst, Verify: true},
		{Name: "http", Port: 80, Also: []uint16{8080}, Security: fact.Plain, First: ClientFirst},
	},
	Web:    true,
	Speaks: []string{"http/1.1"},
	Stored: []string{"netrc", "proxy accounts"},
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded},
		{"second-factor", "", "login/second-factor", Coded},
		{"insufficient_user_authentication", "", "login/second-factor", Coded},
		{"interaction_required", "", "login/second-factor", Told},
		{"consent_required", "", "login/policy-blocks", Coded},
		{"insufficient_scope", "", "login/no-right", Coded},
		{"sign-in-page", "", "login/mechanism-off", Told},
		{"invalid_token", "", "login/rejected", Vague},
		{"login_required", "", "login/rejected", Vague},
		{"account_selection_required", "", "login/rejected", Vague},
		{"access_denied", "", "login/no-right", Told},
		{"401", "", "login/rejected", Vague},
		{"403", "", "login/no-right", Told},
		{"429", "", "login/locked", Hinted},
	},
	Log: []LogLine{
		{"was not found in", "login/unknown-account"},
		{"password mismatch", "login/wrong-secret"},
		{"Password Mismatch", "login/wrong-secret"},
		{"not found: ", "login/unknown-account"},
	},
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
