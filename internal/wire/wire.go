// Package wire holds what is said on a connection, a protocol each: what a
// server's greeting means, how to ask for an upgrade to TLS, and one harmless
// question that a healthy server answers.
//
// Everything that comes from the other side is bounded in size, and made
// printable before it is kept.
package wire

import (
	"bufio"
	"errors"
	"io"
	"net"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Limits on what is read of a peer, in bytes.
const (
	mostLine  = 4 << 10  // one line of a text protocol
	mostReply = 64 << 10 // one whole reply
	mostTalk  = 8 << 20  // all of one connection
	mostHead  = 200      // of first bytes that are looked at
)

// Conn is a connection with a bounded reader. Deadlines are the caller's.
type Conn struct {
	net.Conn
	r *bufio.Reader
	// kept is what a protocol keeps between its steps (see kept).
	kept any
	// first is what lay in the buffer when the answer to the last question began.
	first []byte
	// Name is the host as the endpoint names it, where servers are told.
	Name string
	// Old is that a handshake on it knows no version beyond TLS 1.2.
	Old bool
}

// NewConn wraps a fresh connection. Beyond a bound nothing more of it is read:
// whatever a peer says, no step can hold more.
func NewConn(c net.Conn) *Conn {
	return &Conn{Conn: c, r: bufio.NewReaderSize(&bounded{from: c, left: mostTalk}, mostLine)}
}

// kept is what a protocol keeps between its steps on a connection, empty at first.
func kept[T any](c *Conn) *T {
	if _, ok := c.kept.(*T); !ok {
		c.kept = new(T)
	}
	return c.kept.(*T)
}

// Read reads through the buffer, so that nothing peeked at is lost.
func (c *Conn) Read(p []byte) (int, error) { return c.r.Read(p) }

// Question is what to ask.
type Question struct {
	Host  string // as the client names it
	Path  string
	Realm string // the client's own, of Kerberos
	Body  bool   // what is in the answer matters, too
	// Agreed is that the session was asked for TLS first, and what it said.
	Agreed bool
	// Secured is that the session goes over TLS.
	Secured bool
	// Shared is what the client shares with the server beside any account.
	Shared string
	// Datagram says that the question goes out as one, not over a connection.
	Datagram bool
}

// Protocol is what is said in one protocol. A nil step does not exist in it.
type Protocol struct {
	// Greet reads what a server says first.
	Greet func(*Conn) fact.Greeting
	// Upgrade asks whether the session may go on over TLS.
	Upgrade func(*Conn) fact.Upgrade
	// Ask asks one harmless question.
	Ask func(*Conn, Question) fact.Reply
	// AnyPort is that answers to a datagram come from another port than it was
	// sent to.
	AnyPort bool
}

// Protocols is every protocol by the name that schemes use for it.
var Protocols = map[string]Protocol{
	"http":     {Ask: askHTTP},
	"ssh":      {Greet: greetSSH},
	"smtp":     {Greet: greetSMTP, Upgrade: upgradeSMTP, Ask: askSMTP},
	"imap":     {Greet: greetIMAP, Upgrade: upgradeIMAP, Ask: askIMAP},
	"mysql":    {Greet: greetMySQL, Upgrade: upgradeMySQL},
	"postgres": {Upgrade: upgradePostgres, Ask: askPostgres},
	"redis":    {Ask: askRedis},
	"ldap":     {Upgrade: upgradeLDAP, Ask: askLDAP},
	"krb5":     {Ask: askKerberos},
	"pop3":     {Greet: greetPOP3, Upgrade: upgradePOP3, Ask: askPOP3},
	"ftp":      {Greet: greetFTP, Upgrade: upgradeFTP, Ask: askFTP},
	"amqp":     {Ask: askAMQP},
	"mqtt":     {Ask: askMQTT},
	"nfs":      {Ask: askONC("nfs", 100003, 3)},
	"rpc":      {Ask: askONC("rpc", oncMapper, oncVersion)},
	"dcerpc":   {Ask: askDCE},
	"smb":      {Ask: askSMB},
	"dns":      {Ask: askDNS},
	"ntp":      {Ask: askNTP},
	"radius":   {Ask: askRADIUS},

	"memcached":     {Ask: askMemcached},
	"nats":          {Greet: greetNATS, Ask: askNATS},
	"rsync":         {Greet: greetRsync, Ask: askRsync},
	"git":           {Ask: askGit},
	"finger":        {Ask: askFinger},
	"lpd":           {Ask: askLPD},
	"sip":           {Ask: askSIP},
	"rtsp":          {Ask: askRTSP},
	"socks5":        {Ask: askSOCKS},
	"kafka":         {Ask: askKafka},
	"mongodb":       {Ask: askMongo},
	"vnc":           {Greet: greetVNC, Ask: askVNC},
	"snmp":          {Ask: askSNMP},
	"stun":          {Ask: askSTUN},
	"tftp":          {Ask: askTFTP, AnyPort: true},
	"http2":         {Ask: askHTTP2},
	"websocket":     {Ask: askWebSocket},
	"xmpp":          {Upgrade: upgradeXMPP, Ask: askXMPP},
	"mssql-browser": {Ask: askBrowser},
	"tds":           {Upgrade: upgradeTDS, Ask: askTDS},
	"proxy":         {Ask: askTunnel},
	"rdp":           {Upgrade: upgradeRDP, Ask: askAgreed("rdp")},
}

// ending says how a wait for bytes ended, from its error.
func ending(err error) fact.Ending {
	switch {
	case err == nil:
		return fact.Done
	case errors.Is(err, os.ErrDeadlineExceeded),
		slices.ContainsFunc(late, func(e error) bool { return errors.Is(err, e) }):
		return fact.Stalled
	case slices.ContainsFunc(cut, func(e error) bool { return errors.Is(err, e) }):
		return fact.ResetMid
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.ErrClosedPipe):
		return fact.Closed
	case errors.Is(err, errTooLong):
		return fact.Malformed
	}
	return fact.Malformed
}

