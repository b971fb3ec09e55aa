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
	// Programs are the open-source servers that speak it.
	Programs []Program
}

// Program is a server program, its units, and where its settings name ports.
type Program struct {
	Name     string   // as the kernel shows it
	Paths    []string // where distributions put it, patterns
	Units    []string
	Settings []string // files that may name the port, patterns
	Port     string   // a regular expression; group 1 is a port
	Default  uint16   // the port where the settings name none
	Logs     []string // log files, patterns
	LogTo    string   // a regular expression; group 1 is a log file that the settings name
}

var webServers = []Program{
	{Name: "nginx", Paths: []string{"/usr/sbin/nginx"}, Units: []string{"nginx.service"}, Logs: []string{"/var/log/nginx/error.log"}, LogTo: `(?m)^[^#\n]*\berror_log\s+(/[^\s;]+)`,
		Settings: []string{"/etc/nginx/nginx.conf", "/etc/nginx/conf.d/*.conf", "/etc/nginx/sites-enabled/*"},
		Port:     `(?m)^\s*listen\s+(?:[^\s;]*:)?(\d+)[\s;]`},
	{Name: "apache2", Paths: []string{"/usr/sbin/apache2"}, Units: []string{"apache2.service"}, Logs: []string{"/var/log/apache2/error.log"}, LogTo: `(?mi)^\s*errorlog\s+"?(/[^\s"]+)`,
		Settings: []string{"/etc/apache2/ports.conf"}, Port: `(?mi)^\s*listen\s+(?:\S*:)?(\d+)`},
	{Name: "httpd", Paths: []string{"/usr/sbin/httpd"}, Units: []string{"httpd.service"},
		Settings: []string{"/etc/httpd/conf/httpd.conf", "/etc/httpd/conf.d/*.conf"}, Port: `(?mi)^\s*listen\s+(?:\S*:)?(\d+)`},
	{Name: "haproxy", Paths: []string{"/usr/sbin/haproxy"}, Units: []string{"haproxy.service"},
		Settings: []string{"/etc/haproxy/haproxy.cfg"}, Port: `(?m)^\s*bind\s+\S*:(\d+)`},
}

