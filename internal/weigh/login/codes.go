package login

import "uakari/internal/weigh/gate"

// What servers say of a refused account: codes of protocols, lines of logs, and
// words that few remember.

// loginCode says what a protocol's refusal means.
type loginCode struct {
	code     string // as the protocol has it; a part of it where it ends in "*"
	text     string // that must be in the server's words; "": any
	cause    string
	strength gate.Strength // how sure that is from the code alone
}

// loginCodes is refusals by protocol, the most telling first: the SQLSTATEs of
// PostgreSQL (manual, appendix A), result codes of LDAP (RFC 4511 appendix A,
// with the sub-codes that one directory writes into its text), status codes of
// HTTP (RFC 9110), enhanced codes of mail (RFC 3463, RFC 4954), response codes
// of IMAP (RFC 5530), errors of Redis (its manual, "ACL") and of MariaDB and
// MySQL (their manuals, "Error Codes").
var loginCodes = map[string][]loginCode{
	// RFC 6120 section 6.5.
	"xmpp": {
		{"mechanism", "", "login/mechanism-off", gate.Coded},
		{"account-disabled", "", "login/disabled", gate.Coded},
		{"credentials-expired", "", "login/secret-expired", gate.Coded},
		{"encryption-required", "", "settings/wrong-security", gate.Coded},
		{"invalid-mechanism", "", "login/mechanism-off", gate.Coded},
		{"temporary-auth-failure", "", "login/directory-down", gate.Told},
		{"", "", "login/rejected", gate.Vague},
	},
	"nats": {
		{"-ERR", "maximum connections", "login/too-many-sessions", gate.Coded},
		{"", "", "login/rejected", gate.Vague},
	},
	"socks5": {{"mechanism", "", "login/mechanism-off", gate.Coded}, {"", "", "login/rejected", gate.Vague}},
	"postgres": {
		{"28000", "no pg_hba.conf entry", "login/not-from-here", gate.Coded},
		{"28000", "pg_hba.conf rejects", "login/not-from-here", gate.Coded},
		{"28000", "is not permitted to log in", "login/disabled", gate.Coded},
		{"28000", "does not exist", "login/unknown-account", gate.Coded},
		{"28000", "requires a valid client certificate", "login/mechanism-off", gate.Coded},
		{"28000", "Peer authentication failed", "login/mechanism-off", gate.Coded},
		{"28000", "Ident authentication failed", "login/mechanism-off", gate.Coded},
		{"mechanism", "", "login/mechanism-off", gate.Coded},
		{"28P01", "", "login/rejected", gate.Vague},
		{"28000", "", "login/rejected", gate.Vague},
		{"55000", "not currently accepting connections", "login/closed-for-all", gate.Coded},
		{"3D000", "", "login/no-such-resource", gate.Coded},
		{"53300", "", "login/too-many-sessions", gate.Coded},
		{"57P03", "", "answer/not-ready", gate.Coded},
		{"57P0*", "", "answer/not-ready", gate.Coded},
		{"42501", "", "login/no-right", gate.Coded},
	},
	"ldap": {
		{"49", "policy: passwordExpired", "login/secret-expired", gate.Coded},
		{"49", "policy: accountLocked", "login/locked", gate.Coded},
		{"49", "data 525", "login/unknown-account", gate.Coded},
		{"49", "data 52e", "login/wrong-secret", gate.Coded},
		{"49", "data 530", "login/policy-blocks", gate.Told},
		{"49", "data 532", "login/secret-expired", gate.Coded},
		{"49", "data 533", "login/disabled", gate.Coded},
		{"49", "data 701", "login/account-expired", gate.Coded},
		{"49", "data 773", "login/must-change", gate.Coded},
		{"49", "data 775", "login/locked", gate.Coded},
		{"49", "", "login/rejected", gate.Vague},
		{"32", "", "login/rejected", gate.Vague},
		{"8", "", "login/mechanism-off", gate.Coded},
		{"13", "", "login/mechanism-off", gate.Coded},
		{"48", "", "login/mechanism-off", gate.Coded},
		{"50", "", "login/no-right", gate.Coded},
		{"52", "", "login/directory-down", gate.Told},
		{"51", "", "login/directory-down", gate.Told},
		{"53", "", "login/rejected", gate.Vague},
	},
	"http": {
		{"mechanism", "", "login/mechanism-off", gate.Coded},
		{"401", "", "login/rejected", gate.Vague},
		{"403", "", "login/no-right", gate.Told},
		{"429", "", "login/locked", gate.Hinted},
	},
	"redis": {
		{"WRONGPASS", "", "login/rejected", gate.Vague},
		{"NOPERM", "", "login/no-right", gate.Coded},
		{"ERR", "without any password configured", "login/mechanism-off", gate.Coded},
		{"ERR", "", "login/rejected", gate.Vague},
	},
	"smtp": {
		{"mechanism", "", "login/mechanism-off", gate.Coded},
		{"535*", "", "login/rejected", gate.Vague},
		{"534*", "", "login/mechanism-off", gate.Coded},
		{"538*", "", "login/mechanism-off", gate.Coded},
		{"504*", "", "login/mechanism-off", gate.Coded},
		{
			"503*",
			"",
			"login/mechanism-off",
			gate.Told,
		},
		{"530*", "", "login/mechanism-off", gate.Told},
		{"454*", "", "login/directory-down", gate.Told},
	},
	"imap": {
		{"mechanism", "", "login/mechanism-off", gate.Coded},
		{"AUTHENTICATIONFAILED", "", "login/rejected", gate.Vague},
		{"AUTHORIZATIONFAILED", "", "login/no-right", gate.Coded},
		{"EXPIRED", "", "login/secret-expired", gate.Coded},
		{
			"PRIVACYREQUIRED",
			"",
			"login/mechanism-off",
			gate.Coded,
		},
		{"UNAVAILABLE", "", "login/directory-down", gate.Coded},
		{"LIMIT", "", "login/too-many-sessions", gate.Coded},
		{"NO", "", "login/rejected", gate.Vague},
	},
	"mysql": {
		{"1045", "", "login/rejected", gate.Vague},
		{"1698", "", "login/mechanism-off", gate.Told},
		{"1251", "", "login/mechanism-off", gate.Coded},
		{"1524", "", "login/mechanism-off", gate.Coded},
		{"mechanism", "", "login/mechanism-off", gate.Coded},
		{"1044", "", "login/no-right", gate.Coded},
		{"1049", "", "login/no-such-resource", gate.Coded},
		{"1040", "", "login/too-many-sessions", gate.Coded},
		{"1203", "", "login/too-many-sessions", gate.Coded},
		{"1226", "", "login/too-many-sessions", gate.Coded},
		{"1129", "", "login/host-blocked", gate.Coded},
		{"1130", "", "login/not-from-here", gate.Coded},
		{"4151", "", "login/locked", gate.Coded},
		{"3118", "", "login/locked", gate.Coded},
		{"4150", "", "login/locked", gate.Coded},
		{"3955", "", "login/locked", gate.Coded},
		{"1820", "", "login/must-change", gate.Coded},
		{"1862", "", "login/secret-expired", gate.Coded},
	},
	// RFC 4120 section 7.5.9.
	"krb5": {
		{"6", "", "login/unknown-account", gate.Coded},
		{"18", "", "login/locked", gate.Told},
		{"1", "", "login/account-expired", gate.Coded},
		{"23", "", "login/secret-expired", gate.Coded},
		{"24", "", "login/wrong-secret", gate.Coded},
		{"37", "", "login/clock-skew", gate.Coded},
		{"14", "", "login/mechanism-off", gate.Coded},
		{"12", "", "login/policy-blocks", gate.Told},
		{"7", "", "login/no-principal", gate.Coded},
		{"8", "", "login/duplicate-principal", gate.Coded},
		{
			"27",
			"",
			"login/no-principal",
			gate.Told,
		},
		{"13", "", "login/policy-blocks", gate.Told},
		{"", "", "login/rejected", gate.Vague},
	},
	// MS-ERREF section 2.3.1.
	"smb": {
		{"C0000064", "", "login/unknown-account", gate.Coded},
		{"C000006A", "", "login/wrong-secret", gate.Coded},
		{"C0000234", "", "login/locked", gate.Coded},
		{"C0000072", "", "login/disabled", gate.Coded},
		{"C0000193", "", "login/account-expired", gate.Coded},
		{"C0000071", "", "login/secret-expired", gate.Coded},
		{"C0000224", "", "login/must-change", gate.Coded},
		{"C000006F", "", "login/policy-blocks", gate.Told},
		{"C0000070", "", "login/not-from-here", gate.Coded},
		{"C000006E", "", "login/policy-blocks", gate.Told},
		{"C000015B", "", "login/no-right", gate.Coded},
		{"C0000022 share", "", "login/no-right", gate.Coded},
		{"C0000022", "", "login/no-right", gate.Told},
		{"C00000CC", "", "login/no-such-resource", gate.Coded},
		{"C00000D0", "", "login/too-many-sessions", gate.Coded},
		{"C0000133", "", "login/clock-skew", gate.Coded},
		{"C000005E", "", "login/directory-down", gate.Coded},
		{
			"C0000192",
			"",
			"login/directory-down",
			gate.Coded,
		},
		{"C00000BB", "", "login/mechanism-off", gate.Told},
		{"", "", "login/rejected", gate.Vague},
	},
	"ssh": {
		{"second-factor", "", "login/second-factor", gate.Coded},
		{"too-many", "", "login/key-refused", gate.Told},
		{"mechanism", "", "login/mechanism-off", gate.Coded},
		{"", "", "login/rejected", gate.Vague},
	},
}

