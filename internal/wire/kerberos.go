package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/jcmturner/gokrb5/v8/config"
	"github.com/jcmturner/gokrb5/v8/credentials"
	"github.com/jcmturner/gokrb5/v8/crypto"
	"github.com/jcmturner/gokrb5/v8/iana/errorcode"
	"github.com/jcmturner/gokrb5/v8/iana/keyusage"
	"github.com/jcmturner/gokrb5/v8/iana/nametype"
	"github.com/jcmturner/gokrb5/v8/iana/patype"
	"github.com/jcmturner/gokrb5/v8/messages"
	"github.com/jcmturner/gokrb5/v8/types"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

var errNotKerberos = errors.New("not Kerberos")

// exchange sends one message over TCP and reads the answer to it, each after
// its length in four bytes (RFC 4120 section 7.2.2). A server may close after
// every answer, so later ones go over connections of their own.
func (c *Conn) exchange(message []byte, first bool) (answer []byte, err error) {
	conn := io.ReadWriter(c)
	if !first {
		next, err := net.DialTimeout("tcp", c.RemoteAddr().String(), 5*time.Second)
		if err != nil {
			return nil, err
		}
		defer next.Close()
		next.SetDeadline(time.Now().Add(10 * time.Second))
		conn = next
	}
	if _, err := conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(message))), message...)); err != nil {
		return nil, err
	}
	head := make([]byte, 4)
	if _, err := io.ReadFull(conn, head); err != nil {
		return nil, err
	}
	size := binary.BigEndian.Uint32(head)
	if size == 0 || size > mostReply {
		return head, errNotKerberos
	}
	answer = make([]byte, size)
	_, err = io.ReadFull(conn, answer)
	return answer, err
}

// guarded turns a panic of the library, which parses what a server sent, into
// an error.
func guarded(do func() error) (err error) {
	defer func() {
		if recover() != nil {
			err = errNotKerberos
		}
	}()
	return do()
}

// kerberosError reads an error message; ok is false for anything else.
func kerberosError(answer []byte) (e messages.KRBError, ok bool) {
	const version, kind = 5, 30 // RFC 4120 section 5.9.1
	err := guarded(func() error { return e.Unmarshal(answer) })
	return e, err == nil && e.PVNO == version && e.MsgType == kind
}

func kerberosConfig(realm string) *config.Config {
	c := config.New()
	c.LibDefaults.DefaultRealm = realm
	c.LibDefaults.NoAddresses = true
	return c
}

// realmOf is the realm of an account or service "name@REALM"; else the host's
// own, else the domain of the ticket server, in capitals.
func realmOf(name, own, host string) (bare, realm string) {
	if bare, realm, ok := strings.Cut(name, "@"); ok {
		return bare, realm
	}
	if own != "" {
		return name, own
	}
	_, domain, _ := strings.Cut(host, ".")
	domain, _, _ = strings.Cut(domain, ":")
	return name, strings.ToUpper(domain)
}

// askKerberos asks for a ticket without showing anything: a healthy server
// says what it wants to be shown (RFC 4120 section 3.1).
func askKerberos(c *Conn, q Question) fact.Reply {
	began := time.Now()
	_, realm := realmOf(strings.Trim(q.Path, "/"), q.Realm, q.Host)
	r := fact.Reply{Protocol: "krb5", Asked: "a ticket of " + realm}
	err := guarded(func() error {
		request, err := messages.NewASReqForTGT(
			realm,
			kerberosConfig(realm),
			types.NewPrincipalName(nametype.KRB_NT_PRINCIPAL, "krbtgt/"+realm),
		)
		if err != nil {
			return err
		}
		message, err := request.Marshal()
		if err != nil {
			return err
		}
		r.SentMS = MS(time.Since(began))
		answer, err := c.exchange(message, true)
		r.FirstMS = MS(time.Since(began))
		if err != nil {
			c.first = append(answer, c.unread()...)
			return errors.Join(err, c.stranger(&r))
		}
		e, ok := kerberosError(answer)
		if !ok { // a ticket for the asking, or nothing that Kerberos says
			var ticket messages.ASRep
			return ticket.Unmarshal(answer)
		}
		r.Date = e.STime
		switch e.ErrorCode {
		case errorcode.KDC_ERR_WRONG_REALM, errorcode.KDC_ERR_SVC_UNAVAILABLE, errorcode.KRB_ERR_GENERIC:
			r.Code, r.Text = strconv.Itoa(int(e.ErrorCode)), foreign.Clean(kerberosText(e))
		default:
			r.Refused = true // it wants an account
		}
		return nil
	})
	r.Ending, r.TookMS = ending(err), MS(time.Since(began))
	return r
}

func kerberosText(e messages.KRBError) string {
	text := errorcode.Lookup(e.ErrorCode)
	if e.EText != "" {
		text += " (" + e.EText + ")"
	}
	return text
}

