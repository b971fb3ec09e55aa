package test

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// serverPackages is Debian's packages of the servers that are tried.
const serverPackages = "apache2 lighttpd caddy haproxy varnish squid tinyproxy php-fpm gunicorn uwsgi " +
	"uwsgi-plugin-python3 postgresql pgbouncer mariadb-server redis-server " +
	"memcached etcd-server slapd samba krb5-kdc freeradius dropbear-bin proftpd-core exim4-daemon-light " +
	"dovecot-imapd bind9 unbound knot pdns-server " +
	"dnsmasq chrony mosquitto nats-server prosody ngircd inspircd rsync tftpd-hpa cups-daemon xrdp x11vnc openvpn " +
	"stunnel4 coturn mumble-server snmpd prometheus " +
	"prometheus-node-exporter graphite-carbon docker-registry git rsyslog kamailio dante-server openssl mini-httpd " +
	"radicale nsd icecast2 beanstalkd gearman-job-server nut-server"

// tried is a server, and how it is set up, moved and broken. The shell lines
// run on its host.
type tried struct {
	name   string
	unit   string
	setup  string // so that it serves the client; before its first start
	scheme string
	port   int
	// broken is what makes its settings wrong; "" where it has none.
	broken, mend string
	// moved takes it to another port, and back by mend.
	moved string
	more  []ruin
	// host is what the endpoint calls it, and trust the file there of the
	// certificate that clients trust.
	host, trust string
}

// named is the same server by a name, with a certificate of its own.
func (s tried) named(host, trust string) tried {
	s.host, s.trust = host, trust
	return s
}

// ruin is one more fault of a server.
type ruin struct {
	name, do string
	want     string
	args     []string
	// at is the endpoint that is asked for, if it is another, or a name of the
	// client's hosts file, which is hosts.
	at, hosts string
}

// conf is the lines that keep a settings file, and put a line into it.
func conf(file, line string) (broken, mend string) {
	return fmt.Sprintf("cp -a %[1]s /root/kept; printf '\\n%[2]s\\n' >> %[1]s", file, line), "cp -a /root/kept " + file
}

// at is a server whose settings file is broken by a line that it does not
// know, and moved by a change of its port there.
func at(name, unit, scheme string, port int, setup, file, line, moved string) tried {
	s := tried{name: name, unit: unit, scheme: scheme, port: port, setup: setup}
	s.broken, s.mend = conf(file, line)
	if moved != "" {
		s.moved = "cp -a " + file + " /root/kept; sed -i '" + moved + "' " + file
	}
	return s
}

// and is the same server with faults of its own.
func (s tried) and(more ...ruin) tried {
	s.more = append(s.more, more...)
	return s
}

// unreadable takes a settings file from whoever the server runs as.
func unreadable(file string) ruin {
	return ruin{
		name: "unreadable settings",
		do:   fmt.Sprintf("cp -a %[1]s /root/kept; chown root:root %[1]s; chmod 600 %[1]s", file),
		want: "service/settings-rejected",
	}
}

// otherFamily is a server that listens on IPv4 alone, asked for by IPv6.
func otherFamily(file, change, at string) ruin {
	return ruin{
		name: "IPv6 asked of IPv4",
		do:   fmt.Sprintf("cp -a %[1]s /root/kept; sed -i %[2]s %[1]s", file, change),
		want: "ports/family-gap",
		at:   at,
	}
}

// oldAddress is a name with two addresses, of which the first is a server's
// that nobody runs any more.
func oldAddress(file, scheme string, port int) ruin {
	return ruin{
		name: "an old address beside the right one",
		do:   "cp -a " + file + " /root/kept",
		want: "names/one-bad-address",
		at: fmt.Sprintf(
			"%s://tidebook.varzea.example:%d",
			scheme,
			port,
		),
		hosts: "10.20.0.77 tidebook.varzea.example\n10.20.0.14 tidebook.varzea.example\n",
	}
}

// list puts a line in a settings file by which the client is kept out.
func list(file, change string) ruin {
	return ruin{
		name: "a list",
		do:   fmt.Sprintf("cp -a %[1]s /root/kept; sed -i '%[2]s' %[1]s", file, change),
		want: "rules/not-on-list",
	}
}

// loopback makes a server listen to its own host alone.
func loopback(file, change string) ruin {
	return ruin{
		name: "loopback only",
		do:   fmt.Sprintf("cp -a %[1]s /root/kept; sed -i %[2]s %[1]s", file, change),
		want: "ports/loopback-only",
	}
}

