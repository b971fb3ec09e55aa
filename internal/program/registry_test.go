package program

import (
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/settingsfile"
)

// TestKnown goes over every program that this one ships with: each property is
// given, or refused with a reason.
func TestKnown(t *testing.T) {
	names, err := fs.Glob(known, "known/*.yaml")
	if err != nil || len(names) < 70 {
		t.Fatalf("%d programs, %v", len(names), err)
	}
	holders := map[string]string{}
	for _, name := range names {
		text, err := known.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		p, err := Read(name, text)
		if err != nil {
			t.Error(err)
			continue
		}
		if name != "known/"+strings.ToLower(p.Name)+".yaml" {
			t.Errorf("%s is of %s", name, p.Name)
		}
		for _, process := range append([]string{p.Name}, p.Workers...) {
			if before := holders[process]; before != "" {
				t.Errorf("%s: processes called %s are of %s as well", name, process, before)
			}
			holders[process] = name
		}
		if len(p.Settings.Files) == 0 && len(p.Says) == 0 && p.Without == "" {
			t.Errorf("%s: it has no settings and says nothing, and without does not tell why", name)
		}
		if len(p.Settings.Certificate) > 0 && len(p.Settings.Key) == 0 && len(p.Settings.Port) == 0 {
			t.Errorf("%s: it has certificates and no key", name)
		}
	}
}

// TestPorts finds the ports in values of settings.
func TestPorts(t *testing.T) {
	for value, want := range map[string][]uint16{
		"443 ssl": {443}, "[::]:443 ssl": {443}, "10.20.0.14:8080": {8080}, "*:8443": {8443}, "10.20.0.14": nil,
		"fe80::14": nil, "::": nil,
		"ldap://tidebook:1389/ ldaps:///": {1389}, "445 139": {445, 139}, "port 5353": {5353}, "unix:/run/x.sock": nil,
		"88,750": {88, 750}, "70000": nil,
		"http://127.0.0.1:2379,http://127.0.0.1:4001": {2379, 4001}, "5432 # changed": {5432},
	} {
		if got := Ports(value); !slices.Equal(got, want) {
			t.Errorf("%q: got %v, want %v", value, got, want)
		}
	}
}

