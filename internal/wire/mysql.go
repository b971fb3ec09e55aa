package wire

import (
	"bytes"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Capabilities that are used of the MySQL protocol ("Capabilities Flags").
const (
	mysqlConnectDB  = 1 << 3
	mysql41         = 1 << 9
	mysqlTLS        = 1 << 11
	mysqlSecure     = 1 << 15
	mysqlPluginAuth = 1 << 19
)

// mysqlHello is what of a server's first packet a login needs.
type mysqlHello struct {
	capabilities uint32
	scramble     []byte
	plugin       string
	sequence     byte // of the last packet that either side sent
}

func (c *Conn) hello() *mysqlHello { return kept[mysqlHello](c) }

// holdsOverTLS: what the server said before TLS was begun is not said again.
func (*mysqlHello) holdsOverTLS() {}

var errNotMySQL = errors.New("not MySQL")

// greetMySQL reads the first packet: a handshake of version 10, or an error
// packet that refuses (the MySQL protocol's "Initial Handshake Packet").
func greetMySQL(c *Conn) fact.Greeting {
	began := time.Now()
	g := fact.Greeting{}
	head, err := c.r.Peek(6)
	if err == nil {
		size := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
		if Recognise(head) != "mysql" || size < 1 || size > mostLine {
			rest := c.unread()
			g = fact.Greeting{Ending: fact.Malformed, Head: foreign.Clean(string(rest)), Protocol: Recognise(rest)}
			g.TookMS = MS(time.Since(began))
			return g
		}
		var body []byte
		if body, err = c.mysqlPacket(); err == nil {
			g.Protocol = "mysql"
			if body[0] == 0xff {
				g.Code, g.Refusal = mysqlError(body)
				g.Refusal = foreign.Clean(g.Refusal)
				g.Head = g.Refusal
			} else {
				version, rest, ended := bytes.Cut(body[1:], []byte{0})
				g.Head = foreign.Clean(string(version))
				if !ended || len(version) == 0 || !c.hello().read(rest) {
					err = errNotMySQL
				}
			}
		}
	} else if rest := c.unread(); len(rest) > 0 {
		g.Head, g.Protocol = foreign.Clean(string(rest)), Recognise(rest)
	}
	g.Ending, g.TookMS = ending(err), MS(time.Since(began))
	return g
}

// read takes what follows the version: thread, first half of the scramble,
// capabilities, the second half, and the plugin's name.
// It reports whether all of it is there.
func (h *mysqlHello) read(b []byte) bool {
	const upper = 4 + 8 + 1 + 2 + 1 + 2 // to the upper half of the capabilities
	if len(b) < upper+2+1+10 {
		return false
	}
	h.scramble = bytes.Clone(b[4:12])
	h.capabilities = uint32(binary.LittleEndian.Uint16(b[13:])) | uint32(binary.LittleEndian.Uint16(b[upper:]))<<16
	rest := b[upper+2+1+10:]
	if len(rest) >= 12 {
		h.scramble = append(h.scramble, rest[:12]...)
		rest = bytes.TrimLeft(rest[12:], "\x00")
	}
	plugin, _, _ := bytes.Cut(rest, []byte{0})
	h.plugin = foreign.Clean(string(plugin))
	return true
}

// mysqlPacket reads one packet without its head.
func (c *Conn) mysqlPacket() ([]byte, error) {
	head := make([]byte, 4)
	if _, err := io.ReadFull(c, head); err != nil {
		return nil, err
	}
	size := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
	if size < 1 || size > mostReply {
		return nil, errNotMySQL
	}
	c.hello().sequence = head[3]
	body := make([]byte, size)
	_, err := io.ReadFull(c, body)
	return body, err
}

func (c *Conn) mysqlSend(body []byte) error {
	c.hello().sequence++
	head := []byte{byte(len(body)), byte(len(body) >> 8), byte(len(body) >> 16), c.hello().sequence}
	_, err := c.Write(append(head, body...))
	return err
}

// mysqlError is the code and the text of an error packet.
func mysqlError(body []byte) (code, text string) {
	if len(body) < 3 {
		return "", ""
	}
	text = string(body[3:])
	if strings.HasPrefix(text, "#") && len(text) > 6 {
		text = text[6:]
	}
	return strconv.Itoa(int(binary.LittleEndian.Uint16(body[1:]))), text
}

// mysqlResponse begins the client's answer to the first packet.
func (c *Conn) mysqlResponse(more uint32) []byte {
	flags := c.hello().capabilities & (mysql41 | mysqlSecure | mysqlPluginAuth)
	b := binary.LittleEndian.AppendUint32(nil, flags|more)
	b = binary.LittleEndian.AppendUint32(b, mostReply)
	b = append(b, 45) // utf8mb4_general_ci
	return append(b, make([]byte, 23)...)
}

// upgradeMySQL asks for TLS, where the server's first packet offers it.
func upgradeMySQL(c *Conn) fact.Upgrade {
	began := time.Now()
	u := fact.Upgrade{Offered: c.hello().capabilities&mysqlTLS != 0, Ending: fact.Done}
	if u.Offered {
		u.Ending = ending(c.mysqlSend(c.mysqlResponse(mysqlTLS)))
	}
	u.TookMS = MS(time.Since(began))
	return u
}

// loginMySQL answers the first packet as an account, in the way that the
// server asks for (the MySQL protocol's "Connection Phase").
func loginMySQL(c *Conn, with Credentials) (fact.Login, error) {
	l, err := c.mysqlLogin(with)
	if err != nil || l.Outcome != fact.LoginAccepted {
		return l, err
	}
	if told := c.mysqlShut(); told != "" {
		l.Lacks = []fact.LackingRight{{Level: "session", Told: told}}
		return l, nil
	}
	ask := func(question string) ([][]string, error) { return c.mysqlQuery(question, 1) }
	l.Lacks = lackingRights(with.Rights, mysqlRights, ask)
	return l, nil
}

func (c *Conn) mysqlLogin(with Credentials) (fact.Login, error) {
	l := fact.Login{Mechanism: c.hello().plugin, Offered: []string{c.hello().plugin}}
	database := strings.Trim(with.Path, "/")
	more := uint32(0)
	_, encrypted := c.Conn.(*tls.Conn)
	if encrypted {
		more |= mysqlTLS
	}
	if database != "" {
		more |= mysqlConnectDB
	}
	body := append(c.mysqlResponse(more), with.Account+"\x00"...)
	token, sendable := mysqlToken(c.hello().plugin, c.hello().scramble, with)
	if !sendable && slices.Contains(mysqlShows, c.hello().plugin) {
		return mysqlWithheld(c.hello().plugin, with), nil
	}
	body = append(body, byte(len(token)))
	body = append(body, token...)
	if database != "" {
		body = append(body, database+"\x00"...)
	}
	with.presenting()
	if err := c.mysqlSend(append(body, c.hello().plugin+"\x00"...)); err != nil {
		return l, err
	}
	for range 10 {
		answer, err := c.mysqlPacket()
		if err != nil {
			return l, err
		}
		switch {
		case answer[0] == 0:
			l.Outcome = fact.LoginAccepted
			return l, nil
		case answer[0] == 0xff:
			l.Outcome = fact.LoginRefused
			l.Code, l.Text = mysqlError(answer)
			if !sendable {
				l.Code, l.Text = "mechanism", fmt.Sprintf("it asks for %s, which is not spoken here", l.Mechanism)
			}
			return l, nil
		case answer[0] == 0xfe: // another way is asked for
			plugin, scramble, _ := bytes.Cut(answer[1:], []byte{0})
			l.Mechanism = foreign.Clean(string(plugin))
			if token, sendable = mysqlToken(l.Mechanism, bytes.TrimRight(scramble, "\x00"), with); !sendable {
				return mysqlWithheld(l.Mechanism, with), nil
			}
			err = c.mysqlSend(token)
		case answer[0] == 1 && len(answer) > 1 && answer[1] == 3: // known already; the verdict follows
		case answer[0] == 1 && len(answer) > 1 && answer[1] == 4:
			if !with.Show {
				return shows(l.Mechanism, nil), nil
			}
			err = c.mysqlSend(append([]byte(with.Secret), 0))
		default:
			return l, errNotMySQL
		}
		if err != nil {
			return l, err
		}
	}
	return l, errNotMySQL
}

// mysqlShows is the plugins that want the secret itself.
var mysqlShows = []string{"mysql_clear_password", "dialog"}

// mysqlWithheld is a login that goes no further: nothing can be sent to this
// plugin, or nothing may.
func mysqlWithheld(plugin string, with Credentials) fact.Login {
	if slices.Contains(mysqlShows, plugin) && !with.Show {
		return shows(plugin, nil)
	}
	return fact.Login{
		Outcome:   fact.LoginMore,
		Mechanism: plugin,
		Code:      "mechanism",
		Text:      fmt.Sprintf("it asks for %s, which is not spoken here", plugin),
	}
}

// mysqlToken is what a plugin wants to be sent for a secret, and whether it is
// one that is spoken here and may be sent so.
func mysqlToken(plugin string, scramble []byte, with Credentials) ([]byte, bool) {
	if with.Secret == "" {
		return nil, true
	}
	switch plugin {
	case "mysql_native_password", "":
		first := sha1.Sum([]byte(with.Secret))
		second := sha1.Sum(first[:])
		mixed := sha1.Sum(append(bytes.Clone(scramble), second[:]...))
		return xor(first[:], mixed[:]), true
	case "caching_sha2_password":
		first := sha256.Sum256([]byte(with.Secret))
		second := sha256.Sum256(first[:])
		mixed := sha256.Sum256(append(second[:], scramble...))
		return xor(first[:], mixed[:]), true
	}
	if slices.Contains(mysqlShows, plugin) && with.Show {
		return append([]byte(with.Secret), 0), true
	}
	return nil, false
}

func xor(a, b []byte) []byte {
	out := make([]byte, len(a))
	for i := range a {
		out[i] = a[i] ^ b[i]
	}
	return out
}

// mysqlRights is how MariaDB and MySQL are asked: what they show an account of
// its own privileges, on everything, on a database, or on a table.
func mysqlRights(r fact.Right) []level {
	may := sqlText(strings.ToUpper(r.May))
	kind, name, apart := strings.Cut(r.On, " ")
	database, table := strings.TrimSpace(name), ""
	if !apart {
		database, table, _ = strings.Cut(r.On, ".")
		if table == "" {
			database, table = "", database
		}
	}
	where := "DATABASE()"
	if database != "" {
		where = sqlText(database)
	}
	question := fmt.Sprintf(
		"SELECT (EXISTS (SELECT 1 FROM information_schema.user_privileges WHERE privilege_type = %[1]s)"+
			" OR EXISTS (SELECT 1 FROM information_schema.schema_privileges WHERE %[2]s LIKE table_schema AND "+
			"privilege_type = %[1]s)",
		may,
		where,
	)
	if apart {
		return []level{{kind + " " + database, question + ")"}}
	}
	return []level{
		{
			"table " + r.On,
			question + fmt.Sprintf(
				" OR EXISTS (SELECT 1 FROM information_schema.table_privileges WHERE table_schema = %s AND "+
					"table_name = %s AND privilege_type = %s))",
				where,
				sqlText(table),
				may,
			),
		},
	}
}
