package endpoint

import (
	"strings"

	"uakari/internal/fact"
)

// First says who speaks first on a fresh connection.
type First string

const (
	ServerFirst First = "server"
	ClientFirst First = "client"
	NobodyKnows First = ""
)

// Scheme is one row of the table of schemes: what an endpoint of that name
// means when nothing else is said.
type Scheme struct {
	Name     string
	Aliases  []string
	Port     uint16 // 0: must be given
	Also     []uint16
	Security fact.Security
	UDP      bool // spoken in datagrams; else over TCP
	First    First
	Open     bool   // nobody signs in with an account of their own
	Wire     string // the protocol spoken; "" : none beyond the connection
	// Verify says whether ordinary clients of this scheme check the
	// server's certificate. Mail relays and database clients encrypt where
	// they can and look no further, unless told to (RFC 7435).
	Verify bool
	// Nameless is what an account is called that signs in by a secret alone.
	Nameless string
	// Record is what clients put before a domain to find its servers by
	// service records (RFC 2782; RFC 6186 for mail, RFC 4120 for Kerberos).
	Record string
}

// Schemes is the table, in the order in which help lists it.
var Schemes = []Scheme{
	{Name: "https", Port: 443, Also: []uint16{8443}, Security: fact.TLS, First: ClientFirst, Wire: "http", Verify: true},
	{Name: "http", Port: 80, Also: []uint16{8080}, Security: fact.Plain, First: ClientFirst, Wire: "http"},
	{Name: "ssh", Aliases: []string{"sftp"}, Port: 22, Security: fact.Plain, First: ServerFirst, Wire: "ssh"},
	{Name: "postgres", Aliases: []string{"postgresql"}, Port: 5432, Security: fact.StartTLS, First: ClientFirst, Wire: "postgres"},
	{Name: "mysql", Aliases: []string{"mariadb"}, Port: 3306, Security: fact.StartTLS, First: ServerFirst, Wire: "mysql"},
	{Name: "redis", Nameless: "default", Port: 6379, Security: fact.Plain, First: ClientFirst, Wire: "redis"},
	{Name: "rediss", Nameless: "default", Port: 6380, Security: fact.TLS, First: ClientFirst, Wire: "redis", Verify: true},
	{Name: "ldap", Port: 389, Security: fact.Plain, First: ClientFirst, Wire: "ldap", Record: "_ldap._tcp"},
	{Name: "ldap+starttls", Port: 389, Security: fact.StartTLS, First: ClientFirst, Wire: "ldap", Verify: true, Record: "_ldap._tcp"},
	{Name: "ldaps", Port: 636, Security: fact.TLS, First: ClientFirst, Wire: "ldap", Verify: true, Record: "_ldaps._tcp"},
	{Name: "kerberos", Aliases: []string{"krb5"}, Port: 88, Security: fact.Plain, First: ClientFirst, Wire: "krb5", Record: "_kerberos._tcp"},
	{Name: "smtp", Port: 25, Security: fact.StartTLS, First: ServerFirst, Wire: "smtp"},
	{Name: "submission", Port: 587, Security: fact.StartTLS, First: ServerFirst, Wire: "smtp", Verify: true, Record: "_submission._tcp"},
	{Name: "smtps", Aliases: []string{"submissions"}, Port: 465, Security: fact.TLS, First: ServerFirst, Wire: "smtp", Verify: true, Record: "_submissions._tcp"},
	{Name: "imap", Port: 143, Security: fact.StartTLS, First: ServerFirst, Wire: "imap", Verify: true, Record: "_imap._tcp"},
	{Name: "imaps", Port: 993, Security: fact.TLS, First: ServerFirst, Wire: "imap", Verify: true, Record: "_imaps._tcp"},
	{Name: "pop3", Port: 110, Security: fact.StartTLS, First: ServerFirst, Wire: "pop3", Verify: true, Record: "_pop3._tcp"},
	{Name: "pop3s", Port: 995, Security: fact.TLS, First: ServerFirst, Wire: "pop3", Verify: true, Record: "_pop3s._tcp"},
	{Name: "amqp", Port: 5672, Security: fact.Plain, First: ClientFirst, Wire: "amqp"},
	{Name: "amqps", Port: 5671, Security: fact.TLS, First: ClientFirst, Wire: "amqp", Verify: true},
	{Name: "mqtt", Port: 1883, Security: fact.Plain, First: ClientFirst, Wire: "mqtt"},
	{Name: "mqtts", Port: 8883, Security: fact.TLS, First: ClientFirst, Wire: "mqtt", Verify: true},
	{Name: "ftp", Port: 21, Security: fact.StartTLS, First: ServerFirst, Wire: "ftp"},
	{Name: "smb", Port: 445, Security: fact.Plain, First: ClientFirst, Wire: "smb"},
	{Name: "nfs", Port: 2049, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "nfs"},
	{Name: "rpc", Port: 111, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "rpc"},
	{Name: "dcerpc", Port: 135, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "dcerpc"},
	{Name: "dns", Port: 53, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "dns"},
	{Name: "dns+tcp", Port: 53, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "dns"},
	{Name: "ntp", Port: 123, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "ntp", Record: "_ntp._udp"},
	{Name: "xmpp", Port: 5222, Security: fact.StartTLS, First: ClientFirst, Wire: "xmpp", Verify: true, Record: "_xmpp-client._tcp"},
	{Name: "xmpps", Port: 5223, Security: fact.TLS, First: ClientFirst, Wire: "xmpp", Verify: true, Record: "_xmpps-client._tcp"},
	{Name: "nats", Port: 4222, Security: fact.Plain, First: ServerFirst, Wire: "nats"},
	{Name: "kafka", Port: 9092, Security: fact.Plain, First: ClientFirst, Wire: "kafka"},
	{Name: "mongodb", Port: 27017, Security: fact.Plain, First: ClientFirst, Wire: "mongodb"},
	{Name: "memcached", Port: 11211, Security: fact.Plain, First: ClientFirst, Wire: "memcached"},
	{Name: "etcd", Port: 2379, Security: fact.Plain, First: ClientFirst, Wire: "http"},
	{Name: "etcds", Port: 2379, Security: fact.TLS, First: ClientFirst, Wire: "http", Verify: true},
	{Name: "ws", Port: 80, Security: fact.Plain, First: ClientFirst, Wire: "websocket"},
	{Name: "wss", Port: 443, Security: fact.TLS, First: ClientFirst, Wire: "websocket", Verify: true},
	{Name: "grpc", Port: 50051, Security: fact.Plain, First: ClientFirst, Wire: "http2"},
	{Name: "socks5", Port: 1080, Security: fact.Plain, First: ClientFirst, Wire: "socks5"},
	{Name: "rdp", Port: 3389, Security: fact.StartTLS, First: ClientFirst, Wire: "rdp"},
	{Name: "vnc", Port: 5900, Also: []uint16{5901}, Security: fact.Plain, First: ServerFirst, Wire: "vnc"},
	{Name: "winrm", Port: 5985, Security: fact.Plain, First: ClientFirst, Wire: "http"},
	{Name: "winrms", Port: 5986, Security: fact.TLS, First: ClientFirst, Wire: "http", Verify: true},
	{Name: "ipp", Port: 631, Security: fact.Plain, First: ClientFirst, Wire: "http"},
	{Name: "ipps", Port: 631, Security: fact.TLS, First: ClientFirst, Wire: "http", Verify: true},
	{Name: "lpd", Port: 515, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "lpd"},
	{Name: "rsync", Port: 873, Security: fact.Plain, First: ServerFirst, Wire: "rsync"},
	{Name: "git", Port: 9418, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "git"},
	{Name: "finger", Port: 79, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "finger"},
	{Name: "sip", Port: 5060, UDP: true, Security: fact.Plain, First: ClientFirst, Wire: "sip", Record: "_sip._udp"},
	{Name: "sip+tcp", Port: 5060, Security: fact.Plain, First: ClientFirst, Wire: "sip", Record: "_sip._tcp"},
	{Name: "sips", Port: 5061, Security: fact.TLS, First: ClientFirst, Wire: "sip", Verify: true, Record: "_sips._tcp"},
	{Name: "rtsp", Port: 554, Also: []uint16{8554}, Security: fact.Plain, First: ClientFirst, Wire: "rtsp"},
	{Name: "stun", Port: 3478, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "stun", Record: "_stun._udp"},
	{Name: "snmp", Port: 161, UDP: true, Security: fact.Plain, First: ClientFirst, Wire: "snmp"},
	{Name: "radius", Port: 1812, UDP: true, Security: fact.Plain, First: ClientFirst},
	{Name: "tftp", Port: 69, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst},
	{Name: "syslog", Port: 514, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst},
	{Name: "syslog+tcp", Port: 514, Open: true, Security: fact.Plain, First: NobodyKnows},
	{Name: "syslog+tls", Port: 6514, Open: true, Security: fact.TLS, First: ClientFirst, Verify: true},
	{Name: "tls", Security: fact.TLS, First: ClientFirst, Verify: true},
	{Name: "tcp", Security: fact.Plain, First: NobodyKnows},
	{Name: "udp", UDP: true, Security: fact.Plain, First: NobodyKnows},
}

