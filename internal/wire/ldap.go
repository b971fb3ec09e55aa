package wire

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// rootQuestion asks for the supported versions of the server's root entry,
// without an account: a SearchRequest of message id 1 (RFC 4511 section
// 4.5.1, RFC 4512 section 5.1), in BER.
var rootQuestion = []byte{
	0x30, 0x3b, 0x02, 0x01, 0x01, 0x63, 0x36,
	0x04, 0x00, // baseObject ""
	0x0a, 0x01, 0x00, // scope base
	0x0a, 0x01, 0x00, // never dereference
	0x02, 0x01, 0x01, // size limit 1
	0x02, 0x01, 0x05, // time limit 5 s
	0x01, 0x01, 0x00, // types only: no
	0x87, 0x0b, 'o', 'b', 'j', 'e', 'c', 't', 'C', 'l', 'a', 's', 's', // present
	0x30, 0x16, 0x04, 0x14, 's', 'u', 'p', 'p', 'o', 'r', 't', 'e', 'd', 'L', 'D', 'A', 'P', 'V', 'e', 'r', 's',
	'i', 'o', 'n',
}

// Result codes of a search (RFC 4511 appendix A).
const (
	ldapNoSuchObject = 32
	ldapInsufficient = 50
)

// Result codes with which a healthy directory tells a stranger to sign in.
var ldapWantsAccount = map[int]bool{8: true, 13: true, 48: true, 50: true}

// askLDAP asks for the root entry.
func askLDAP(c *Conn, _ Question) fact.Reply {
	return c.ask("ldap", "the root entry", string(rootQuestion), func(r *fact.Reply) error {
		for range 4 {
			m, err := c.ldapControlled()
			if err != nil {
				r.Text = foreign.Clean(string(c.unread()))
				return err
			}
			switch {
			case m.op == ldapEntry && m.id == 1, m.op == ldapReference && m.id == 1:
				continue
			case m.op == ldapDone && m.id == 1,
				m.op == ldapExtended && m.id == 0: // the second ends the session (RFC 4511 section 4.4.1)
			default:
				return errNotLDAP
			}
			code, ok := m.result()
			if !ok {
				return errNotLDAP
			}
			if ldapWantsAccount[code] {
				r.Refused = true
			} else if code != 0 {
				r.Code = strconv.Itoa(code)
			}
			return nil
		}
		return errNotLDAP
	})
}

// tlsRequest asks to go on over TLS: an ExtendedRequest of message id 1 (RFC
// 4511 section 4.14.1).
const tlsRequest = "\x30\x1d\x02\x01\x01\x77\x18\x80\x16" + "1.3.6.1.4.1.1466.20037"

// upgradeLDAP asks for TLS. A directory that has none says so with a code.
func upgradeLDAP(c *Conn) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	_, err := io.WriteString(c, tlsRequest)
	if err == nil {
		var m ldapMessage
		if m, err = c.ldapControlled(); err == nil {
			code, ok := m.result()
			if !ok || m.op != ldapExtended {
				err = errNotLDAP
			}
			u.Offered = err == nil && code == 0
		}
	}
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

var errNotLDAP = errors.New("not LDAP")

// Operations of answers, by their tags (RFC 4511 section 4.2 and following).
const (
	ldapBound     = 0x61
	ldapEntry     = 0x64
	ldapDone      = 0x65
	ldapReference = 0x73
	ldapExtended  = 0x78
)

// ldapMessage is one LDAPMessage.
type ldapMessage struct {
	id             int
	op             byte
	body, controls []byte
}

// result is the result code that an answer begins with.
func (m ldapMessage) result() (code int, ok bool) {
	if len(m.body) < 3 || m.body[0] != 0x0a || m.body[1] != 1 {
		return 0, false
	}
	return int(m.body[2]), true
}

// matched is the lowest entry above the one that was asked for that is there, and that
// the account may know of (RFC 4511 section 4.1.9).
func (m ldapMessage) matched() string {
	if len(m.body) < 5 || m.body[3] != 0x04 {
		return ""
	}
	size, used, ok := berLength(m.body[4:])
	if !ok || 4+used+size > len(m.body) {
		return ""
	}
	return foreign.Clean(string(m.body[4+used : 4+used+size]))
}

