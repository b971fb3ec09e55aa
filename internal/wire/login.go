package wire

import (
	"net/url"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Credentials are what one login try presents. They are in no fact.
type Credentials struct {
	Account, Secret string
	Shared          string // with the server, beside the account's own
	Certificate     bool   // it was presented with the session, and there is no secret
	// Show is that the secret itself may go over the connection: whoever reads
	// it was verified. Else only ways are gone that do not show it.
	Show       bool
	Host, Path string       // of the endpoint
	Rights     []fact.Right // that the session is asked about, once it is open
	Agreed     bool         // the session was asked for TLS first
	Realm      string       // the client's own, of Kerberos
	// Again makes another connection as far as this one; nil: there is none.
	Again func() (*Conn, error)

	tried *bool // the account was presented; see presenting
}

// presenting is called right before the account's proof goes out: how the
// connection ends from then on is the server's word on it.
func (with Credentials) presenting() {
	if with.tried != nil {
		*with.tried = true
	}
}

// Logins is one login try in each protocol that has one here. Each presents
// the secret once, whatever comes of it.
var Logins = map[string]func(*Conn, Credentials) (fact.Login, error){
	"http": loginHTTP, "redis": loginRedis, "ldap": loginLDAP, "smtp": loginSMTP, "imap": loginIMAP,
	"postgres": loginPostgres, "mysql": loginMySQL,
	"krb5": loginKerberos, "smb": loginSMB,
	"nats": loginNATS, "mongodb": loginMongo,
	"socks5": loginSOCKS,
	"radius": loginRADIUS,
	"xmpp":   loginXMPP,
	"tds":    loginTDS,
	"proxy":  loginTunnel,
	"vnc":    loginVNC,
	"mqtt":   loginMQTT, "amqp": loginAMQP, "ftp": loginFTP, "pop3": loginPOP3,
}

// ByCertificate is the protocols in which a certificate that was presented with
// the session is a way to sign in.
var ByCertificate = map[string]bool{"postgres": true, "ldap": true}

// TryLogin makes the one try and says how it ended: what a server said in
// words, and what it means that it said none.
func TryLogin(c *Conn, protocol string, with Credentials) fact.Login {
	tried := false
	with.tried = &tried
	l, err := Logins[protocol](c, with)
	l.Text = foreign.Clean(l.Text)
	if err == nil || l.Outcome != "" {
		return l
	}
	l.Outcome, l.Text = fact.LoginFailed, foreign.Clean(err.Error())
	if !tried {
		return l
	}
	switch ending(err) {
	case fact.Closed, fact.ResetMid:
		l.Outcome, l.Text = fact.LoginCut,
			"the server closed the connection without a word, after the account was presented"
	case fact.Stalled:
		l.Outcome, l.Text = fact.LoginStalled, "the account was presented, and no answer came in time"
	}
	return l
}

// shows is a login that was withheld because its way would show the secret to
// whoever reads the connection.
func shows(mechanism string, offered []string) fact.Login {
	return fact.Login{
		Outcome:   fact.LoginWithheld,
		Mechanism: mechanism,
		Offered:   offered,
		Text: "the server takes the secret itself (" + mechanism +
			"), and nobody vouches for who reads it on this connection",
	}
}

func outcome(ok bool) fact.LoginOutcome {
	if ok {
		return fact.LoginAccepted
	}
	return fact.LoginRefused
}

// parameter is one of the parameters behind the question mark of an endpoint.
func parameter(path, key string) string {
	_, query, _ := strings.Cut(path, "?")
	values, err := url.ParseQuery(query)
	if err != nil {
		return "" // it was refused when the endpoint was read
	}
	return values.Get(key)
}
