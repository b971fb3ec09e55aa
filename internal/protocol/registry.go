// Package protocol holds what is known of each protocol, a file each: how
// endpoints name it, who speaks first, what its codes and lines of logs mean,
// and how accounts sign in. How it is spoken is package wire's matter. It does
// no input or output.
package protocol

import (
	"slices"
	"strings"
)

// First says who speaks first on a fresh connection.
type First string

const (
	ServerFirst First = "server"
	ClientFirst First = "client"
	NobodyKnows First = ""
)

// Protocol is all that is known of one protocol. A property that is empty is
// not known, and Without says why.
type Protocol struct {
	Name string // as package wire calls it; "": nothing is spoken beyond the connection
	Over string // the protocol that carries it, if it has no words of its own
	// Mute is that nothing in it is answered to a stranger.
	Mute bool
	// Schemes is how endpoints name it, the most usual first.
	Schemes []Scheme
	// Codes is what refusals of an account mean, the most telling first.
	Codes []Code
	// Door is refusals before any account.
	Door []Door
	// Log is lines of servers' logs that say why an account was refused, the
	// most telling first.
	Log []LogLine
	// Alive is a sign of life that may be asked for on an open session.
	Alive string
	// Stored is where programs of a user take a secret from by themselves, the
	// one that wins first. A word in capitals is a variable of the environment.
	Stored []string
	// Clients is the library whose settings its client programs have in common; "" for none.
	Clients Library
	// Modes is what a parameter of its connection URLs says about security.
	Modes *Modes
	// Settings is that its clients have settings of their own, which are read.
	Settings bool
	// Accounts is that its servers keep the accounts, where they can be read.
	Accounts bool
	// List is the kind of list by which servers let accounts in, as access
	// lists call it.
	List string
	// DoorLater is that servers ask their lists only after the greeting.
	DoorLater bool
	// HostKeys is that servers prove themselves by a key that clients have seen
	// before, not by a certificate.
	HostKeys bool
	// Speaks is what clients of it offer in a handshake that comes first (RFC
	// 7301).
	Speaks []string
	// Maps is that it tells which port a service has, which the endpoint names
	// behind its host.
	Maps bool
	// Shared is that its servers answer only clients that share a secret with them, beside
	// any account.
	Shared bool
	// Web is that its answers are statuses of HTTP (RFC 9110): applications of every kind
	// speak it, and that one answers does not say whose it is.
	Web bool
	// HostAccounts is that its accounts are those of the server's host.
	HostAccounts bool
	// Entries is that its accounts are entries of a directory, by their names there (RFC
	// 4514).
	Entries bool
	// AccountHosts is that an account is a name together with the hosts it may come from.
	AccountHosts bool
	// Ungrouped is that its servers know no groups of accounts.
	Ungrouped bool
	// Tickets is that accounts get tickets for services by it, and that a login needs no
	// secret where there is one already (RFC 4120).
	Tickets bool
	// OwnSecret is how a refusal begins that comes from what the server keeps itself; with
	// others it has asked somebody else. What bars an account is looked at by such servers
	// only after its secret was taken.
	OwnSecret string
	// LogonRights is the rights of Windows that let an account in and that keep it out;
	// empty where those of a logon over the network do.
	LogonRights [2]string
	// HostAccountsOn is the system on which its accounts are those of the server's host,
	// where they are so on that alone.
	HostAccountsOn string
	// Policies is settings of Windows that bind its servers there.
	Policies []Policy
	// Without is why a property is empty, by its name.
	Without map[string]string
}

// Why properties are empty.
const (
	noLogin     = "no account is tried in it here"
	inPrograms  = "servers word it each in their own way, which their program files have"
	nothingKept = "its usual clients keep secrets in settings of their own"
	noDoor      = "it has no code for it; what servers say in words is read by the general phrases"
	askedOnce   = "a second question on one session changes its state, or ends it"
)

// Sure is how sure a code or a word is of its cause.
type Sure uint8

const (
	Coded  Sure = iota // the server says so
	Told               // the server says something that means it as a rule
	Hinted             // it fits
	Vague              // the server says no more than no
)

// Code is what a refusal means.
type Code struct {
	Code  string // as the protocol has it; a part of it where it ends in "*"; "": any
	Text  string // that must be in the server's words, or be its routine; "": any
	Cause string
	Sure  Sure
}

// Door is a refusal by which an application says outright why it turns a
// connection away before any account.
type Door struct{ Code, Text, Cause, Says string }

// What logs say of an account that the next line names: PAM's usual module of one that is
// not there, and SSH servers of a kind of key that they do not take.
const (
	userUnknown = "check pass; user unknown"
	keyNotTaken = "not in PubkeyAccepted"
)

// OfNext reports whether a line of a log is about the account that the next one names.
func OfNext(line string) bool {
	return strings.Contains(line, userUnknown) || strings.Contains(line, keyNotTaken)
}

// LogLine is a part of a line of a log, and its cause. The account must be in
// the line, or in one shortly before it.
type LogLine struct{ Text, Cause string }

// All is every protocol, in the order in which help lists their schemes.
var All = []*Protocol{
	&http, &ssh, &postgres, &mysql, &redis, &ldap, &krb5, &smtp, &imap, &pop3, &amqp, &mqtt, &ftp, &smb, &nfs, &rpc,
	&dcerpc, &dns, &ntp, &xmpp, &nats, &kafka, &mongodb, &memcached, &etcd, &websocket, &http2, &socks5, &proxy, &tds,
	&browser, &rdp, &vnc,
	&winrm, &ipp, &lpd, &rsync, &git, &finger, &sip, &rtsp, &stun, &snmp, &radius, &tftp, &syslog, &bare,
}

// Of is a protocol by its name; what is not known is a bare connection.
func Of(name string) *Protocol {
	if at := slices.IndexFunc(All, func(p *Protocol) bool { return p.Name == name }); at >= 0 {
		return All[at]
	}
	return &bare
}

// Library is a library of clients, by what it reads its settings from.
type Library string

const (
	Libpq       Library = "libpq"
	OptionFiles Library = "option files"
	LDAPConf    Library = "ldap.conf"
	WebPrograms Library = "programs of the web"
)
