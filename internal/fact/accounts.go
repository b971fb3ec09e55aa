package fact

import "time"

// Accounts is the state of the accounts that a service keeps itself: the roles
// of a database, the users of a store, the entries of a directory. No secret
// is in it, and no hash of one.
type Accounts struct {
	Program string `json:"program"`
	Place   string `json:"place"` // where it was read, and as whom
	// Of is the account that was asked for; "": all of them, so that one that
	// is not in the list does not exist.
	Of        string           `json:"of,omitempty"`
	List      []ServiceAccount `json:"list"`
	Databases []Database       `json:"databases,omitempty"`
	// Else is where further accounts may come from.
	Else string `json:"else,omitempty"`
}

// ServiceAccount is one of them.
type ServiceAccount struct {
	Name       string    `json:"name"`
	NoLogin    bool      `json:"no_login,omitempty"` // it may not sign in at all
	Admin      bool      `json:"admin,omitempty"`
	Locked     bool      `json:"locked,omitempty"`
	MustChange bool      `json:"must_change,omitempty"`
	SecretEnds time.Time `json:"secret_ends,omitzero"`
	Secret     string    `json:"secret,omitempty"`   // how it is kept: "none", "md5", "scram-sha-256"; "": not known
	Groups     []string  `json:"groups,omitempty"`   // that it is in, through others too
	Failures   int       `json:"failures,omitempty"` // failed tries that still count
	Deny       int       `json:"deny,omitempty"`     // how many lock it; 0: none do
	Sessions   int       `json:"sessions,omitempty"` // open now
	Limit      int       `json:"limit,omitempty"`    // of sessions; 0: none of its own
	Barred     []string  `json:"barred,omitempty"`   // databases that it may not connect to
}

// Database is one database of a service.
type Database struct {
	Name     string `json:"name"`
	Closed   bool   `json:"closed,omitempty"` // nobody may connect
	Sessions int    `json:"sessions,omitempty"`
	Limit    int    `json:"limit,omitempty"`
}
