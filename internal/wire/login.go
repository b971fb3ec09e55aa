package wire

import (
	"crypto/hmac"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"

	"github.com/go-ldap/ldap/v3"
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

// berOf writes one element with a definite length.
func berOf(tag byte, body []byte) []byte {
	out := []byte{tag}
	if len(body) < 128 {
		out = append(out, byte(len(body)))
	} else {
		out = append(out, 0x82, byte(len(body)>>8), byte(len(body)))
	}
	return append(out, body...)
}

// loginLDAP binds by name and secret (RFC 4511 section 4.2).
func loginLDAP(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "simple"}
	if !with.Show && !with.Certificate {
		return shows("a simple bind", nil), nil
	}
	bind := append([]byte{0x02, 0x01, 0x03}, berOf(0x04, []byte(with.Account))...)
	bind = append(bind, berOf(0x80, []byte(with.Secret))...)
	if with.Certificate { // who it is, the certificate says (RFC 4513 section 5.2.3)
		l.Mechanism = "EXTERNAL"
		bind = append(
			[]byte{0x02, 0x01, 0x03, 0x04, 0x00},
			berOf(0xa3, append(berOf(0x04, []byte("EXTERNAL")), 0x04, 0x00))...)
	}
	message := append([]byte{0x02, 0x01, 0x02}, berOf(0x60, bind)...)
	message = append(message, berOf(0xa0, berOf(0x30, berOf(0x04, []byte(passwordPolicy))))...)
	with.presenting()
	if _, err := c.Write(berOf(0x30, message)); err != nil {
		return l, err
	}
	m, err := c.ldapControlled()
	if err != nil {
		return l, err
	}
	code, ok := m.result()
	if !ok || m.op != ldapBound || m.id != 2 {
		return l, errNotLDAP
	}
	l.Code = strconv.Itoa(code)
	// matchedDN, then the diagnostic message.
	rest := m.body[3:]
	for i := range 2 {
		if len(rest) < 2 || rest[0] != 0x04 {
			break
		}
		size, used, ok := berLength(rest[1:])
		if !ok || 1+used+size > len(rest) {
			break
		}
		if i == 1 {
			l.Text = string(rest[1+used : 1+used+size])
		}
		rest = rest[1+used+size:]
	}
	if found := policyFinding(m.controls); found != "" {
		l.Text = strings.TrimSpace(l.Text + " password policy: " + found)
	}
	if l.Outcome = outcome(code == 0); l.Outcome == fact.LoginAccepted {
		l.Lacks = c.ldapRights(with.Path)
	}
	return l, nil
}

// ldapRights asks, in a session that is open, what the endpoint names (RFC
// 4516): an account may bind, and see nothing.
func (c *Conn) ldapRights(path string) []fact.LackingRight {
	search, err := endpoint.SearchOf(path)
	if err != nil || search.Base == "" {
		return nil
	}
	filter, err := ldap.CompileFilter(search.Filter)
	if err != nil {
		return nil
	}
	scope := byte(max(0, slices.Index([]string{"base", "one", "sub"}, search.Scope)))
	body := berOf(0x04, []byte(search.Base))
	body = append(body, 0x0a, 1, scope, 0x0a, 1, 0)          // aliases are not followed
	body = append(body, 0x02, 1, 1, 0x02, 1, 10, 0x01, 1, 0) // one entry, 10 s, with values
	body = append(body, filter.Bytes()...)
	body = append(body, berOf(0x30, berOf(0x04, []byte("1.1")))...) // no attributes
	if _, err := c.Write(berOf(0x30, append([]byte{0x02, 1, 3}, berOf(0x63, body)...))); err != nil {
		return nil
	}
	lack := fact.LackingRight{Right: fact.Right{May: "read", On: search.Base}, Level: "entry " + search.Base}
	if search.Scope != "base" || search.Filter != "(objectClass=*)" {
		lack.Level = fmt.Sprintf("entry %s under %s", search.Filter, search.Base)
	}
	found := false
	for range 8 {
		m, err := c.ldapControlled()
		if err != nil || m.id != 3 {
			return nil
		}
		if m.op == ldapEntry || m.op == ldapReference {
			found = true
			continue
		}
		code, ok := m.result()
		switch {
		case !ok || m.op != ldapDone:
			return nil
		case code == ldapNoSuchObject:
			lack.Hidden, lack.Told = true, "no such object"
			if above := m.matched(); above != "" {
				lack.Absent, lack.Told = true, "no such object; the lowest above it is "+above
			}
		case code == 0 && !found:
			lack.Hidden, lack.Told = true, "nothing was found"
		case code == ldapInsufficient:
			lack.Told = "insufficient access"
		default:
			return nil
		}
		return []fact.LackingRight{lack}
	}
	return nil
}