var servers = []tried{
	at("nsd", "nsd", "dns", 53, "printf 'server:\n  ip-address: 0.0.0.0\nzone:\n  name: varzea.example\n  zonefile: "+
		"/etc/nsd/z\n' > /etc/nsd/nsd.conf; printf '@ 60 IN SOA n. h. 1 60 60 60 60\n@ 60 IN NS n\nn 60 IN A "+
		"10.20.0.14\n@ 60 IN A 10.20.0.14\n' > /etc/nsd/z", "/etc/nsd/nsd.conf", "tides: on",
		"s/ip-address: 0.0.0.0/ip-address: 0.0.0.0@5353/"),
	at("icecast2", "icecast2", "http", 8000, "sed -i 's/ENABLE=.*/ENABLE=true/' /etc/default/icecast2",
		"/etc/icecast2/icecast.xml", "<tides", "s/<port>8000/<port>8001/").and(loopback("/etc/icecast2/icecast.xml",
		"'s#<port>8000</port>#<port>8000</port><bind-address>127.0.0.1</bind-address>#'"),
		unreadable("/etc/icecast2/icecast.xml")),
	at("beanstalkd", "beanstalkd", "tcp", 11300,
		"sed -i 's/^BEANSTALKD_LISTEN_ADDR=.*/BEANSTALKD_LISTEN_ADDR=0.0.0.0/' /etc/default/beanstalkd",
		"/etc/default/beanstalkd", "BEANSTALKD_EXTRA=--tides",
		"s/^BEANSTALKD_LISTEN_PORT=.*/BEANSTALKD_LISTEN_PORT=11301/").and(loopback("/etc/default/beanstalkd",
		"'s/^BEANSTALKD_LISTEN_ADDR=.*/BEANSTALKD_LISTEN_ADDR=127.0.0.1/'")),
	at("gearman", "gearman-job-server", "tcp", 4730, "mkdir -p /etc/systemd/system/gearman-job-server.service.d; printf "+
		"'[Service]\nTimeoutStopSec=2\n' > /etc/systemd/system/gearman-job-server.service.d/x.conf; "+
		"systemctl daemon-reload; sed -i 's/--listen=localhost/--listen=0.0.0.0/' "+
		"/etc/default/gearman-job-server", "/etc/default/gearman-job-server", "PARAMS=--tides",
		"s/--listen=0.0.0.0/--listen=0.0.0.0 --port=4731/").and(loopback("/etc/default/gearman-job-server",
		"s/--listen=0.0.0.0/--listen=127.0.0.1/")),
	at("nut-server", "nut-server", "tcp", 3493, "printf 'MODE=netserver\n' > /etc/nut/nut.conf; printf 'LISTEN "+
		"0.0.0.0 3493\n' > /etc/nut/upsd.conf; printf '[d]\n driver = dummy-ups\n port = x.dev\n' > /etc/nut/ups.conf",
		"/etc/nut/upsd.conf", "LISTEN tides 99999999", "s/3493/3494/").and(loopback("/etc/nut/upsd.conf",
		"s/0.0.0.0/127.0.0.1/")),
	at(
		"mini-httpd",
		"mini-httpd",
		"http",
		8080,
		"sed -i 's/^START=.*/START=1/; s|^DAEMON_OPTS=.*|DAEMON_OPTS=\"-C /etc/mini-httpd.conf\"|' "+
			"/etc/default/mini-httpd; sed -i 's/^host=.*/host=0.0.0.0/; s/^port=.*/port=8080/' /etc/mini-httpd.conf",
		"/etc/mini-httpd.conf",
		"tides=on",
		"s/^port=8080/port=8081/",
	).and(loopback("/etc/mini-httpd.conf", "s/^host=.*/host=127.0.0.1/")),
	at(
		"radicale",
		"radicale",
		"http",
		5232,
		"printf '[server]\nhosts = 0.0.0.0:5232\n' > /etc/radicale/config; chgrp radicale /etc/radicale/config",
		"/etc/radicale/config",
		"tides = on",
		"s/5232/5233/",
	).and(loopback("/etc/radicale/config", "s/0.0.0.0/127.0.0.1/")),
	at(
		"apache2",
		"apache2",
		"http",
		8001,
		"sed -i s/80/8001/ /etc/apache2/ports.conf",
		"/etc/apache2/ports.conf",
		"Tides on",
		"s/8001/8101/",
	).and(
		otherFamily(
			"/etc/apache2/ports.conf",
			"'s/^Listen 8001/Listen 0.0.0.0:8001/'",
			"http://[fd20::14]:8001",
		), oldAddress("/etc/apache2/ports.conf", "http", 8001)),
	at(
		"lighttpd",
		"lighttpd",
		"http",
		8002,
		"sed -i 's/server.port .*/server.port = 8002/' /etc/lighttpd/lighttpd.conf",
		"/etc/lighttpd/lighttpd.conf",
		"tides on",
		"s/8002/8102/",
	),
	at(
		"nginx",
		"nginx",
		"http",
		8010,
		"printf '<?php echo 1;' > /srv/x.php; systemctl start php8.2-fpm; printf 'server { listen 8010; location / "+
			"{ include fastcgi_params; fastcgi_param SCRIPT_FILENAME /srv/x.php; fastcgi_pass "+
			"unix:/run/php/php8.2-fpm.sock; } }\n' > /etc/nginx/conf.d/x.conf",
		"/etc/nginx/conf.d/x.conf",
		"tides on;",
		"s/8010/8110/",
	).and(
		otherFamily("/etc/nginx/conf.d/x.conf", "'s/listen 8010/listen 0.0.0.0:8010/'", "http://[fd20::14]:8010"),
		ruin{
			name: "a backend's socket",
			do:   "cp -a /etc/nginx/conf.d/x.conf /root/kept; systemctl stop php8.2-fpm",
			want: "answer/hop-fails",
		},
		ruin{
			name: "a backend's port",
			do: "cp -a /etc/nginx/conf.d/x.conf /root/kept; sed -i " +
				"s#unix:/run/php/php8.2-fpm.sock#127.0.0.1:9009# /etc/nginx/conf.d/x.conf",
			want: "answer/hop-fails",
		}),
	at(
		"caddy",
		"caddy",
		"http",
		8003,
		"printf ':8003 {\\n respond ok\\n}\\n' > /etc/caddy/Caddyfile",
		"/etc/caddy/Caddyfile",
		"tides {",
		"s/8003/8103/",
	),
	at(
		"haproxy",
		"haproxy",
		"tcp",
		8004,
		"printf '\\nlisten tides\\n mode tcp\\n bind :8004\\n server a 127.0.0.1:22\\n' >> /etc/haproxy/haproxy.cfg",
		"/etc/haproxy/haproxy.cfg",
		"tides on",
		"s/8004/8104/",
	).and(list("/etc/haproxy/haproxy.cfg", "s/^ bind :8004/&\\n tcp-request connection reject unless { src 10.20.9.0\\/24 }/")),
	at(
		"squid",
		"squid",
		"http",
		3128,
		"printf 'http_access allow all\\n' > /etc/squid/conf.d/x.conf",
		"/etc/squid/squid.conf",
		"tides on",
		"s/^http_port 3128/http_port 3129/",
	),
	at(
		"tinyproxy",
		"tinyproxy",
		"http",
		8888,
		"sed -i 's/^Allow 127.0.0.1/Allow 10.20.0.0\\/16/; s/^Allow ::1//' /etc/tinyproxy/tinyproxy.conf",
		"/etc/tinyproxy/tinyproxy.conf",
		"Tides on",
		"s/^Port 8888/Port 8889/",
	).and(list("/etc/tinyproxy/tinyproxy.conf",
		"s/^Allow 10.20.0.0/Allow 10.20.9.0/; s#^Allow 10.20.9.0/16#Allow 10.20.9.0/24#")),
	at(
		"php-fpm",
		"php8.2-fpm",
		"tcp",
		9001,
		"sed -i 's/^listen = .*/listen = 9001/' /etc/php/8.2/fpm/pool.d/www.conf",
		"/etc/php/8.2/fpm/pool.d/www.conf",
		"tides = on",
		"s/9001/9101/",
	).and(list("/etc/php/8.2/fpm/pool.d/www.conf",
		"s/^;*listen.allowed_clients.*/listen.allowed_clients = 127.0.0.1/")),
	at(
		"postgresql",
		"postgresql@15-main",
		"postgres",
		5432,
		"sed -i \"s/^#listen_addresses.*/listen_addresses = '*'/\" /etc/postgresql/15/main/postgresql.conf; printf "+
			"'host all all 10.20.0.0/16 scram-sha-256\\n' >> /etc/postgresql/15/main/pg_hba.conf",
		"/etc/postgresql/15/main/postgresql.conf",
		"tides = on",
		"s/^port = 5432/port = 5433/",
	).and(loopback("/etc/postgresql/15/main/postgresql.conf",
		`"s/^listen_addresses.*/listen_addresses = 'localhost'/"`)),
	at(
		"pgbouncer",
		"pgbouncer",
		"postgres",
		6432,
		"sed -i 's/^listen_addr = .*/listen_addr = */' /etc/pgbouncer/pgbouncer.ini; sed -i "+
			"'s/^\\[databases\\]/[databases]\\npostgres = host=127.0.0.1/' /etc/pgbouncer/pgbouncer.ini",
		"/etc/pgbouncer/pgbouncer.ini",
		"tides = on",
		"s/^listen_port = 6432/listen_port = 6433/",
	),
	at(
		"mariadb",
		"mariadb",
		"mysql",
		3306,
		"sed -i 's/^bind-address.*/bind-address = 0.0.0.0/' /etc/mysql/mariadb.conf.d/50-server.cnf; systemctl "+
			"start mariadb; mariadb -e \"create user gauge@'%' identified by 'tide7'\"; systemctl stop mariadb",
		"/etc/mysql/mariadb.conf.d/50-server.cnf",
		"[mysqld]\\ntides = on",
		"s/^bind-address.*/bind-address = 0.0.0.0\\nport = 3307/",
	).and(loopback("/etc/mysql/mariadb.conf.d/50-server.cnf", "'s/^bind-address.*/bind-address = 127.0.0.1/'")),
	at(
		"redis",
		"redis-server",
		"redis",
		6379,
		"sed -i 's/^bind .*/bind 0.0.0.0/; s/^protected-mode .*/protected-mode no/' /etc/redis/redis.conf",
		"/etc/redis/redis.conf",
		"tides on",
		"s/^port 6379/port 6380/",
	).and(otherFamily("/etc/redis/redis.conf", "'s/^bind .*/bind 0.0.0.0/'", "redis://[fd20::14]:6379"),
		oldAddress("/etc/redis/redis.conf", "redis", 6379), unreadable("/etc/redis/redis.conf"),
		list("/etc/redis/redis.conf", "s/^protected-mode no/protected-mode yes/")),
	at(
		"memcached",
		"memcached",
		"memcached",
		11211,
		"sed -i 's/^-l .*/-l 0.0.0.0/' /etc/memcached.conf",
		"/etc/memcached.conf",
		"--tides",
		"s/^-p 11211/-p 11212/",
	).and(loopback("/etc/memcached.conf", "'s/^-l .*/-l 127.0.0.1/'")),
	at(
		"etcd",
		"etcd",
		"etcd",
		2379,
		"printf 'ETCD_LISTEN_CLIENT_URLS=http://0.0.0.0:2379\\nETCD_ADVERTISE_CLIENT_URLS=http://10.20.0.14:2379\\n' >> /etc/default/etcd",
		"/etc/default/etcd",
		"ETCD_MAX_SNAPSHOTS=tides",
		"s#//0.0.0.0:2379#//0.0.0.0:2389#",
	),
	at("slapd", "slapd", "ldap", 389, "true", "/etc/default/slapd", "", "s#ldap:///#ldap://:1389/#"),
	at(
		"krb5-kdc",
		"krb5-kdc",
		"kerberos",
		88,
		"printf '[libdefaults]\\n default_realm = VARZEA.EXAMPLE\\n' > /etc/krb5.conf; mkdir -p /etc/krb5kdc; "+
			"printf '[kdcdefaults]\\n kdc_ports = 88\\n kdc_tcp_ports = 88\\n[realms]\\n VARZEA.EXAMPLE = {\\n "+
			"database_name = /var/lib/krb5kdc/principal\\n }\\n' > /etc/krb5kdc/kdc.conf; kdb5_util create -s -P "+
			"tides -r VARZEA.EXAMPLE",
		"/etc/krb5.conf",
		"[realms",
		"",
	),
	at(
		"proftpd",
		"proftpd",
		"ftp",
		21,
		"echo 10.20.0.14 tidebook >> /etc/hosts",
		"/etc/proftpd/proftpd.conf",
		"Tides on",
		"s/^Port.*/Port 2121/",
	),
	at(
		"exim4",
		"exim4",
		"smtp",
		25,
		"sed -i \"s/^dc_local_interfaces=.*/dc_local_interfaces='0.0.0.0'/\" /etc/exim4/update-exim4.conf.conf; "+
			"update-exim4.conf",
		"/etc/exim4/exim4.conf.template",
		"tides = on",
		"",
	),
	at(
		"dovecot",
		"dovecot",
		"tcp",
		143,
		"openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=tidebook -addext subjectAltName=IP:10.20.0.14 "+
			"-keyout /etc/dovecot/private/dovecot.key -out /etc/dovecot/private/dovecot.pem",
		"/etc/dovecot/dovecot.conf",
		"tides = on",
		"",
	),
	at(
		"bind9",
		"named",
		"dns",
		53,
		"printf 'options { directory \"/var/cache/bind\"; listen-on { any; }; listen-on-v6 { none; }; recursion no; "+
			"};\\nzone \"varzea.example\" { type master; file \"/etc/bind/db.local\"; };\\n' > "+
			"/etc/bind/named.conf.options; sed -i s/localhost/varzea.example/ /etc/bind/db.local",
		"/etc/bind/named.conf.options",
		"tides on;",
		"s/listen-on {/listen-on port 5353 {/",
	),
	at(
		"unbound",
		"unbound",
		"dns",
		53,
		"printf 'server:\\n interface: 0.0.0.0\\n access-control: 10.20.0.0/16 allow\\n local-zone: "+
			"\"varzea.example.\" static\\n local-data: \"tidebook.varzea.example. A 10.20.0.14\"\\n' > "+
			"/etc/unbound/unbound.conf.d/x.conf; rm -f /etc/unbound/unbound.conf.d/root-auto-trust-anchor-file.conf",
		"/etc/unbound/unbound.conf.d/x.conf",
		"tides on",
		"s/interface: 0.0.0.0/interface: 0.0.0.0@5353/",
	).and(ruin{
		name: "a list",
		do: "cp -a /etc/unbound/unbound.conf.d/x.conf /root/kept; " +
			"sed -i 's/10.20.0.0.16 allow/10.20.9.0\\/24 allow/' /etc/unbound/unbound.conf.d/x.conf",
		want: "rules/not-on-list",
		at:   "dns://10.20.0.14:53/tidebook.varzea.example",
	}),
	at(
		"knot",
		"knot",
		"dns",
		53,
		"printf 'server:\\n    listen: 0.0.0.0@53\\nzone:\\n  - domain: varzea.example\\n    file: "+
			"/var/lib/knot/z\\n' > /etc/knot/knot.conf; printf '@ IN SOA n. h. 1 60 60 60 60\\n@ NS n\\nn A "+
			"10.20.0.14\\ntidebook A 10.20.0.14\\n' > /var/lib/knot/z",
		"/etc/knot/knot.conf",
		"tides: on",
		"s/@53/@5353/",
	),
	at(
		"dnsmasq",
		"dnsmasq",
		"dns",
		53,
		"printf 'listen-address=10.20.0.14\\nno-resolv\\nno-hosts\\naddress=/varzea.example/10.20.0.14\\n' > "+
			"/etc/dnsmasq.d/x.conf",
		"/etc/dnsmasq.d/x.conf",
		"tides=on",
		"s/^no-resolv/no-resolv\\nport=5353/",
	).and(list("/etc/dnsmasq.d/x.conf", "s/^listen-address.*//")),
	at(
		"chrony",
		"chrony",
		"ntp",
		123,
		"printf 'allow 10.20.0.0/16\\nlocal stratum 10\\n' >> /etc/chrony/chrony.conf; mkdir -p "+
			"/etc/systemd/system/chrony.service.d; printf "+
			"'[Service]\\nExecStart=\\nUser=root\\nType=simple\\nPIDFile=\\nExecStart=/usr/sbin/chronyd -x -d -F 0 "+
			"-u root\\n' > /etc/systemd/system/chrony.service.d/x.conf; systemctl daemon-reload",
		"/etc/chrony/chrony.conf",
		"tides on",
		"",
	).and(list("/etc/chrony/chrony.conf", "s/^allow 10.20.0.0.16/allow 10.20.9.0\\/24/")),
	at(
		"mosquitto",
		"mosquitto",
		"mqtt",
		1883,
		"printf 'listener 1883\\nallow_anonymous true\\n' > /etc/mosquitto/conf.d/x.conf",
		"/etc/mosquitto/conf.d/x.conf",
		"tides on",
		"s/1883/1884/",
	).and(otherFamily("/etc/mosquitto/conf.d/x.conf", "'s/listener 1883/listener 1883 0.0.0.0/'",
		"mqtt://[fd20::14]:1883"), oldAddress("/etc/mosquitto/conf.d/x.conf", "mqtt", 1883)),
	at(
		"nats-server",
		"nats-server",
		"nats",
		4222,
		"sed -i 's/^host:.*/host: 0.0.0.0/; s/^listen:.*/listen: 0.0.0.0:4222/' /etc/nats-server.conf",
		"/etc/nats-server.conf",
		"tides {",
		"s/4222/4223/",
	).and(unreadable("/etc/nats-server.conf")),
	at(
		"prosody",
		"prosody",
		"xmpp",
		5222,
		"openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=varzea.example -addext "+
			"subjectAltName=DNS:varzea.example -keyout /etc/prosody/certs/varzea.example.key -out "+
			"/etc/prosody/certs/varzea.example.crt; chown -R prosody /etc/prosody/certs; sed -i "+
			"'s/localhost/varzea.example/' /etc/prosody/prosody.cfg.lua",
		"/etc/prosody/prosody.cfg.lua",
		"tides = = on",
		"",
	).named("varzea.example", "/etc/prosody/certs/varzea.example.crt"),
	at("ngircd", "ngircd", "tcp", 6667, "true", "/etc/ngircd/ngircd.conf", "", ""),
	at(
		"inspircd",
		"inspircd",
		"tcp",
		6667,
		"sed -i 's/address=\"127.0.0.1\"/address=\"*\"/' /etc/inspircd/inspircd.conf",
		"/etc/inspircd/inspircd.conf",
		"<tides",
		"s/port=\"6667\"/port=\"6668\"/",
	),
	at(
		"rsync",
		"rsync",
		"rsync",
		873,
		"printf 'port = 873\\n[tides]\\n path = /srv\\n hosts allow = 10.20.0.0/16\\n' > /etc/rsyncd.conf",
		"/etc/rsyncd.conf",
		"[tides",
		"s/873/1873/",
	),
	at("xrdp", "xrdp", "rdp", 3389, "adduser -q xrdp ssl-cert || true", "/etc/xrdp/xrdp.ini", "", ""),
	at(
		"stunnel4",
		"stunnel@tides",
		"tcp",
		10443,
		"openssl req -x509 -newkey rsa:2048 -nodes -days 30 -subj /CN=tidebook -keyout /etc/stunnel/k.pem -out "+
			"/etc/stunnel/c.pem; printf 'foreground = yes\\n[tides]\\naccept = 10443\\nconnect = "+
			"127.0.0.1:22\\ncert = /etc/stunnel/c.pem\\nkey = /etc/stunnel/k.pem\\n' > /etc/stunnel/tides.conf",
		"/etc/stunnel/tides.conf",
		"tides = on",
		"s/10443/10444/",
	),
	at(
		"coturn",
		"coturn",
		"stun",
		3478,
		"printf 'listening-ip=10.20.0.14\\nno-tls\\nno-dtls\\n' > /etc/turnserver.conf",
		"/etc/turnserver.conf",
		"",
		"s/^no-tls/no-tls\\nlistening-port=3479/",
	),
	at(
		"snmpd",
		"snmpd",
		"snmp",
		161,
		"sed -i 's/^agentaddress.*/agentaddress udp:161/' /etc/snmp/snmpd.conf",
		"/etc/snmp/snmpd.conf",
		"",
		"s/udp:161/udp:1161/",
	),
	at(
		"prometheus",
		"prometheus",
		"http",
		9090,
		"true",
		"/etc/prometheus/prometheus.yml",
		"tides: on",
		"",
	).and(unreadable("/etc/prometheus/prometheus.yml")),
	at(
		"node-exporter",
		"prometheus-node-exporter",
		"http",
		9100,
		"true",
		"/etc/default/prometheus-node-exporter",
		"ARGS=--tides",
		"",
	),
	at(
		"docker-registry",
		"docker-registry",
		"http",
		5000,
		"true",
		"/etc/docker/registry/config.yml",
		"tides: [",
		"s/:5000/:5001/",
	),
	at(
		"kamailio",
		"kamailio",
		"sip",
		5060,
		"printf 'RUN_KAMAILIO=yes\\n' >> /etc/default/kamailio; printf "+
			"'#!KAMAILIO\\nlisten=udp:10.20.0.14:5060\\nloadmodule \"sl.so\"\\nrequest_route { "+
			"sl_send_reply(\"200\", \"OK\"); }\\n' > /etc/kamailio/kamailio.cfg",
		"/etc/kamailio/kamailio.cfg",
		"tides {",
		"s/:5060/:5070/",
	),
	at(
		"danted",
		"danted",
		"socks5",
		1080,
		"printf 'logoutput: syslog\\ninternal: 0.0.0.0 port = 1080\\nexternal: 10.20.0.14\\nsocksmethod: "+
			"none\\nclient pass { from: 0/0 to: 0/0 }\\nsocks pass { from: 0/0 to: 0/0 }\\n' > /etc/danted.conf",
		"/etc/danted.conf",
		"tides: on",
		"s/1080/1081/",
	),
	at(
		"samba",
		"smbd",
		"smb",
		445,
		"true",
		"/etc/samba/smb.conf",
		"",
		"",
	).and(list("/etc/samba/smb.conf", `s/^\[global\]/[global]\nhosts deny = 10.20.7.0\/24/`)),
	at("freeradius", "freeradius", "radius", 1812, "true", "/etc/freeradius/3.0/radiusd.conf", "tides {", ""),
	at("mumble-server", "mumble-server", "tcp", 64738, "true", "/etc/mumble-server.ini", "",
		"s/^port=64738/port=64739/"),
}

