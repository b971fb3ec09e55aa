package wire

import (
	"encoding/binary"
	"errors"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// TestMoreQuestions is one question in each of the further protocols, and what
// servers, other servers and nobody say to it.
func TestMoreQuestions(t *testing.T) {
	rpc := func(words ...uint32) string {
		b := binary.BigEndian.AppendUint32(nil, uint32(4*len(words))|1<<31)
		for _, w := range words {
			b = binary.BigEndian.AppendUint32(b, w)
		}
		return string(b)
	}
	const question = "\x75\x61\x01\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x02\x00\x01"
	for _, c := range []struct {
		protocol string
		says     []string
		ending   fact.Ending
		refused  bool
		code     string
	}{
		{"pop3", []string{"+OK\r\nUIDL\r\n.\r\n"}, fact.Done, false, ""},
		{"pop3", []string{"-ERR what?\r\n"}, fact.Done, false, ""},
		{"pop3", []string{"220 heron\r\n"}, fact.Malformed, false, ""},
		{"ftp", []string{"200 ok\r\n"}, fact.Done, false, ""},
		{"ftp", []string{"530 log in first\r\n"}, fact.Done, true, ""},
		{"ftp", []string{"421 closing\r\n"}, fact.Done, false, "421"},
		{"amqp", []string{"\x01\x00\x00\x00\x00\x00\x10\x00\x0a\x00\x0astart"}, fact.Done, true, ""},
		{"amqp", []string{"\x01\x00\x00\x00\x00\x00\x10connection.start"}, fact.Malformed, false, ""},
		{"amqp", []string{"AMQP\x00\x01\x00\x00"}, fact.Done, false, "version"},
		{"amqp", []string{"HTTP/1.1 400"}, fact.Malformed, false, ""},
		{"amqp", []string{""}, fact.Closed, false, ""},
		{"mqtt", []string{"\x20\x02\x00\x00"}, fact.Done, false, ""},
		{"mqtt", []string{"\x20\x02\x00\x05"}, fact.Done, true, ""},
		{"mqtt", []string{"\x20\x02\x00\x03"}, fact.Done, false, "3"},
		{"mqtt", []string{"\x20\x02\x00\x77"}, fact.Malformed, false, ""},
		{"mqtt", []string{"SSH-2.0-x"}, fact.Malformed, false, ""},
		{"nfs", []string{rpc(0x75616b61, 1, 0, 0, 0, 0)}, fact.Done, false, ""},
		{"nfs", []string{rpc(0x75616b61, 1, 9, 0, 0, 0)}, fact.Malformed, false, ""},
		{"nfs", []string{rpc(0x11111111, 1, 0)}, fact.Malformed, false, ""},
		{"dns", []string{"\x00\x11" + question[:2] + "\x81\x80" + question[4:]}, fact.Done, false, ""},
		{"dns", []string{"\x00\x11" + question}, fact.Malformed, false, ""},
		{"dns", []string{"\x00\x11" + question[:2] + "\x81\x80" + question[4:12] + "\x01x\x00\x02\x00"},
			fact.Malformed, false, ""}, // to another question
		{"dns", []string{"\x00"}, fact.Closed, false, ""},
		{"krb5", []string{"\x00\x00\x00\x04\x30\x02\x05\x00"}, fact.Malformed, false, ""},
		// neither a ticket nor an error
		{"krb5", []string{"\x00\x00\x00\x08SSH-2.0-"}, fact.Malformed, false, ""},
		{"krb5", []string{"\xff\xff\xff\xff"}, fact.Malformed, false, ""},
		{"krb5", []string{""}, fact.Closed, false, ""},
	} {
		r := Protocols[c.protocol].Ask(peer(t, c.says...), Question{Host: "ledger.varzea.example:88", Path: "/"})
		if r.Ending != c.ending || r.Refused != c.refused || r.Code != c.code || r.Protocol != c.protocol {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, r)
		}
	}
}