// loginPostgres begins a session as an account (the manual's "Start-up" and
// "SASL Authentication").
func loginPostgres(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: "none"}
	if with.Certificate {
		l.Mechanism = "certificate"
	}
	database := databaseOf(with.Path, with.Account)
	body := binary.BigEndian.AppendUint32(nil, postgresVersion)
	body = append(body, "user\x00"+with.Account+"\x00database\x00"+database+"\x00application_name\x00uakari\x00"...)
	if options := parameter(with.Path, "options"); options != "" {
		body = append(body, "options\x00"+strings.ReplaceAll(options, "\x00", "")+"\x00"...)
	}
	body = append(body, 0)
	with.presenting()
	if _, err := c.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+4)), body...)); err != nil {
		return l, err
	}
	send := func(text string) error {
		m := append([]byte{'p'}, binary.BigEndian.AppendUint32(nil, uint32(len(text)+4))...)
		_, err := c.Write(append(m, text...))
		return err
	}
	var s scram
	for range 50 {
		kind, message, err := c.postgresMessage()
		if err != nil {
			return l, err
		}
		switch {
		case kind == 'E':
			fields := postgresFields(message)
			l.Code, l.Text, l.Outcome = foreign.Clean(fields['C']), fields['M'], fact.LoginRefused
			l.Routine = foreign.Clean(fields['R'])
			return l, nil
		case kind == 'Z':
			l.Outcome = fact.LoginAccepted
			l.Lacks = lackingRights(
				with.Rights,
				postgresRights,
				func(question string) ([][]string, error) { return c.postgresQuery(question, 1) },
			)
			l.Lacks = append(l.Lacks, c.postgresRole(parameter(with.Path, "target_session_attrs"))...)
			return l, nil
		case kind == 'R' && len(message) >= 4 && with.Certificate && asksSecret(message):
			l.Outcome, l.Mechanism, l.Code, l.Text = fact.LoginRefused, "certificate", "mechanism",
				"the server asks for a secret beside the certificate, and none was given"
			return l, nil
		case kind != 'R' || len(message) < 4:
			continue
		}
		switch binary.BigEndian.Uint32(message) {
		case 3:
			l.Mechanism = "password"
			if !with.Show {
				return shows("the method password", nil), nil
			}
			err = send(with.Secret + "\x00")
		case 5:
			l.Mechanism = "md5"
			err = send(postgresMD5(with, message[4:]) + "\x00")
		case 10:
			l.Mechanism = "SCRAM-SHA-256"
			first := s.first("")
			err = send("SCRAM-SHA-256\x00" + string(binary.BigEndian.AppendUint32(nil, uint32(len(first)))) + first)
		case 11:
			var last string
			if last, err = s.last(string(message[4:]), with.Secret); err == nil {
				err = send(last)
			}
		case 0, 12:
		default:
			l.Mechanism = fmt.Sprintf("method %d", binary.BigEndian.Uint32(message))
			l.Outcome, l.Code, l.Text = fact.LoginMore, "method",
				"the server asks for a method that is not spoken here"
			return l, nil
		}
		if err != nil {
			return l, err
		}
	}
	return l, errNotPostgres
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

// postgresRole asks, in a session that is open, what the server is, where the
// endpoint wants it to be something ("target_session_attrs"): clients that
// want another close the session.
func (c *Conn) postgresRole(want string) []fact.LackingRight {
	lack := func(role string) []fact.LackingRight {
		return []fact.LackingRight{{Right: fact.Right{May: "be", On: want}, Level: "role", Told: role}}
	}
	question := "SHOW transaction_read_only"
	switch want {
	case "primary", "standby":
		question = "SELECT pg_is_in_recovery()"
	case "read-write", "read-only":
	default:
		return nil
	}
	rows, err := c.postgresQuery(question, 1)
	if err != nil || len(rows) == 0 || len(rows[0]) == 0 {
		return nil
	}
	on := rows[0][0] == "on" || rows[0][0] == "t"
	switch {
	case on && want == "primary":
		return lack("a standby")
	case on && want == "read-write":
		return lack("read-only")
	case !on && want == "standby":
		return lack("a primary")
	case !on && want == "read-only":
		return lack("one that takes changes")
	}
	return nil
}

// asksSecret reports whether a request for authentication wants a secret.
func asksSecret(message []byte) bool {
	method := binary.BigEndian.Uint32(message)
	return method == 3 || method == 5 || method == 10
}

func postgresMD5(with Credentials, salt []byte) string {
	inner := md5.Sum([]byte(with.Secret + with.Account))
	outer := md5.Sum(append([]byte(hex.EncodeToString(inner[:])), salt...))
	return "md5" + hex.EncodeToString(outer[:])
}

// scram is one exchange of SCRAM without channel binding (RFC 5802, RFC 7677).
type scram struct {
	nonce, bare string
	hash        func() hash.Hash // nil: SHA-256
}

// first begins it, for an account; "" where the protocol says who it is.
func (s *scram) first(account string) string {
	s.nonce = rand.Text()
	s.bare = "n=" + strings.NewReplacer("=", "=3D", ",", "=2C").Replace(account) + ",r=" + s.nonce
	return "n,," + s.bare
}

var errScram = errors.New("the server's part of SCRAM makes no sense")

func (s *scram) last(challenge, secret string) (string, error) {
	fields := map[byte]string{}
	for part := range strings.SplitSeq(challenge, ",") {
		if len(part) > 2 && part[1] == '=' {
			fields[part[0]] = part[2:]
		}
	}
	salt, err := base64.StdEncoding.DecodeString(fields['s'])
	rounds, err2 := strconv.Atoi(fields['i'])
	const most = 1 << 18 // a hostile server may name any number
	if err != nil || err2 != nil || rounds < 1 || rounds > most || !strings.HasPrefix(fields['r'], s.nonce) {
		return "", errScram
	}
	digest := s.hash
	if digest == nil {
		digest = sha256.New
	}
	salted, err := pbkdf2.Key(digest, secret, salt, rounds, digest().Size())
	if err != nil {
		return "", err
	}
	mac := func(key []byte, text string) []byte {
		h := hmac.New(digest, key)
		io.WriteString(h, text)
		return h.Sum(nil)
	}
	client := mac(salted, "Client Key")
	stored := digest()
	stored.Write(client)
	final := "c=biws,r=" + fields['r']
	proof := mac(stored.Sum(nil), s.bare+","+challenge+","+final)
	for i := range proof {
		proof[i] ^= client[i]
	}
	return final + ",p=" + base64.StdEncoding.EncodeToString(proof), nil
}
