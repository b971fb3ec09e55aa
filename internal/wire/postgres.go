package wire

import (
	"crypto/md5"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// PostgreSQL's codes for requests before a session (the manual's "Message
// Formats").
const (
	postgresTLS     = 80877103
	postgresVersion = 3 << 16
)

// upgradePostgres sends an SSLRequest; the server says S or N.
func upgradePostgres(c *Conn) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{}
	request := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, 8), postgresTLS)
	_, err := c.Write(request)
	if err == nil {
		var b byte
		if b, err = c.r.ReadByte(); err == nil {
			u.Offered, u.Head = b == 'S', string(rune(b))
			if b != 'S' && b != 'N' {
				err = fmt.Errorf("answered %q", b)
				u.Head = foreign.Clean(string(append([]byte{b}, c.unread()...)))
			}
		}
	}
	u.Ending, u.TookMS = ending(err), MS(time.Since(began))
	return u
}

// askPostgres begins a session without naming an account, which no server
// accepts: a running one answers that, and one that starts up or stops says
// so (SQLSTATE 57P03).
func askPostgres(c *Conn, _ Question) fact.Reply {
	body := binary.BigEndian.AppendUint32(nil, postgresVersion)
	body = append(body, 0)
	send := binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))
	return c.ask("postgres", "a session without an account", string(append(send, body...)), func(r *fact.Reply) error {
		kind, message, err := c.postgresMessage()
		if err != nil {
			r.Text = foreign.Clean(string(message))
			return err
		}
		if kind == 'R' && len(message) >= 4 { // it asks who is there, or lets anybody in
			r.Refused = binary.BigEndian.Uint32(message) != 0
			return nil
		}
		fields := postgresFields(message)
		if kind != 'E' || fields['S'] == "" || len(fields['C']) != 5 || fields['M'] == "" {
			return errNotPostgres
		}
		// "No user name specified": it took the question and wants an account.
		// A pool of sessions calls a question without one a breach of protocol.
		if fields['C'] == "28000" || fields['C'] == "08P01" {
			r.Refused = true
			return nil
		}
		r.Code, r.Text = foreign.Clean(fields['C']), foreign.Clean(fields['M'])
		return nil
	})
}

var errNotPostgres = errors.New("not PostgreSQL")

// postgresMessage reads one message: its kind and what it holds.
func (c *Conn) postgresMessage() (kind byte, body []byte, err error) {
	head := make([]byte, 5)
	if _, err := io.ReadFull(c, head); err != nil {
		return 0, head, err
	}
	size := int(binary.BigEndian.Uint32(head[1:])) - 4
	if size < 0 || size > mostReply || !strings.ContainsRune("ERNKSZvTDCI", rune(head[0])) {
		return 0, head, errNotPostgres
	}
	body = make([]byte, size)
	_, err = io.ReadFull(c, body)
	return head[0], body, err
}

// postgresFields splits an ErrorResponse into its fields by their letters.
func postgresFields(body []byte) map[byte]string {
	fields := map[byte]string{}
	for _, each := range strings.Split(string(body), "\x00") {
		if each != "" {
			fields[each[0]] = each[1:]
		}
	}
	return fields
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

// postgresRights is how PostgreSQL is asked (its manual, "Access Privilege
// Inquiry Functions").
func postgresRights(r fact.Right) []level {
	may := sqlText(strings.ToUpper(r.May))
	switch kind, name, apart := strings.Cut(r.On, " "); {
	case apart && kind == "database":
		return []level{{r.On, "SELECT has_database_privilege(" + sqlText(strings.TrimSpace(name)) + ", " + may + ")"}}
	case apart:
		return []level{
			{
				r.On,
				"SELECT has_schema_privilege(" + sqlText(strings.ToLower(strings.TrimSpace(name))) + ", " + may + ")",
			},
		}
	}
	schema, table, ok := strings.Cut(r.On, ".")
	if !ok {
		return []level{{"table " + r.On, "SELECT has_table_privilege(" + sqlText(sqlName(r.On)) + ", " + may + ")"}}
	}
	return []level{
		{"schema " + schema, "SELECT has_schema_privilege(" + sqlText(strings.ToLower(schema)) + ", 'USAGE')"},
		{
			"table " + r.On,
			"SELECT has_table_privilege(" + sqlText(sqlName(schema)+"."+sqlName(table)) + ", " + may + ")",
		},
	}
}
