package fact

import "time"

// Access is the files by which a service, or what stands before it, lets
// addresses in.
type Access struct {
	Files []AccessFile `json:"files"`
	// Wrapped is the programs that ask hosts.allow and hosts.deny
	// (hosts_access(5)): their binaries are linked to the library for it.
	Wrapped []string `json:"wrapped,omitempty"`
}

// Kinds of lists: of which program's shape one is, or what names it.
const (
	ListWrapperAllow = "hosts.allow" // hosts_access(5)
	ListWrapperDeny  = "hosts.deny"
	ListHBA          = "pg_hba"
	ListNginx        = "nginx"
	ListHAProxy      = "haproxy"
	ListSSH          = "sshd"
	ListRedis        = "redis"
	ListMySQL        = "mysql" // the accounts of a database, with the hosts they may come from
	// ListMySQLRights is what such accounts may: lines "database NAME", "locked ACCOUNT",
	// "roles ACCOUNT" and "grant ACCOUNT DATABASE", "*" for all.
	ListMySQLRights  = "mysql-rights"
	ListPostfix      = "postfix"
	ListPostfixTable = "postfix-table"
	ListOfCard       = "list"
	ListAddresses    = "addresses" // of one of the common shapes, which a program's file tells
	ListByWords      = "words"     // of a program that nobody knows: what its settings say by their words
)

// AccessFile is one of them. Lines that do not bear on addresses are left
// out: they may hold secrets.
type AccessFile struct {
	Path string `json:"path"`
	Kind string `json:"kind"` // one of the kinds above
	// Order and Else say how a list of kind "addresses" decides, and Program
	// whose it is; see the files of programs.
	Order   string    `json:"order,omitempty"`
	Else    string    `json:"else,omitempty"`
	Program string    `json:"program,omitempty"`
	Changed time.Time `json:"changed"`
	Lines   []Line    `json:"lines"`
}

// Line is one line of a file.
type Line struct {
	Number int    `json:"number"`
	Text   string `json:"text"`
}