// ldapControlled reads one LDAPMessage with the controls behind its operation.
func (c *Conn) ldapControlled() (m ldapMessage, err error) {
	tag, message, err := c.ber()
	if err != nil {
		return m, err
	}
	if tag != 0x30 || len(message) < 5 || message[0] != 0x02 || message[1] < 1 || message[1] > 4 ||
		int(message[1])+3 >= len(message) {
		return m, errNotLDAP
	}
	for _, b := range message[2 : 2+message[1]] {
		m.id = m.id<<8 | int(b)
	}
	rest := message[2+int(message[1]):]
	size, used, ok := berLength(rest[1:])
	if !ok || 1+used+size > len(rest) {
		return m, errNotLDAP
	}
	m.op, m.body, m.controls = rest[0], rest[1+used:1+used+size], rest[1+used+size:]
	return m, nil
}

// ber reads one BER element from the connection.
func (c *Conn) ber() (tag byte, body []byte, err error) {
	head, err := c.r.Peek(2)
	if err != nil {
		return 0, nil, err
	}
	if head[0] != 0x30 {
		return 0, nil, errNotLDAP
	}
	n := 2
	if head[1]&0x80 != 0 {
		n += int(head[1] & 0x7f)
	}
	if n > 6 {
		return 0, nil, errNotLDAP
	}
	if head, err = c.r.Peek(n); err != nil {
		return 0, nil, err
	}
	tag = head[0]
	size, _, ok := berLength(head[1:])
	if !ok || size > mostReply {
		return 0, nil, errNotLDAP
	}
	if _, err = c.r.Discard(n); err != nil {
		return 0, nil, err
	}
	body = make([]byte, size)
	_, err = io.ReadFull(c, body)
	return tag, body, err
}

// berLength reads a definite length (X.690 section 8.1.3).
func berLength(b []byte) (size, used int, ok bool) {
	if len(b) == 0 {
		return 0, 0, false
	}
	if b[0]&0x80 == 0 {
		return int(b[0]), 1, true
	}
	n := int(b[0] & 0x7f)
	if n == 0 || n > 4 || len(b) < 1+n {
		return 0, 0, false
	}
	for _, each := range b[1 : 1+n] {
		size = size<<8 | int(each)
	}
	return size, 1 + n, size >= 0
}

// passwordPolicy asks a directory to say what its password policy finds of the
// account, by a control of an Internet-Draft that directories follow.
const passwordPolicy = "1.3.6.1.4.1.42.2.27.8.5.1"

// policyErrors are the policy's findings by their number.
var policyErrors = []string{
	"passwordExpired",
	"accountLocked",
	"changeAfterReset",
	"passwordModNotAllowed",
	"mustSupplyOldPassword",
	"insufficientPasswordQuality",
	"passwordTooShort",
	"passwordTooYoung",
	"passwordInHistory",
}

// policyFinding is what a policy found, of the controls of an answer; "" for
// nothing.
func policyFinding(controls []byte) string {
	at := bytes.Index(controls, []byte(passwordPolicy))
	if at < 0 {
		return ""
	}
	// The value is an OCTET STRING with a SEQUENCE of an optional warning [0]
	// and an optional error [1].
	value := controls[at+len(passwordPolicy):]
	if len(value) >= 3 && value[0] == 0x01 {
		value = value[3:] // whether it is critical
	}
	if len(value) < 2 || value[0] != 0x04 {
		return ""
	}
	size, used, ok := berLength(value[1:])
	if !ok || 1+used+size > len(value) {
		return ""
	}
	value = value[1+used : 1+used+size]
	size, used, ok = 0, 0, len(value) >= 2 && value[0] == 0x30
	if ok {
		size, used, ok = berLength(value[1:])
	}
	if !ok || 1+used+size > len(value) {
		return ""
	}
	for rest := value[1+used : 1+used+size]; len(rest) >= 2; {
		size, used, ok := berLength(rest[1:])
		if !ok || 1+used+size > len(rest) {
			return ""
		}
		if n := rest[1+used:]; rest[0] == 0x81 && size == 1 && int(n[0]) < len(policyErrors) {
			return policyErrors[n[0]]
		}
		rest = rest[1+used+size:]
	}
	return ""
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