// Lookup finds a scheme by its name or another name for it.
func Lookup(name string) (Scheme, bool) {
	for _, s := range Schemes {
		if s.Name == name {
			return s, true
		}
		for _, alias := range s.Aliases {
			if alias == name {
				return s, true
			}
		}
	}
	return Scheme{}, false
}

// Transport is what carries it: "tcp" or "udp".
func (s Scheme) Transport() string {
	if s.UDP {
		return "udp"
	}
	return "tcp"
}

// RecordOf is the service record by which clients of an endpoint find the
// servers of a domain; "" where they go by names alone, or nobody said the
// scheme.
func RecordOf(e fact.Endpoint, domain string) string {
	s, ok := Lookup(e.Scheme)
	if !ok || s.Record == "" || e.Assumed || domain == "" {
		return ""
	}
	return s.Record + "." + strings.TrimSuffix(domain, ".")
}

// byPort is the scheme whose own port this is; tcp, where there is none.
func byPort(port uint16) Scheme {
	for _, s := range Schemes {
		if s.Port == port {
			return s
		}
	}
	tcp, _ := Lookup("tcp")
	return tcp
}

// Usual reports whether clients of the scheme customarily use this port.
func (s Scheme) Usual(port uint16) bool {
	if s.Port == port && port != 0 {
		return true
	}
	for _, also := range s.Also {
		if also == port {
			return true
		}
	}
	return false
}
