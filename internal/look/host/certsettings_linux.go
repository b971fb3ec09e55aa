package host

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uakari/internal/fact"
)

// certSettings are where programs say which certificate they serve: files, the
// directives for it and for its key, each with the path in group 1.
var certSettings = sync.OnceValue(func() []certSetting {
	line := func(directive, value string) *regexp.Regexp {
		return regexp.MustCompile(`(?i)^\s*(?:` + directive + `)\b` + value)
	}
	const (
		blank  = `\s+['"]?([^\s'";#]+)`
		equals = `\s*=?\s*<?\s*['"]?([^\s'";#]+)`
		colon  = `:\s+(\S+)`
	)
	return []certSetting{
		{"nginx", []string{"nginx"}, "", []string{"/etc/nginx/nginx.conf"}, line("ssl_certificate", blank), line("ssl_certificate_key", blank), line("ssl_client_certificate|ssl_trusted_certificate", blank)},
		{"apache2", []string{"apache2", "httpd"}, "", []string{"/etc/apache2/sites-enabled/*", "/etc/httpd/conf.d/*.conf"}, line("SSLCertificateFile", blank), line("SSLCertificateKeyFile", blank), line("SSLCACertificateFile", blank)},
		{"haproxy", []string{"haproxy"}, "", []string{"/etc/haproxy/haproxy.cfg", "/etc/haproxy/conf.d/*.cfg"}, line(`bind\s.*\scrt`, blank), nil, line(`bind\s.*\sca-file`, blank)},
		{"postgres", []string{"postgres"}, "postgres", []string{"/etc/postgresql/*/*/postgresql.conf", "/var/lib/pgsql/data/postgresql.conf", "/var/lib/pgsql/*/data/postgresql.conf"}, line("ssl_cert_file", equals), line("ssl_key_file", equals), line("ssl_ca_file", equals)},
		{"slapd", []string{"slapd"}, "openldap", []string{"/etc/ldap/slapd.d/cn=config.ldif", "/etc/ldap/slapd.conf", "/etc/openldap/slapd.d/cn=config.ldif", "/etc/openldap/slapd.conf"},
			line("olcTLSCertificateFile"+colon+"|TLSCertificateFile", `(?:`+blank+`)?`), line("olcTLSCertificateKeyFile"+colon+"|TLSCertificateKeyFile", `(?:`+blank+`)?`),
			line("olcTLSCACertificateFile"+colon+"|TLSCACertificateFile", `(?:`+blank+`)?`)},
		{"dovecot", []string{"dovecot", "imap-login", "pop3-login"}, "", []string{"/etc/dovecot/dovecot.conf"}, line("ssl_cert|ssl_server_cert_file", equals), line("ssl_key|ssl_server_key_file", equals), line("ssl_ca|ssl_server_ca_file", equals)},
		{"master", []string{"master", "smtpd"}, "", []string{"/etc/postfix/main.cf"}, line("smtpd_tls_cert_file", equals), line("smtpd_tls_key_file", equals), line("smtpd_tls_CAfile", equals)},
		{"mariadbd", []string{"mariadbd", "mysqld"}, "mysql", []string{"/etc/mysql/my.cnf", "/etc/mysql/mariadb.conf.d/*.cnf", "/etc/my.cnf"}, line("ssl[-_]cert", equals), line("ssl[-_]key", equals), line("ssl[-_]ca", equals)},
		{"redis-server", []string{"redis-server"}, "redis", []string{"/etc/redis/redis.conf"}, line("tls-cert-file", blank), line("tls-key-file", blank), line("tls-ca-cert-file", blank)},
		{"mosquitto", []string{"mosquitto"}, "mosquitto", []string{"/etc/mosquitto/mosquitto.conf", "/etc/mosquitto/conf.d/*.conf"}, line("certfile", blank), line("keyfile", blank), line("cafile", blank)},
	}
})

type certSetting struct {
	program   string
	held      []string // programs that hold its ports
	user      string   // that reads the files, where it is not root
	globs     []string
	cert, key *regexp.Regexp
	clients   *regexp.Regexp // names the certificates by which it judges those of clients
}

// block is one block of settings with the certificates that it names.
type block struct {
	names         []string
	ports         []uint16
	pairs, stores []int // of the lists that are made
}