// TestAcceptance starts servers from Debian's packages, breaks each in the ways
// of everyday, and counts how often the cause is named: by looking over SSH or,
// as UAKARI_ACCEPTANCE_BY says, by a record, here (on the server), or alone
// (from the client). It is long: make
// acceptance runs it.
func TestAcceptance(t *testing.T) {
	if os.Getenv("UAKARI_ACCEPTANCE") == "" {
		t.Skip("make acceptance runs it")
	}
	h, key := hostOver(t, serverRoot)
	count := map[string]int{}
	only := os.Getenv("UAKARI_ACCEPTANCE")
	h.put("/root/hello.pl", helloProgram)
	for _, s := range servers {
		if only != "all" && !slices.Contains(strings.Split(only, ","), s.name) {
			continue
		}
		t.Run(s.name, func(t *testing.T) { h.t = t; s.measure(t, h, key, count) })
	}
	t.Logf(
		"%d cases: %d right, %d coarse, %d unsure, %d wrong, %d falsely proven, %d said yes; healthy: %d clear, %d "+
			"alarmed",
		count["cases"],
		count["right"],
		count["coarse"],
		count["unsure"],
		count["wrong"],
		count["false"],
		count["yes"],
		count["clear"],
		count["alarm"],
	)
}

// measure tries one server: healthy, stopped, with broken settings, with its
// port taken, moved, and by its own faults.
func (s tried) measure(t *testing.T, h *fullHost, key string, count map[string]int) {
	endpoint := fmt.Sprintf("%s://%s:%d", s.scheme, cmp.Or(s.host, "10.20.0.14"), s.port)
	by := os.Getenv("UAKARI_ACCEPTANCE_BY")
	trace := func(more ...string) trail.Trail {
		args := append([]string{"--wait", "2s"}, more...)
		if s.host != "" && by != "here" { // whose files a server elsewhere does not see
			text, err := h.command("cat", s.trust).Output()
			if err != nil {
				t.Fatal(err)
			}
			args = append(
				args,
				"--hosts",
				write(t, filepath.Join(t.TempDir(), "hosts"), "10.20.0.14 "+s.host+"\n"),
				"--trust",
				write(t, filepath.Join(t.TempDir(), "trust.pem"), string(text)),
			)
		}
		switch by {
		case "", "ssh":
			args = append(args, "--at", "root@10.20.0.14", "--identity", key)
		case "record":
			traced(t, h.from(), append(args, endpoint)...) // whoever writes a record was told of a try
			r := runWords(
				t,
				append(h.enter(), "/usr/local/bin/uakari", "record", "--for", endpoint, "--client", "10.20.7.31", "-o",
					"-"),
			)
			if r.status != 0 {
				t.Fatalf("%+v", r)
			}
			args = append(args, "--record", "server="+write(t, filepath.Join(t.TempDir(), "tidebook.json"), r.stdout))
		case "here":
			text := runWords(
				t,
				append(h.enter(), append([]string{"/usr/local/bin/uakari", "trace", "--json"},
					append(args, endpoint)...)...),
			)
			return readTrail(t, text.stdout+text.stderr)
		}
		return traced(t, h.from(), append(args, endpoint)...)
	}
	judge := func(name string, judged trail.Trail, want ...string) {
		var causes []string
		falsely := false
		for _, c := range judged.Blocking() {
			causes = append(causes, c.ID+" "+string(c.Certainty))
			falsely = falsely ||
				c.Certainty == trail.Proven && !slices.Contains(want, c.ID) && !slices.Contains(trueAndLess, c.ID)
		}
		verdict := "wrong"
		switch {
		case falsely:
			verdict = "false"
		case slices.ContainsFunc(judged.Causes, func(c trail.Cause) bool {
			return !c.Blocking && c.Certainty != trail.Possible && slices.Contains(want, c.ID)
		}):
			verdict = "right" // it slows, and does not block
		case judged.Outcome == trail.OutcomeClear && unasked(judged):
			verdict = "unsure" // it says that it connects, and that nothing more was asked
		case judged.Outcome == trail.OutcomeClear:
			verdict = "yes"
		case len(judged.Blocking()) > 0 && slices.Contains(want, judged.Blocking()[0].ID):
			verdict = "right"
		case len(causes) > 0 && slices.Contains(trueAndLess, judged.Blocking()[0].ID):
			verdict = "coarse"
		case len(causes) == 0:
			verdict = "unsure"
		}
		count["cases"]++
		count[verdict]++
		if verdict != "right" {
			out, _ := h.command("journalctl", "-u", s.unit, "-n", "14", "-o", "cat").CombinedOutput()
			t.Logf("%s: %s: got %q, want %q\n%s\n%s", name, verdict, causes, want, dump(judged), out)
		}
	}
	quiet := func(line string) { // what fails shows in what is judged
		if out, err := h.command("sh", "-c", line).CombinedOutput(); err != nil && strings.Contains(line, s.unit) &&
			!strings.Contains(line, "restart") {
			t.Logf("%s: %v: %s", line, err, out)
		}
	}
	restart := "systemctl reset-failed; timeout 20 systemctl restart " + s.unit
	stop := "systemctl stop " + s.unit
	h.do(s.setup)
	defer quiet(stop + "; systemctl stop squatter cups.socket 2>/dev/null; systemctl disable -q " + s.unit)
	quiet("systemctl enable -q " + s.unit)
	h.do(restart)
	s.wait(h)
	if judged := trace(); judged.Outcome == trail.OutcomeFault {
		count["alarm"]++
		t.Logf("healthy: %s", dump(judged))
	} else if judged.Outcome == trail.OutcomeClear {
		count["clear"]++
	} else {
		t.Logf("healthy, unsure: %s", dump(judged))
	}
	quiet(stop)
	judge("stopped", trace(), "service/stopped")
	if s.broken != "" && !strings.HasSuffix(s.broken, "'\\n\\n' >> "+fileOf(s.broken)) {
		quiet(s.broken + "; " + restart)
		time.Sleep(700 * time.Millisecond)
		judge("settings", trace(), "service/settings-rejected")
		quiet(s.mend)
	}
	taker := "systemd-run -q --unit=squatter /usr/bin/perl /root/hello.pl " + fmt.Sprint(s.port)
	if !isDatagram(s.scheme) {
		quiet(stop + "; " + taker + "; sleep 0.4; " + restart)
		time.Sleep(700 * time.Millisecond)
		judge("port taken", trace(), "service/port-taken", "ports/other-owner")
		quiet("systemctl stop squatter")
	}
	if s.moved != "" {
		quiet(s.moved + "; " + restart)
		time.Sleep(time.Second)
		judge("moved", trace(), "ports/moved", "settings/wrong-port")
		quiet(s.mend)
	}
	for _, r := range s.more {
		quiet(r.do + "; " + restart)
		time.Sleep(700 * time.Millisecond)
		args := slices.Clone(r.args)
		if r.hosts != "" {
			args = append(args, "--hosts", write(t, filepath.Join(t.TempDir(), "hosts"), r.hosts))
		}
		own := endpoint
		endpoint = cmp.Or(r.at, endpoint)
		judge(r.name, trace(args...), r.want)
		endpoint = own
		quiet(s.mend)
	}
}

// unasked reports whether the answer was not asked for.
func unasked(t trail.Trail) bool {
	return slices.ContainsFunc(t.Rungs, func(f trail.Finding) bool {
		return f.Name == trail.Answer && f.State == trail.Unseen
	})
}

func fileOf(broken string) string { return broken[strings.LastIndexByte(broken, ' ')+1:] }

func isDatagram(scheme string) bool {
	return slices.Contains([]string{"dns", "ntp", "sip", "stun", "snmp", "radius", "udp", "tftp"}, scheme)
}

// trueAndLess is causes that say what is so, without its reason.
var trueAndLess = []string{
	"ports/none-listening",
	"service/failed",
	"answer/source-refused",
	"answer/error-status",
}

// wait is until a server holds its port.
func (s tried) wait(h *fullHost) {
	h.command("sh", "-c", fmt.Sprintf("for i in $(seq 60); do ss -Hlntu | grep -q ':%d ' && exit; sleep 0.25; done",
		s.port)).
		Run()
	time.Sleep(300 * time.Millisecond)
}