// loginLines is lines of a server's log that say why a login was refused, the
// most telling first. The account must be in the line, or in one shortly
// before it.
var loginLines = map[string][]struct{ text, cause string }{
	"ssh": {
		{"not allowed because account is locked", "login/locked"},
		{"account temporarily locked", "login/locked"},
		{"with correct key but not from a permitted host", "login/not-from-here"},
		{"access denied for user", "login/not-from-here"},
		{"not in PubkeyAccepted", "login/key-refused"}, {"not met by user", "login/no-right"},
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
	"postgres": {
		{`FATAL:  database "`, "login/no-such-resource"}, {`LOG:  database "`, "login/no-such-resource"},
		{"does not exist", "login/unknown-account"},
		{"has an expired password", "login/secret-expired"},
		{"has no password assigned", "login/wrong-secret"},
		{"Password does not match", "login/wrong-secret"}, {"no pg_hba.conf entry", "login/not-from-here"},
	},
	"imap": {
		{"unknown user", "login/unknown-account"},
		{"Password mismatch", "login/wrong-secret"},
		{"password mismatch", "login/wrong-secret"},
		{"account disabled", "login/disabled"},
	},
	"http": {
		{"was not found in", "login/unknown-account"},
		{"password mismatch", "login/wrong-secret"},
		{"Password Mismatch", "login/wrong-secret"},
		{"not found: ", "login/unknown-account"},
	},
	"smtp": {{"user not found", "login/unknown-account"}, {"authentication failure", "login/wrong-secret"}},
}

// wordsMean is what words of servers mean that few remember.
var wordsMean = []struct{ part, meaning string }{
	{
		"Peer authentication failed",
		"its list lets an account in over the local socket only for the system's user of the same name (peer), whatever secret is sent",
	},
	{"Ident authentication failed", "its list asks the client's host who the user is (ident), and takes no secret"},
	{
		"requires a valid client certificate",
		"its list lets this account in by a certificate (clientcert, or the method cert)",
	},
	{
		"certificate authentication failed",
		"the name in the certificate must be the account's, or one that a map of the server gives it (the method cert)",
	},
}

// plainWords is lines that SSH servers write of any account that does not get
// in, whatever is wrong with it.
var plainWords = map[string]bool{"Failed password for": true, "Failed publickey for": true}