// TestSettingsOfPrograms finds what the registry says in settings as programs
// write them.
func TestSettingsOfPrograms(t *testing.T) {
	for _, c := range []struct{ program, text, ports, certificate, key, backend string }{
		{"nginx", "http { server { listen 8443 ssl; ssl_certificate a.crt; ssl_certificate_key a.key; location / { " +
			"proxy_pass http://10.20.0.15:3000; } } }", "8443", "a.crt", "a.key", "http://10.20.0.15:3000"},
		{"apache2", "Listen 8080\n<VirtualHost *:443>\nSSLCertificateFile \"/a b.crt\"\nSSLCertificateKeyFile " +
			"/a.key\nProxyPass / http://10.20.0.15:3000/\n</VirtualHost>\n", "8080", "/a b.crt", "/a.key",
			"http://10.20.0.15:3000/"},
		{"haproxy", "frontend a\n  bind :8443 ssl crt /a.pem\nbackend b\n  server one 10.20.0.15:3000 check\n", "8443",
			"/a.pem", "", "10.20.0.15:3000"},
		{"postgres", "port = 5433 # changed\nssl_cert_file = 'a.crt'\nssl_key_file='a.key'\n", "5433", "a.crt",
			"a.key", ""},
		{"mariadbd", "[client]\nport=1\n[mysqld]\nport = 3307\nssl-cert=/a.crt\n", "3307", "/a.crt", "", ""},
		{"slapd", "SLAPD_SERVICES=\"ldap://tidebook:1389/ ldapi:///\"\n", "1389", "", "", ""},
		{"slapd", "dn: cn=config\nolcTLSCertificateFile: /a.crt\nolcTLSCertificateKeyFile: /a.key\n", "", "/a.crt",
			"/a.key", ""},
		{"named", "options { listen-on port 5353 { any; }; };", "5353", "", "", ""},
		{"sshd", "Port 2222\nListenAddress 10.20.0.14:2200\nListenAddress ::\n", "2222 2200", "", "", ""},
		{"mongod", "net:\n  port: 27018\n  tls:\n    certificateKeyFile: /a.pem\n", "27018", "/a.pem", "", ""},
		{"prosody", "c2s_ports = { 5223 }\nssl = { certificate = \"/a.crt\" }\n", "5223", "", "", ""},
		{"stunnel", "[tides]\naccept = 10443\nconnect = 10.20.0.15:80\ncert = /a.pem\n", "10443", "/a.pem", "",
			"10.20.0.15:80"},
		{"nsd", "server:\n  ip-address: 0.0.0.0@5353\n", "5353", "", "", ""},
		{"icecast2", "<icecast><listen-socket><port>8001</port></listen-socket></icecast>", "8001", "", "", ""},
		{"upsd", "LISTEN 0.0.0.0 3494\n", "3494", "", "", ""},
		{"beanstalkd", "BEANSTALKD_LISTEN_PORT=11301\n", "11301", "", "", ""},
		{"snmpd", "agentaddress udp:1161,127.0.0.1\n", "1161", "", "", ""},
		{"traefik", "entryPoints:\n  web:\n    address: \":8081\"\n", "8081", "", "", ""},
		{"java", "<Server port='8005'><Service><Connector port='8081'/></Service></Server>", "8081", "", "", ""},
		{"rsyslogd", "module(load=\"imtcp\")\ninput(type=\"imtcp\" port=\"5514\")\n", "5514", "", "", ""},
		{"samba", "[global]\n tls certfile = /a.crt\n tls keyfile = /a.key\n", "", "/a.crt", "/a.key", ""},
		{"nats-server", "port: 4333\ntls {\n cert_file: \"/a.crt\"\n key_file: \"/a.key\"\n}\n", "4333", "/a.crt",
			"/a.key", ""},
	} {
		p, ok := Known().Of(c.program)
		if !ok {
			t.Errorf("%s is not known", c.program)
			continue
		}
		values, err := settingsfile.Read(c.text, p.Settings.Grammar)
		if err != nil {
			t.Errorf("%s: %v", c.program, err)
		}
		var ports []string
		for _, v := range Found(values, p.Settings.Port) {
			for _, n := range Ports(v.Text) {
				ports = append(ports, strconv.Itoa(int(n)))
			}
		}
		first := func(keys []Key) string {
			if found := Found(values, keys); len(found) > 0 {
				return found[0].Text
			}
			return ""
		}
		got := []string{
			strings.Join(ports, " "),
			first(p.Settings.Certificate),
			first(p.Settings.Key),
			first(p.Settings.Backend),
		}
		if want := []string{c.ports, c.certificate, c.key, c.backend}; !slices.Equal(got, want) {
			t.Errorf("%s: got %q, want %q", c.program, got, want)
		}
	}
}

// TestWrongFiles is files of a program with one thing wrong each.
func TestWrongFiles(t *testing.T) {
	const right = "format: uakari.program/1\nname: almanac\nabout: tides\nunits: [almanac.service]\nserves: {http: " +
		"80}\n"
	if _, err := Read("a.yaml", []byte(right)); err != nil {
		t.Fatal(err)
	}
	for more, want := range map[string]string{
		"settings: {files: [/etc/almanac.ini]}\n": "a.yaml:6:11: expected " +
			"files and their grammar",
		"settings: {files: [etc/almanac.ini], grammar: " +
			"ini}\n": `"etc/almanac.ini" is no whole path`,
		"settings: {files: [/etc/almanac.ini], grammar: " +
			"tides}\n": `no grammar is called "tides"`,
		"settings: {files: [/etc/a], grammar: ini, port: ['a ~ (']}\n": "no regular expression " +
			"with a group",
		"says:\n  - {words: '(', cause: " +
			"service/port-taken}\n": `a.yaml:7:13: "(" is no regular expression`,
		"says:\n  - {words: a, cause: tides}\n":                                           `"tides" is no cause`,
		"says:\n  - {words: a, cause: login/refused, at: noon}\n":                         `"noon" is no time`,
		"unit: [almanac.service]\n":                                                       `did you mean "units"?`,
		"settings: {files: [/etc/a], grammar: ini, lists: [{order: tide, allow: [a]}]}\n": "expected order",
		"settings: {files: [/etc/a], grammar: ini, begin: " +
			"there}\n": `"there" is no place where paths begin`,
	} {
		_, err := Read("a.yaml", []byte(right+more))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v, want %q", more, err, want)
		}
	}
}

// FuzzRead reads anything as a file of a program.
func FuzzRead(f *testing.F) {
	names, err := fs.Glob(known, "known/*.yaml")
	if err != nil {
		f.Fatal(err)
	}
	for _, name := range names {
		text, err := known.ReadFile(name)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if r, err := With([]fact.ProgramFile{{Path: "x", Text: string(text)}}); err == nil {
			p := r.All()[0]
			r.Means(p.Name, []string{string(text)}, "start")
		}
	})
}