var (
	sshd = Program{Name: "sshd", Paths: []string{"/usr/sbin/sshd"}, Units: []string{"ssh.service", "sshd.service", "ssh.socket", "sshd.socket"},
		Settings: []string{"/etc/ssh/sshd_config", "/etc/ssh/sshd_config.d/*.conf"},
		Port:     `(?mi)^\s*(?:port\s+|listenaddress\s+(?:\[\S*\]|[^\s:\[\]]+):)(\d+)`, Default: 22}
	postgres = Program{Name: "postgres", Paths: []string{"/usr/lib/postgresql/*/bin/postgres", "/usr/bin/postgres", "/usr/pgsql-*/bin/postgres"},
		Units:    []string{"postgresql@*.service", "postgresql.service", "postgresql-*.service"},
		Settings: []string{"/etc/postgresql/*/*/postgresql.conf", "/var/lib/pgsql/data/postgresql.conf"},
		Port:     `(?m)^\s*port\s*=?\s*'?(\d+)`, Default: 5432, Logs: []string{"/var/log/postgresql/*.log"}}
	mariadb = Program{Name: "mariadbd", Paths: []string{"/usr/sbin/mariadbd", "/usr/sbin/mysqld", "/usr/libexec/mariadbd"},
		Units:    []string{"mariadb.service", "mysql.service", "mysqld.service"},
		Settings: []string{"/etc/mysql/my.cnf", "/etc/mysql/conf.d/*.cnf", "/etc/mysql/mariadb.conf.d/*server.cnf", "/etc/my.cnf"},
		Port:     `(?m)^\s*port\s*=\s*(\d+)`, Default: 3306, Logs: []string{"/var/log/mysql/error.log", "/var/log/mariadb/mariadb.log"}, LogTo: `(?m)^\s*log[-_]error\s*=\s*(/\S+)`}
	redis = Program{Name: "redis-server", Paths: []string{"/usr/bin/redis-server"}, Units: []string{"redis-server.service", "redis.service"},
		Settings: []string{"/etc/redis/redis.conf", "/etc/redis.conf"}, Port: `(?m)^\s*(?:tls-)?port\s+(\d+)`, Default: 6379, Logs: []string{"/var/log/redis/*.log"}, LogTo: `(?m)^\s*logfile\s+"?(/[^\s"]+)`}
	slapd = Program{Name: "slapd", Paths: []string{"/usr/sbin/slapd", "/usr/libexec/slapd"}, Units: []string{"slapd.service"},
		Settings: []string{"/etc/default/slapd"}, Port: `(?m)^\s*SLAPD_SERVICES=.*ldaps?://[^\s"]*:(\d+)`}
	rabbit    = Program{Name: "beam.smp", Paths: []string{"/usr/sbin/rabbitmq-server", "/usr/lib/rabbitmq/bin/rabbitmq-server"}, Units: []string{"rabbitmq-server.service"}, Logs: []string{"/var/log/rabbitmq/*.log"}}
	mosquitto = Program{Name: "mosquitto", Paths: []string{"/usr/sbin/mosquitto"}, Units: []string{"mosquitto.service"},
		Settings: []string{"/etc/mosquitto/mosquitto.conf", "/etc/mosquitto/conf.d/*.conf"}, Port: `(?m)^\s*(?:listener|port)\s+(\d+)`, Logs: []string{"/var/log/mosquitto/mosquitto.log"}}
	vsftpd = Program{Name: "vsftpd", Paths: []string{"/usr/sbin/vsftpd"}, Units: []string{"vsftpd.service"}, Settings: []string{"/etc/vsftpd.conf"}, Port: `(?m)^\s*listen_port=(\d+)`, Default: 21,
		Logs: []string{"/var/log/vsftpd.log"}}
	nfsd    = Program{Name: "nfsd", Paths: []string{"/usr/sbin/rpc.nfsd"}, Units: []string{"nfs-server.service"}, Default: 2049}
	ganesha = Program{Name: "ganesha.nfsd", Paths: []string{"/usr/bin/ganesha.nfsd"}, Units: []string{"nfs-ganesha.service"}, Default: 2049, Logs: []string{"/var/log/ganesha/ganesha.log"}}
	rpcbind = Program{Name: "rpcbind", Paths: []string{"/usr/sbin/rpcbind", "/sbin/rpcbind"}, Units: []string{"rpcbind.service", "rpcbind.socket"}, Default: 111}
	smbd    = Program{Name: "smbd", Paths: []string{"/usr/sbin/smbd"}, Units: []string{"smbd.service", "smb.service", "samba-ad-dc.service"}, Settings: []string{"/etc/samba/smb.conf"},
		Port: `(?mi)^\s*smb ports\s*=\s*(\d+)`, Default: 445, Logs: []string{"/var/log/samba/log.smbd"}, LogTo: `(?m)^\s*log file\s*=\s*(/[^\s%]+)`}
	dcerpcd = Program{Name: "samba-dcerpcd", Paths: []string{"/usr/libexec/samba/samba-dcerpcd", "/usr/lib/*/samba/samba-dcerpcd"}, Units: []string{"samba-dcerpcd.service", "smbd.service", "samba-ad-dc.service"}, Default: 135, Logs: []string{"/var/log/samba/log.rpcd_epmapper", "/var/log/samba/log.samba-dcerpcd"}}
	chronyd = Program{Name: "chronyd", Paths: []string{"/usr/sbin/chronyd"}, Units: []string{"chrony.service", "chronyd.service"},
		Settings: []string{"/etc/chrony/chrony.conf", "/etc/chrony.conf"}, Port: `(?m)^\s*port\s+(\d+)`, Default: 123, Logs: []string{"/var/log/chrony/*.log"}}
	ntpd = Program{Name: "ntpd", Paths: []string{"/usr/sbin/ntpd"}, Units: []string{"ntpsec.service", "ntp.service", "ntpd.service"},
		Settings: []string{"/etc/ntpsec/ntp.conf", "/etc/ntp.conf"}, Default: 123, Logs: []string{"/var/log/ntp.log", "/var/log/ntpsec/*.log"}}
	named   = Program{Name: "named", Paths: []string{"/usr/sbin/named"}, Units: []string{"named.service", "bind9.service"}, Default: 53}
	dnsmasq = Program{Name: "dnsmasq", Paths: []string{"/usr/sbin/dnsmasq"}, Units: []string{"dnsmasq.service"}, Settings: []string{"/etc/dnsmasq.conf", "/etc/dnsmasq.d/*"}, Port: `(?m)^\s*port=(\d+)`, Default: 53}
	unbound = Program{Name: "unbound", Paths: []string{"/usr/sbin/unbound"}, Units: []string{"unbound.service"}, Settings: []string{"/etc/unbound/unbound.conf"}, Port: `(?m)^\s*port:\s*(\d+)`, Default: 53}
	krb5kdc = Program{Name: "krb5kdc", Paths: []string{"/usr/sbin/krb5kdc"}, Units: []string{"krb5-kdc.service", "krb5kdc.service"},
		Settings: []string{"/etc/krb5kdc/kdc.conf", "/var/kerberos/krb5kdc/kdc.conf"}, Port: `(?m)^\s*kdc_(?:tcp_)?(?:ports|listen)\s*=\s*(?:\d+,)?(\d+)`, Default: 88,
		LogTo: `(?m)^\s*kdc\s*=\s*FILE:(/\S+)`, Logs: []string{"/var/log/krb5kdc.log"}}
	postfix = Program{Name: "master", Paths: []string{"/usr/lib/postfix/sbin/master", "/usr/libexec/postfix/master"},
		Units: []string{"postfix@-.service", "postfix.service"}, Logs: []string{"/var/log/mail.log", "/var/log/maillog"}}
	dovecot = Program{Name: "dovecot", Paths: []string{"/usr/sbin/dovecot"}, Units: []string{"dovecot.service", "dovecot.socket"},
		Settings: []string{"/etc/dovecot/dovecot.conf", "/etc/dovecot/conf.d/*.conf"}, LogTo: `(?m)^\s*(?:log_path|info_log_path)\s*=\s*(/\S+)`, Logs: []string{"/var/log/mail.log", "/var/log/maillog", "/var/log/dovecot.log"}}
)

