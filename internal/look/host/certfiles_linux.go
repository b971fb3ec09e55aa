package host

import (
	"bytes"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/trust"
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

// CertFiles leaves the certificates and keys that the settings of a service
// name: of the program that holds the port or, where nobody does, of every
// one that is set up here.
func CertFiles(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	files := fact.CertFiles{Pairs: []fact.CertPair{}}
	held := programsOn(ctx, env, order.Target.Port)
	for _, s := range certSettings() {
		at := slices.IndexFunc(s.held, func(p string) bool { return held[p] != 0 })
		if at < 0 && len(held) > 0 {
			continue
		}
		pid := pidOf(s.program)
		if at >= 0 && s.held[at] == s.program {
			pid = held[s.program]
		}
		paths := settingsOf(s.program, pid, s.globs)
		for _, path := range paths {
			text, err := readSome(path)
			if err != nil {
				emit(env.Failed(order, path, "could not read which certificates are set", err, "root"))
				continue
			}
			folder := filepath.Dir(path)
			switch s.program {
			case "nginx":
				folder = filepath.Dir(paths[0]) // its paths begin where its main file is
			case "apache2":
				folder = filepath.Dir(filepath.Dir(path))
			}
			pairs, stores := s.pairs(string(text), path, folder)
			files.Pairs, files.Stores = append(files.Pairs, pairs...), append(files.Stores, stores...)
		}
		for i := range files.Stores {
			if store := &files.Stores[i]; store.Program == s.program {
				readStore(store, s.reader(pid))
			}
		}
		for i := range files.Pairs {
			if p := &files.Pairs[i]; p.Program == s.program {
				readPair(p, s.reader(pid))
			}
		}
	}
	if c := env.Card; c != nil && c.Certificate != "" {
		p := fact.CertPair{Program: orName(c.Program, c.Name), Place: "the card", Cert: c.Certificate, Key: c.CertificateKey}
		if p.Key == "" {
			p.Key = p.Cert
		}
		readPair(&p, cardReader(held, p.Program))
		files.Pairs = append(files.Pairs, p)
	}
	files.Pairs, files.Stores = files.Pairs[:min(len(files.Pairs), fact.MostPairs)], files.Stores[:min(len(files.Stores), fact.MostPairs)]
	f := env.Seen(order, "certificate files", sawPairs(files.Pairs))
	f.CertFiles = &files
	emit(f)
}

func orName(program, name string) string {
	if program == "" {
		return name
	}
	return filepath.Base(program)
}

// cardReader is the user that the program of a card runs as, by who holds the
// port.
func cardReader(held map[string]int, program string) string {
	if pid := held[program]; pid != 0 {
		if uid, err := ownerOf(pid); err == nil {
			return userName(uint32(uid))
		}
	}
	return ""
}

func sawPairs(pairs []fact.CertPair) string {
	if len(pairs) == 0 {
		return "no settings here name any"
	}
	var parts []string
	for _, p := range pairs {
		switch {
		case p.Wrong != "":
			parts = append(parts, p.Wrong)
		case p.Belongs != nil && !*p.Belongs:
			parts = append(parts, p.Key+" does not belong to "+p.Cert)
		default:
			parts = append(parts, p.Cert)
		}
	}
	return strings.Join(parts[:min(len(parts), 3)], ", ")
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

// reader is the user that reads the files: the one that the program runs as,
// or would.
func (s certSetting) reader(pid int) string {
	if s.user == "" {
		return "" // it reads them as root, before it becomes another
	}
	if pid != 0 {
		if info, err := os.Stat(procFile(pid, "")); err == nil {
			if st, ok := info.Sys().(*syscall.Stat_t); ok {
				return userName(st.Uid)
			}
		}
	}
	return s.user
}

// readPair reads the files of a pair, and whether the key belongs to the
// certificate. Nothing of the key is kept.
func readPair(p *fact.CertPair, reader string) {
	info, err := os.Stat(p.Cert)
	if err != nil {
		blame(p, p.Cert, err)
		return
	}
	if info.IsDir() {
		p.Unread = p.Cert + " is a folder of certificates, which is not looked into"
		return
	}
	p.Changed = changedAt(info)
	text, err := readSome(p.Cert)
	if err != nil {
		blame(p, p.Cert, err)
		return
	}
	if len(text) > 0 && !bytes.Contains(text, []byte("-----BEGIN ")) {
		readKept(p)
		return
	}
	for rest := text; ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			break
		}
		if b.Type != "CERTIFICATE" && b.Type != "TRUSTED CERTIFICATE" {
			continue
		}
		if _, err := x509.ParseCertificate(b.Bytes); err != nil {
			p.Wrong = fmt.Sprintf("%s is corrupt: a certificate in it cannot be read", p.Cert)
			return
		}
		p.Chain = append(p.Chain, slices.Clone(b.Bytes))
	}
	if len(p.Chain) == 0 {
		p.Wrong = "there is no certificate in PEM form in " + p.Cert
		return
	}
	if reader != "" && reader != "root" {
		if denied := mayRead(reader, p.Cert); denied != "" {
			p.Wrong = denied
			return
		}
	}
	readKey(p, reader)
}