// loginKerberos gets a ticket for an account and, where the endpoint names a
// service, one for that.
func loginKerberos(c *Conn, with Credentials) (l fact.Login, err error) {
	l.Mechanism = "encrypted timestamp"
	account, realm := realmOf(with.Account, with.Realm, with.Host)
	service, _ := realmOf(strings.Trim(with.Path, "/"), realm, with.Host)
	refuse := func(e messages.KRBError) {
		l.Outcome, l.Code, l.Text = fact.LoginRefused, strconv.Itoa(int(e.ErrorCode)), kerberosText(e)
		if !e.STime.IsZero() {
			l.Clock = e.STime.UTC()
		}
	}
	err = guarded(func() error {
		cfg, cname := kerberosConfig(realm), types.NewPrincipalName(nametype.KRB_NT_PRINCIPAL, account)
		request, err := messages.NewASReqForTGT(realm, cfg, cname)
		if err != nil {
			return err
		}
		with.presenting()
		answer, err := c.sendKerberos(request.Marshal, true)
		if err != nil {
			return err
		}
		if e, ok := kerberosError(answer); ok {
			if e.ErrorCode != errorcode.KDC_ERR_PREAUTH_REQUIRED {
				refuse(e)
				return nil
			}
			if with.Secret == "" { // whether it is known is all that was asked
				l.Outcome, l.Text = fact.LoginWithheld, "the ticket server knows the account; no secret was given"
				return nil
			}
			if err := showTimestamp(&request, e, with.Secret, cname, realm, &l); err != nil || l.Outcome != "" {
				return err
			}
			if answer, err = c.sendKerberos(request.Marshal, false); err != nil {
				return err
			}
			if e, ok := kerberosError(answer); ok {
				refuse(e)
				return nil
			}
		}
		var ticket messages.ASRep
		if err := ticket.Unmarshal(answer); err != nil {
			return err
		}
		if _, err := ticket.DecryptEncPart(credentials.New(account, realm).WithPassword(with.Secret)); err != nil {
			l.Outcome, l.Code, l.Text = fact.LoginRefused, "24", "the ticket cannot be opened with this secret"
			return nil
		}
		l.Outcome = fact.LoginAccepted
		if service == "" {
			return nil
		}
		more, err := messages.NewTGSReq(
			cname,
			realm,
			cfg,
			ticket.Ticket,
			ticket.DecryptedEncPart.Key,
			types.NewPrincipalName(nametype.KRB_NT_SRV_INST, service),
			false,
		)
		if err != nil {
			return err
		}
		if answer, err = c.sendKerberos(more.Marshal, false); err != nil {
			return err
		}
		if e, ok := kerberosError(answer); ok {
			refuse(e)
			return nil
		}
		var forService messages.TGSRep
		if err := forService.Unmarshal(answer); err != nil {
			return err
		}
		l.Ticket = &fact.Ticket{
			Service:    service + "@" + realm,
			Version:    forService.Ticket.EncPart.KVNO,
			Encryption: int(forService.Ticket.EncPart.EType),
		}
		return nil
	})
	return l, err
}

func (c *Conn) sendKerberos(marshal func() ([]byte, error), first bool) ([]byte, error) {
	message, err := marshal()
	if err != nil {
		return nil, err
	}
	return c.exchange(message, first)
}

// showTimestamp adds the time, encrypted with the secret's key, in a way that
// the server named in its error (RFC 4120 section 5.2.7.2).
func showTimestamp(
	request *messages.ASReq,
	e messages.KRBError,
	secret string,
	cname types.PrincipalName,
	realm string,
	l *fact.Login,
) error {
	var offered types.PADataSequence
	if err := offered.Unmarshal(e.EData); err != nil {
		return err
	}
	for _, pa := range offered {
		if pa.PADataType != patype.PA_ETYPE_INFO2 {
			continue
		}
		kinds, err := pa.GetETypeInfo2()
		if err != nil {
			return err
		}
		for _, kind := range kinds {
			l.Offered = append(l.Offered, fmt.Sprintf("encryption %d", kind.EType))
			if _, err := crypto.GetEtype(kind.EType); err != nil {
				continue
			}
			key, _, err := crypto.GetKeyFromPassword(secret, cname, realm, kind.EType, offered)
			if err != nil {
				return err
			}
			stamp, err := types.GetPAEncTSEncAsnMarshalled()
			if err != nil {
				return err
			}
			sealed, err := crypto.GetEncryptedData(stamp, key, keyusage.AS_REQ_PA_ENC_TIMESTAMP, 0)
			if err != nil {
				return err
			}
			text, err := sealed.Marshal()
			if err != nil {
				return err
			}
			request.PAData = append(
				request.PAData,
				types.PAData{PADataType: patype.PA_ENC_TIMESTAMP, PADataValue: text},
			)
			return nil
		}
	}
	l.Outcome, l.Code, l.Text = fact.LoginRefused, strconv.Itoa(
		int(errorcode.KDC_ERR_ETYPE_NOSUPP),
	), "the server offers no kind of encryption that is spoken here"
	return nil
}