// Over goes on over TLS, with what was heard so far.
func (c *Conn) Over(secured net.Conn) *Conn {
	next := NewConn(secured)
	next.Name = c.Name
	if _, ok := c.kept.(interface{ holdsOverTLS() }); ok {
		next.kept = c.kept
	}
	return next
}

// Ending is the ending of an error that ended a connection.
func Ending(err error) fact.Ending { return ending(err) }

var errTooLong = errors.New("line too long")

// line reads one line, without its end.
func (c *Conn) line() (string, error) {
	raw, err := c.r.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		return string(raw), errTooLong
	}
	return strings.TrimRight(string(raw), "\r\n"), err
}

// Idle reports whether nothing more comes for a moment. The deadline that was
// set before holds again afterwards only if it is set again.
func (c *Conn) Idle(moment time.Duration) bool {
	c.SetReadDeadline(time.Now().Add(moment))
	_, err := c.r.Peek(1)
	return errors.Is(err, os.ErrDeadlineExceeded)
}

// unread is what lies in the buffer, without waiting.
func (c *Conn) unread() []byte {
	b, _ := c.r.Peek(c.r.Buffered())
	return b
}

// Recognise says which protocol some first bytes look like; "" if none.
func Recognise(head []byte) string {
	s := string(head[:min(len(head), mostHead)])
	switch {
	case strings.HasPrefix(s, "SSH-"):
		return "ssh"
	case strings.HasPrefix(s, "HTTP/"),
		strings.HasPrefix(strings.ToLower(s), "<!doctype html"),
		strings.HasPrefix(strings.ToLower(s), "<html"):
		return "http"
	case len(s) >= 3 && (s[0] == 0x15 || s[0] == 0x16) && s[1] == 3 && s[2] <= 4:
		return "tls"
	case strings.HasPrefix(s, "220") && strings.Contains(strings.ToUpper(s), "SMTP"):
		return "smtp"
	case strings.HasPrefix(s, "220") || strings.HasPrefix(s, "421"):
		return "ftp or smtp"
	case strings.HasPrefix(s, "* OK"), strings.HasPrefix(s, "* PREAUTH"), strings.HasPrefix(s, "* BYE"):
		return "imap"
	case strings.HasPrefix(s, "+OK"):
		return "pop3"
	case strings.HasPrefix(s, "-ERR"),
		strings.HasPrefix(s, "-NOAUTH"),
		strings.HasPrefix(s, "-DENIED"),
		strings.HasPrefix(s, "+PONG"):
		return "redis"
	case len(s) > 5 && s[3] == 0 && (s[4] == 10 || s[4] == 0xff):
		return "mysql"
	case strings.HasPrefix(s, "RFB 0"):
		return "vnc"
	case strings.HasPrefix(s, "INFO {"):
		return "nats"
	case strings.HasPrefix(s, "@RSYNCD: "), strings.HasPrefix(s, "@ERROR"):
		return "rsync"
	case strings.HasPrefix(s, "<?xml") && strings.Contains(s, "etherx.jabber.org"),
		strings.HasPrefix(s, "<stream:stream"):
		return "xmpp"
	case strings.HasPrefix(s, "SIP/2.0 "):
		return "sip"
	case strings.HasPrefix(s, "RTSP/1.0 "):
		return "rtsp"
	case len(s) > 6 && s[0] == 3 && s[1] == 0 && s[5] == 0xd0:
		return "rdp"
	case len(s) > 5 && s[0] == 'E' && s[1] == 0 && s[2] == 0:
		return "postgres"
	}
	return ""
}

