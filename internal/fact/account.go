package fact

import "time"

// Account is the state of one account of a host, without its secret or any
// hash of it.
type Account struct {
	Name  string `json:"name"`
	Known bool   `json:"known"` // the host's own files have it
	// Others is further sources of accounts that were not asked, by
	// nsswitch.conf(5): "sss".
	Others []string `json:"others,omitempty"`
	UID    string   `json:"uid,omitempty"`
	Home   string   `json:"home,omitempty"`
	Shell  string   `json:"shell,omitempty"`
	Groups []string `json:"groups,omitempty"`
	// ShellWrong is why the shell lets nobody work: "/usr/sbin/nologin".
	ShellWrong string `json:"shell_wrong,omitempty"`

	// Of shadow(5), where it could be read.
	Shadow     bool      `json:"shadow,omitempty"` // it was read
	Locked     bool      `json:"locked,omitempty"`
	NoSecret   bool      `json:"no_secret,omitempty"` // none is set, and none fits
	Ends       time.Time `json:"ends,omitzero"`       // of the account
	SecretEnds time.Time `json:"secret_ends,omitzero"`
	MustChange bool      `json:"must_change,omitempty"`

	// Disabled is that the account is switched off, and Rights the rights to log on that
	// it and its groups have (SeNetworkLogonRight, …), of Windows; nil: not read.
	// RefusesNTLM is that its host takes no proof of that kind from anybody.
	Disabled    bool     `json:"disabled,omitempty"`
	Rights      []string `json:"rights,omitempty"`
	RefusesNTLM bool     `json:"refuses_ntlm,omitempty"`

	// Failures counts failed tries that still count, and Deny how many lock
	// the account (pam_faillock(8)); 0: no such lock is set up.
	Failures int `json:"failures,omitempty"`
	Deny     int `json:"deny,omitempty"`

	ClosedBy string `json:"closed_by,omitempty"` // the file that shuts logins for all (nologin(5))
	// Keys is the fingerprints of the keys that may log in, KeysFile where
	// they stand, and KeysWrong why the server does not take that file.
	Keys      []string `json:"keys,omitempty"`
	KeysFile  string   `json:"keys_file,omitempty"`
	KeysWrong string   `json:"keys_wrong,omitempty"`
	KeysElse  string   `json:"keys_else,omitempty"` // where else keys may come from

	// AccessRules is the rules by which PAM lets accounts in from places, where
	// the service asks for them, and AccessFile the file that they are in.
	AccessRules []Line `json:"access_rules,omitempty"`
	AccessFile  string `json:"access_file,omitempty"`

	Unread []string `json:"unread,omitempty"` // what could not be read, and why
}

// Stored is the secrets for an endpoint that programs of this user would send
// by themselves. The secrets are not in it.
type Stored struct {
	List []StoredSecret `json:"list"`
}

// StoredSecret is one of them.
type StoredSecret struct {
	Place   string `json:"place"` // "/root/.pgpass:3", "the environment, PGPASSWORD"
	Account string `json:"account,omitempty"`
	For     string `json:"for,omitempty"` // "the proxy", where it is not for the endpoint itself
	// Same is whether it is the one that was typed; nil: none was.
	Same   *bool       `json:"same,omitempty"`
	Ticket *KeptTicket `json:"ticket,omitempty"` // it is one, of Kerberos
}

// KeptTicket is a ticket in a cache; its keys are not in it.
type KeptTicket struct {
	Ticket
	Ends time.Time `json:"ends"`
}

// PathRight is whether a user gets to a file on a host.
type PathRight struct {
	User  string `json:"user"`
	Path  string `json:"path"`
	Level string `json:"level,omitempty"` // where the user is stopped; "": nowhere
	Why   string `json:"why,omitempty"`
	Mode  string `json:"mode,omitempty"`  // of the level
	Grant string `json:"grant,omitempty"` // the least that would let the user through: "o+x"
}