// TestMoreGreetings is servers that speak first.
func TestMoreGreetings(t *testing.T) {
	for _, c := range []struct{ protocol, says, spoke, refusal string }{
		{"pop3", "+OK ready\r\n", "pop3", ""}, {"pop3", "-ERR busy\r\n", "pop3", "-ERR busy"},
		{"pop3", "SSH-2.0-x\r\n", "ssh", ""},
		{"ftp", "220 tides\r\n", "ftp", ""}, {"ftp", "220-tides\r\n220 ready\r\n", "ftp", ""},
		{"ftp", "421 full\r\n", "ftp", "421 full"},
		{"ssh", "Exceeded MaxStartups\r\n", "ssh", "Exceeded MaxStartups"},
		{"ssh", "Not allowed at this time\r\n", "ssh", "Not allowed at this time"},
		{"mysql", mysqlPacket("\xff\x69\x04Host 'x' is blocked"), "mysql", "Host 'x' is blocked"},
	} {
		g := Protocols[c.protocol].Greet(peer(t, "!"+c.says))
		if g.Protocol != c.spoke || g.Refusal != c.refusal {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, g)
		}
	}
}

// TestMoreUpgrades is servers that are asked for TLS.
func TestMoreUpgrades(t *testing.T) {
	for _, c := range []struct {
		protocol, says string
		offered        bool
	}{{"pop3", "+OK\r\n", true}, {"pop3", "-ERR\r\n", false}, {"ftp", "234 go\r\n", true},
		{"ftp", "502 no\r\n", false}} {
		u := Protocols[c.protocol].Upgrade(peer(t, c.says))
		if u.Ending != fact.Done || u.Offered != c.offered {
			t.Errorf("%s, %q: %+v", c.protocol, c.says, u)
		}
	}
}

// mysqlFirst is a server's first packet that offers a plugin.
func mysqlFirst(plugin string) string {
	return "\x0a10.11\x00" + "\x01\x00\x00\x00" + "12345678" + "\x00" + "\xff\xf7" + "\x2d" + "\x02\x00" + "\xff\x81" +
		"\x15" + strings.Repeat(
		"\x00",
		10,
	) + "123456789012\x00" + plugin + "\x00"
}

func numbered(packet string, n byte) string { return packet[:3] + string(rune(n)) + packet[4:] }

// TestMySQLLogin is one try after the server's first packet, in each way that
// it may ask for.
func TestMySQLLogin(t *testing.T) {
	switchTo := func(plugin string) string {
		return numbered(mysqlPacket("\xfe"+plugin+"\x00"+"12345678901234567890\x00"), 2)
	}
	ok := func(n byte) string { return numbered(mysqlPacket("\x00\x00\x00\x02\x00\x00\x00"), n) }
	denied := numbered(mysqlPacket("\xff\x15\x04#28000Access denied"), 2)
	for _, c := range []struct {
		plugin    string
		says      []string
		outcome   fact.LoginOutcome
		code      string
		mechanism string
	}{
		{"mysql_native_password", []string{ok(2)}, fact.LoginAccepted, "", "mysql_native_password"},
		{"mysql_native_password", []string{denied}, fact.LoginRefused, "1045", "mysql_native_password"},
		{"mysql_native_password", []string{switchTo("caching_sha2_password"),
			numbered(mysqlPacket("\x01\x03"), 4) + ok(5)}, fact.LoginAccepted, "", "caching_sha2_password"},
		{"caching_sha2_password", []string{numbered(mysqlPacket("\x01\x04"), 2)}, fact.LoginWithheld, "",
			"caching_sha2_password"}, // it would go in the clear
		{"mysql_native_password", []string{switchTo("auth_gssapi_client"), denied}, fact.LoginMore, "mechanism",
			"auth_gssapi_client"},
		{"mysql_native_password", []string{switchTo("mysql_clear_password")}, fact.LoginWithheld, "",
			"mysql_clear_password"},
		{"mysql_native_password", []string{""}, fact.LoginCut, "", "mysql_native_password"},
		{"mysql_native_password", []string{"HTTP/1.1 400"}, fact.LoginFailed, "", "mysql_native_password"},
	} {
		conn := peer(t, append([]string{"!" + mysqlPacket(mysqlFirst(c.plugin))}, c.says...)...)
		if g := greetMySQL(conn); g.Head != "10.11" || conn.hello().plugin != c.plugin ||
			len(conn.hello().scramble) != 20 {
			t.Fatalf("%+v %+v", g, conn.hello())
		}
		l := TryLogin(conn, "mysql", Credentials{Account: "gauge", Secret: "canary-7", Path: "/tides"})
		if l.Outcome != c.outcome || l.Code != c.code || l.Mechanism != c.mechanism {
			t.Errorf("%s, %q: %+v", c.plugin, c.says, l)
		}
	}
}