// readKept reads a store that keeps certificates with their keys, in PKCS #12 or
// of Java. One whose secret is not a usual one is not looked into.
func readKept(p *fact.CertPair) {
	c, err := trust.ReadFile(p.Cert, "")
	switch {
	case err == nil:
		p.Chain = c.Certs
	case strings.Contains(err.Error(), "does not open"):
		p.Unread = p.Cert + " is a store with a secret of its own"
	default:
		p.Wrong = "there is no certificate in PEM form in " + p.Cert + ", and it is no store either: " + err.Error()
	}
}

// readStore reads the certificates by which clients are judged.
func readStore(s *fact.ClientStore, reader string) {
	if info, err := os.Stat(s.Path); err == nil && reader != "" && reader != "root" && !info.IsDir() {
		if s.Wrong = mayRead(reader, s.Path); s.Wrong != "" {
			return
		}
	}
	c, err := trust.ReadFile(s.Path, "")
	switch {
	case errors.Is(err, fs.ErrNotExist):
		s.Wrong = "there is no file " + s.Path
	case errors.Is(err, fs.ErrPermission):
		s.Unread = s.Path + " may not be read by this look; root may"
	case err != nil:
		s.Wrong = err.Error()
	case len(c.Certs) > mostStored:
		s.Unread = fmt.Sprintf("%s holds %d certificates, more than are kept", s.Path, len(c.Certs))
	default:
		s.Roots = c.Certs
	}
}

// mostStored bounds how many certificates of one store are kept.
const mostStored = 400

// blame says of a file that could not be read whether that is the service's
// trouble or only this look's.
func blame(p *fact.CertPair, path string, err error) {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.Wrong = "there is no file " + path
	case errors.Is(err, fs.ErrPermission):
		p.Unread = path + " may not be read by this look; root may"
	default:
		p.Unread = err.Error()
	}
}

// readKey compares the key with the certificate. It is read, compared and
// forgotten.
func readKey(p *fact.CertPair, reader string) {
	if p.Key == "" {
		p.Unread = "the settings name no key beside it"
		return
	}
	info, err := os.Stat(p.Key)
	if err != nil {
		blame(p, p.Key, err)
		return
	}
	if reader != "" && reader != "root" {
		if p.Wrong = mayRead(reader, p.Key); p.Wrong != "" {
			return
		}
	}
	if p.Program == "postgres" {
		if p.Wrong = tooOpen(p.Key, info); p.Wrong != "" {
			return
		}
	}
	text, err := readSome(p.Key)
	if err != nil {
		blame(p, p.Key, err)
		return
	}
	cert, err := x509.ParseCertificate(p.Chain[0])
	if err != nil {
		return // it was parsed before
	}
	for rest := text; ; {
		var b *pem.Block
		if b, rest = pem.Decode(rest); b == nil {
			p.Wrong = "there is no private key in PEM form in " + p.Key
			return
		}
		if !strings.HasSuffix(b.Type, "PRIVATE KEY") {
			continue
		}
		if b.Type == "ENCRYPTED PRIVATE KEY" || b.Headers["DEK-Info"] != "" {
			p.Unread = p.Key + " is encrypted, and was not compared with the certificate"
			return
		}
		key, err := parseKey(b.Bytes)
		if err != nil {
			p.Wrong = p.Key + " is corrupt: the key in it cannot be read"
			return
		}
		belongs := belongsTo(key, cert)
		p.Belongs = &belongs
		return
	}
}

func parseKey(der []byte) (any, error) {
	if key, err := x509.ParsePKCS8PrivateKey(der); err == nil {
		return key, nil
	}
	if key, err := x509.ParseECPrivateKey(der); err == nil {
		return key, nil
	}
	return x509.ParsePKCS1PrivateKey(der)
}

// belongsTo reports whether the public half of a key is the one in a
// certificate.
func belongsTo(key any, cert *x509.Certificate) bool {
	private, ok := key.(interface{ Public() crypto.PublicKey })
	if !ok {
		return false
	}
	public, ok := private.Public().(interface{ Equal(crypto.PublicKey) bool })
	return ok && public.Equal(cert.PublicKey)
}

// changedAt is when a file's content or place last changed: a file that was
// moved here keeps the time of its content.
func changedAt(info os.FileInfo) time.Time {
	at := info.ModTime()
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		if c := time.Unix(st.Ctim.Unix()); c.After(at) {
			at = c
		}
	}
	return at.UTC()
}

// tooOpen says why PostgreSQL refuses a key file: its own must be for its
// owner alone, and one of root's may be read by a group.
func tooOpen(path string, info os.FileInfo) string {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return ""
	}
	mode, most := info.Mode().Perm(), os.FileMode(0o600)
	if st.Uid == 0 {
		most = 0o640
	}
	if mode&^most != 0 {
		return fmt.Sprintf("%s has mode %04o, and PostgreSQL refuses a key with more than %04o", path, mode, most)
	}
	return ""
}