// pairs is the certificates that a settings file names, each with the key
// that follows it in the same block, and the stores by which clients are
// judged. Relative paths begin at a folder.
func (s certSetting) pairs(text, path, folder string) ([]fact.CertPair, []fact.ClientStore) {
	var list []fact.CertPair
	var stores []fact.ClientStore
	var keys []string
	stack := []*block{{}}
	number := 0
	for line := range strings.Lines(text) {
		number++
		bare, _, _ := strings.Cut(strings.TrimSpace(line), "#")
		at := stack[len(stack)-1]
		opens := strings.Count(bare, "{") - strings.Count(bare, "}")
		switch {
		case opens > 0 || strings.HasPrefix(strings.ToLower(bare), "<virtualhost"):
			at = &block{ports: portsIn(bare)}
			stack = append(stack, at)
		case opens < 0 || strings.HasPrefix(strings.ToLower(bare), "</virtualhost"):
			if len(stack) > 1 {
				at.settle(list, stores)
				stack = stack[:len(stack)-1]
			}
		}
		for _, statement := range strings.FieldsFunc(bare, func(r rune) bool { return r == ';' || r == '{' || r == '}' }) {
			words := strings.Fields(statement)
			if len(words) > 1 && (strings.EqualFold(words[0], "server_name") || strings.EqualFold(words[0], "servername") || strings.EqualFold(words[0], "serveralias")) {
				at.names = append(at.names, words[1:]...)
			}
			if len(words) > 1 && strings.EqualFold(words[0], "listen") {
				at.ports = append(at.ports, portsIn(words[1])...)
			}
			if value := valueOf(s.cert, statement); value != "" && !strings.Contains(value, "$") {
				at.pairs = append(at.pairs, len(list))
				list = append(list, fact.CertPair{Program: s.program, Place: fmt.Sprintf("%s:%d", path, number), Cert: inFolder(value, folder)})
				keys = append(keys, "")
				if s.key == nil {
					list[len(list)-1].Key = list[len(list)-1].Cert
					list[len(list)-1].Ports = portsIn(words[1])
				}
			}
			if files, ok := strings.CutPrefix(statement, "smtpd_tls_chain_files"); ok && s.program == "master" {
				list = append(list, chainFiles(files, fmt.Sprintf("%s:%d", path, number))...)
			}
			if value := valueOf(s.clients, statement); value != "" && !strings.Contains(value, "$") {
				at.stores = append(at.stores, len(stores))
				stores = append(stores, fact.ClientStore{Program: s.program, Place: fmt.Sprintf("%s:%d", path, number), Path: inFolder(value, folder)})
				if s.key == nil {
					stores[len(stores)-1].Ports = portsIn(words[1])
				}
			}
			if s.key == nil {
				continue
			}
			if value := valueOf(s.key, statement); value != "" && !strings.Contains(value, "$") {
				keys = append(keys, inFolder(value, folder))
				for _, i := range slices.Backward(at.pairs) {
					if list[i].Key == "" {
						list[i].Key = inFolder(value, folder)
						break
					}
				}
			}
		}
	}
	for _, b := range stack {
		b.settle(list, stores)
	}
	if s.program == "postgres" {
		data := dataFolder(text, path)
		for i := range stores {
			stores[i].Path = relocate(stores[i].Path, path, data)
		}
		return postgresPair(text, path, data, list, keys), stores
	}
	return list, stores
}

// settle gives a block's names and ports to its certificates and stores.
func (b *block) settle(list []fact.CertPair, stores []fact.ClientStore) {
	for _, i := range b.stores {
		stores[i].Names, stores[i].Ports = b.names, append(stores[i].Ports, b.ports...)
	}
	for _, i := range b.pairs {
		list[i].Names, list[i].Ports = b.names, append(list[i].Ports, b.ports...)
	}
}

func valueOf(directive *regexp.Regexp, statement string) string {
	m := directive.FindStringSubmatch(statement)
	if m == nil {
		return ""
	}
	for _, group := range m[1:] {
		if group != "" {
			return group
		}
	}
	return ""
}

var portAtEnd = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?:^|:)(\d{1,5})(?:[>\s]|$)`) })

func portsIn(text string) []uint16 {
	var ports []uint16
	for _, m := range portAtEnd().FindAllStringSubmatch(text, -1) {
		if n, err := strconv.ParseUint(m[1], 10, 16); err == nil {
			ports = append(ports, uint16(n))
		}
	}
	return ports
}

func inFolder(value, folder string) string {
	if filepath.IsAbs(value) {
		return value
	}
	return filepath.Join(folder, value)
}

// postgresPair is the one pair of PostgreSQL, whose files are in its data
// folder unless said otherwise, and count only where TLS is on (the manual's
// "Secure TCP/IP Connections with SSL").
func postgresPair(text, path, data string, list []fact.CertPair, keys []string) []fact.CertPair {
	if !regexp.MustCompile(`(?mi)^\s*ssl\s*=?\s*'?(?:on|true|yes|1)\b`).MatchString(text) {
		return nil
	}
	p := fact.CertPair{Program: "postgres", Place: path, Cert: filepath.Join(data, "server.crt"), Key: filepath.Join(data, "server.key")}
	if len(list) > 0 {
		last := list[len(list)-1]
		p.Place, p.Cert = last.Place, relocate(last.Cert, path, data)
	}
	if key := slices.IndexFunc(keys, func(k string) bool { return k != "" }); key >= 0 {
		p.Key = relocate(keys[key], path, data)
	}
	return []fact.CertPair{p}
}

// chainFiles is the pair of files that Postfix is given as one list: a key,
// then its certificate, in one file or in two (postconf(5)).
func chainFiles(text, place string) []fact.CertPair {
	files := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune("=, \t", r) })
	if len(files) != 1 && len(files) != 2 {
		return nil // several, of which the client's choice decides
	}
	return []fact.CertPair{{Program: "master", Place: place, Key: files[0], Cert: files[len(files)-1]}}
}

// dataFolder is the data folder that settings of PostgreSQL name, or the one
// that they are in.
func dataFolder(text, path string) string {
	if m := regexp.MustCompile(`(?m)^\s*data_directory\s*=?\s*'([^']+)'`).FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return filepath.Dir(path)
}

// relocate moves a file that was taken to be beside the settings into the
// data folder, which relative paths of PostgreSQL begin at.
func relocate(file, settings, data string) string {
	if rest, ok := strings.CutPrefix(file, filepath.Dir(settings)+"/"); ok && !strings.Contains(rest, "/") {
		return filepath.Join(data, rest)
	}
	return file
}