// TestRealms is the realm that an account is taken to be of.
func TestRealms(t *testing.T) {
	for _, c := range []struct{ name, own, host, bare, realm string }{
		{"gauge@TIDES.EXAMPLE", "VARZEA.EXAMPLE", "clock.varzea.example", "gauge", "TIDES.EXAMPLE"},
		{"gauge", "VARZEA.EXAMPLE", "clock.tides.example", "gauge", "VARZEA.EXAMPLE"},
		{"gauge", "", "clock.varzea.example:88", "gauge", "VARZEA.EXAMPLE"},
	} {
		if bare, realm := realmOf(c.name, c.own, c.host); bare != c.bare || realm != c.realm {
			t.Errorf("%+v: %s of %s", c, bare, realm)
		}
	}
}

// TestWays is the ways to sign in that servers name before anybody tries.
func TestWays(t *testing.T) {
	for _, c := range []struct{ protocol, says, want string }{
		{"smtp", "250-post\r\n250-AUTH PLAIN LOGIN\r\n250 HELP\r\n", "PLAIN LOGIN"}, {"smtp", "250 post\r\n", ""},
		{"imap", "* CAPABILITY IMAP4rev2 AUTH=PLAIN AUTH=SCRAM-SHA-256\r\nu2 OK\r\n", "PLAIN SCRAM-SHA-256"},
		{"imap", "* CAPABILITY IMAP4rev2 LOGINDISABLED\r\nu2 OK\r\n", ""},
		{"http", "HTTP/1.1 401 No\r\nWWW-Authenticate: Digest realm=x, Bearer\r\nContent-Length: 0\r\n\r\n",
			"digest bearer"}, {"http", "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n", ""},
	} {
		r := Protocols[c.protocol].Ask(peer(t, c.says), Question{Host: "post.varzea.example", Path: "/"})
		if got := strings.Join(r.Ways, " "); got != c.want || r.Ending != fact.Done {
			t.Errorf("%s, %q: %q, %+v", c.protocol, c.says, got, r)
		}
	}
}

// TestLackingRights asks for rights level by level.
func TestLackingRights(t *testing.T) {
	table := []fact.Right{{May: "select", On: `closed.the"book`}}
	for name, c := range map[string]struct {
		answers []string
		want    string
	}{
		"all there":            {[]string{"t", "t"}, ""},
		"not into the schema":  {[]string{"f"}, "schema closed"},
		"not on the table":     {[]string{"t", "f"}, `table closed.the"book`},
		"no such schema":       {[]string{"!no schema (3F000)"}, "schema closed absent"},
		"nobody can tell":      {[]string{"!timeout (57014)"}, "schema closed: timeout (57014)"},
		"an answer of no rows": {[]string{""}, "schema closed: an answer of another shape"},
	} {
		var asked []string
		list := lackingRights(table, postgresRights, func(question string) ([][]string, error) {
			answer := c.answers[len(asked)]
			asked = append(asked, question)
			if why, bad := strings.CutPrefix(answer, "!"); bad {
				return nil, errors.New(why)
			}
			if answer == "" {
				return nil, nil
			}
			return [][]string{{answer}}, nil
		})
		got := ""
		for _, l := range list {
			got = l.Level
			if l.Absent {
				got += " absent"
			}
			if l.Unknown != "" {
				got += ": " + l.Unknown
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
		if len(asked) == 2 && asked[1] != `SELECT has_table_privilege('"closed"."the""book"', 'SELECT')` {
			t.Errorf("%s: asked %s", name, asked[1])
		}
	}
}