// firstLine reads a greeting that is one line of text.
func (c *Conn) firstLine(protocol string, good func(string) bool) fact.Greeting {
	began := time.Now()
	text, err := c.line()
	g := fact.Greeting{
		Ending:   ending(err),
		Head:     foreign.Clean(text),
		Protocol: Recognise([]byte(text)),
		TookMS:   MS(time.Since(began)),
	}
	switch {
	case text == "" && err != nil:
		return g
	case good(text):
		g.Protocol = protocol
		if errors.Is(err, errTooLong) {
			g.Ending = fact.Malformed
		}
	case err == nil || errors.Is(err, errTooLong) || len(text) > 0:
		g.Ending = fact.Malformed
	}
	return g
}

// MS writes a duration in milliseconds.
func MS(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// Overhear watches a connection for a moment without saying anything. That
// nothing comes is not a fault of it.
func Overhear(c *Conn, moment time.Duration) fact.Greeting {
	began := time.Now()
	c.SetReadDeadline(began.Add(moment))
	_, err := c.r.Peek(1)
	head := c.unread()
	g := fact.Greeting{
		Ending:   ending(err),
		Head:     foreign.Clean(string(head)),
		Protocol: Recognise(head),
		TookMS:   MS(time.Since(began)),
	}
	if g.Ending == fact.Stalled {
		g.Ending = fact.Done
	}
	if m := turnsAway.FindStringSubmatch(g.Head); m != nil {
		g.Refusal, g.Code = g.Head, m[1]
	}
	return g
}

// turnsAway is how servers of many protocols begin when they turn somebody away
// at once: words for an error, or a code of 400 and more.
var turnsAway = regexp.MustCompile(`^(-?ERR(?:OR)?|@ERROR|[45]\d\d)(?:[ :\-]|$)`)

var errStranger = errors.New("not an answer of this protocol")

// stranger keeps what came instead of an answer, though a part of it was read.
func (c *Conn) stranger(r *fact.Reply) error {
	head := c.first
	if rest := c.unread(); len(rest) > len(head) {
		head = rest
	}
	head = head[:min(len(head), mostHead)]
	r.Spoke, r.Text = Recognise(head), foreign.Clean(strings.TrimRight(string(head), "\r\n"))
	return errStranger
}