// on gives a program the port that it uses for one scheme when its settings
// name none.
func on(p Program, port uint16) []Program {
	p.Default = port
	return []Program{p}
}

// webOn does so for every web server.
func webOn(port uint16) []Program {
	var all []Program
	for _, p := range webServers {
		all = append(all, on(p, port)...)
	}
	return all
}

// Schemes is the table, in the order in which help lists it.
var Schemes = []Scheme{
	{Name: "https", Port: 443, Also: []uint16{8443}, Security: fact.TLS, First: ClientFirst, Wire: "http", Verify: true, Programs: webOn(0)},
	{Name: "http", Port: 80, Also: []uint16{8080}, Security: fact.Plain, First: ClientFirst, Wire: "http", Programs: webOn(80)},
	{Name: "ssh", Port: 22, Security: fact.Plain, First: ServerFirst, Wire: "ssh", Programs: []Program{sshd}},
	{Name: "postgres", Aliases: []string{"postgresql"}, Port: 5432, Security: fact.StartTLS, First: ClientFirst, Wire: "postgres", Programs: []Program{postgres}},
	{Name: "mysql", Aliases: []string{"mariadb"}, Port: 3306, Security: fact.StartTLS, First: ServerFirst, Wire: "mysql", Programs: []Program{mariadb}},
	{Name: "redis", Nameless: "default", Port: 6379, Security: fact.Plain, First: ClientFirst, Wire: "redis", Programs: []Program{redis}},
	{Name: "rediss", Nameless: "default", Port: 6380, Security: fact.TLS, First: ClientFirst, Wire: "redis", Verify: true, Programs: on(redis, 0)},
	{Name: "ldap", Port: 389, Security: fact.Plain, First: ClientFirst, Wire: "ldap", Record: "_ldap._tcp", Programs: on(slapd, 389)},
	{Name: "ldap+starttls", Port: 389, Security: fact.StartTLS, First: ClientFirst, Wire: "ldap", Verify: true, Record: "_ldap._tcp", Programs: on(slapd, 389)},
	{Name: "ldaps", Port: 636, Security: fact.TLS, First: ClientFirst, Wire: "ldap", Verify: true, Record: "_ldaps._tcp", Programs: on(slapd, 0)},
	{Name: "kerberos", Aliases: []string{"krb5"}, Port: 88, Security: fact.Plain, First: ClientFirst, Wire: "krb5", Record: "_kerberos._tcp", Programs: []Program{krb5kdc}},
	{Name: "smtp", Port: 25, Security: fact.StartTLS, First: ServerFirst, Wire: "smtp", Programs: on(postfix, 25)},
	{Name: "submission", Port: 587, Security: fact.StartTLS, First: ServerFirst, Wire: "smtp", Verify: true, Record: "_submission._tcp", Programs: on(postfix, 587)},
	{Name: "smtps", Aliases: []string{"submissions"}, Port: 465, Security: fact.TLS, First: ServerFirst, Wire: "smtp", Verify: true, Record: "_submissions._tcp", Programs: on(postfix, 465)},
	{Name: "imap", Port: 143, Security: fact.StartTLS, First: ServerFirst, Wire: "imap", Verify: true, Record: "_imap._tcp", Programs: on(dovecot, 143)},
	{Name: "imaps", Port: 993, Security: fact.TLS, First: ServerFirst, Wire: "imap", Verify: true, Record: "_imaps._tcp", Programs: on(dovecot, 993)},
	{Name: "pop3", Port: 110, Security: fact.StartTLS, First: ServerFirst, Wire: "pop3", Verify: true, Record: "_pop3._tcp", Programs: on(dovecot, 110)},
	{Name: "pop3s", Port: 995, Security: fact.TLS, First: ServerFirst, Wire: "pop3", Verify: true, Record: "_pop3s._tcp", Programs: on(dovecot, 995)},
	{Name: "amqp", Port: 5672, Security: fact.Plain, First: ClientFirst, Wire: "amqp", Programs: on(rabbit, 5672)},
	{Name: "amqps", Port: 5671, Security: fact.TLS, First: ClientFirst, Wire: "amqp", Verify: true, Programs: on(rabbit, 5671)},
	{Name: "mqtt", Port: 1883, Security: fact.Plain, First: ClientFirst, Wire: "mqtt", Programs: on(mosquitto, 1883)},
	{Name: "mqtts", Port: 8883, Security: fact.TLS, First: ClientFirst, Wire: "mqtt", Verify: true, Programs: on(mosquitto, 8883)},
	{Name: "ftp", Port: 21, Security: fact.StartTLS, First: ServerFirst, Wire: "ftp", Programs: []Program{vsftpd}},
	{Name: "smb", Port: 445, Security: fact.Plain, First: ClientFirst, Wire: "smb", Programs: []Program{smbd}},
	{Name: "nfs", Port: 2049, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "nfs", Programs: []Program{nfsd, ganesha}},
	{Name: "rpc", Port: 111, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "rpc", Programs: []Program{rpcbind}},
	{Name: "dcerpc", Port: 135, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "dcerpc", Programs: []Program{dcerpcd}},
	{Name: "dns", Port: 53, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "dns", Programs: []Program{named, dnsmasq, unbound}},
	{Name: "dns+tcp", Port: 53, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "dns", Programs: []Program{named, dnsmasq, unbound}},
	{Name: "ntp", Port: 123, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst, Wire: "ntp", Record: "_ntp._udp", Programs: []Program{chronyd, ntpd}},
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
