package settingsfile

import (
	"fmt"
	"strings"
	"testing"
)

// TestRead is keys and values in every format that a card may name.
func TestRead(t *testing.T) {
	for name, c := range map[string]struct{ format, text, want string }{
		"ini": {"ini", "top = 1\n[portal]\n; host = old\nport=8443\nname : tides\n",
			"top=1 1; portal.host=old 3 off; portal.port=8443 4; portal.name=tides 5"},
		"toml, a comment behind": {"toml", "[portal]\nhost = 'tides' # ours\nnote = \"a # b\" # c\n",
			"portal.host=tides 2; portal.note=a # b 3"},
		"env": {"env", "export PORTAL=tides \n#OLD=x\nQUOTED='a b'\n",
			"PORTAL=tides  1; OLD=x 2 off; QUOTED=a b 3"},
		"properties": {"properties", "portal.host=tides\nportal.port: 8443\n! a sentence = about\n",
			"portal.host=tides 1; portal.port=8443 2"},
		"ssh": {"ssh", "Port 22\nHost heron pier\n  Port 2222\n  User=ana\n",
			"Port=22 1; heron pier.Port=2222 3; heron pier.User=ana 4"},
		"pg-service": {"pg-service", "[ledger]\nhost=ledger.varzea.example\n",
			"ledger.host=ledger.varzea.example 2"},
		"yaml": {"yaml", "portal:\n  host: tides\n  ports: [1, 2]\n# old: x\nnone:\n",
			"portal.host=tides 2; portal.ports.0=1 3; portal.ports.1=2 3; none= 5; old=x 4 off"},
		"yaml, said once": {"yaml", "all: &all\n  port: 8443\nportal:\n  <<: *all\n  host: tides\nother: " +
			"*all\n", "all.port=8443 2; portal.port=8443 2; portal.host=tides 5; other.port=8443 2"},
		"yaml, that holds itself": {"yaml", "a: &a\n  b: *a\n", ""},
		"toml, a list of tables": {"toml", "[[servers]]\nhost = \"a\"\n[[servers]]\nhost = \"b\"\n",
			"servers.0.host=a 2; servers.1.host=b 4"},
		"toml, lists and tables": {"toml", "# port = 1\n[web]\nlisten = [\"a:1\",\n  \"b:2\"] # c\n# tls = " +
			"true\nlog.level = {to = 'x'}\n[[web.site]]\nname = \"\"\"\nq\\u00e9\"\"\"\n[web.site.at]\nport = 8_080\n",
			"port=1 1 off; web.listen.0=a:1 3; web.listen.1=b:2 4; web.tls=true 5 off; web.log.level.to=x 6; " +
				"web.site.0.name=qé 8; web.site.0.at.port=8_080 11"},
		"ini, its quotes": {"ini", "[a]\nb = \"c ; d\" ; e\nf = 'g'\nh = C:\\tides\\\ni == j\nk : l # m\n",
			"a.b=c ; d 2; a.f=g 3; a.h=C:\\tides\\ 4; a.i== j 5; a.k=l # m 6"},
		"properties, on and on": {"properties", "a = b\\\n   c\\u00e9\n#d=e\nf g\nh\\ i : \"j\"\n",
			"a=bcé 1; d=e 3 off; f=g 4; h i=\"j\" 5"},
		"json": {"json", "{\"portal\": {\"port\": 8443,\n \"on\": true}}",
			"portal.port=8443 1; portal.on=true 2"},
		"xml": {"xml", "<gauge>\n <portal port='8443'>tides</portal>\n</gauge>",
			"gauge.portal@port=8443 2; gauge.portal=tides 2; gauge= 3"},
		"a byte order mark":     {"yaml", "\ufeffhost: tides\n", "host=tides 1"},
		"sentences are no keys": {"ini", "# this is = a sentence\nport = 1\n", "port=1 2"},
		"a section that is not": {"ini", "[portal\nport = 1\n", "port=1 2"},
		"words": {"words", "port 6379\nuser  ana on\n# bind x\nport = 1\n",
			"port=6379 1; user=ana on 2; bind=x 3 off; port=1 4"},
		"blocks": {"blocks", "a { b c; d 'e f'; # g\n  h { i = j } }\nk http://l // m\n/* n\n o */ " +
			"p q;", "a= 1; a.b=c 1; a.d=e f 1; a.h= 2; a.h.i=j 2; k=http://l 3; p=q 5"},
		"tags": {"tags", "Listen 80\n<VirtualHost *:443>\n  SSLCertificateFile " +
			"\"a\"\n</VirtualHost>\nx y \\\n z\n",
			"Listen=80 1; VirtualHost=*:443 2; virtualhost.SSLCertificateFile=a 3; x=y   z 6"},
		"pairs": {"add",
			"<a><add key='port' value='1433'/>\n<Add name='b' connectionString='c'/></a>", "port=1433 1; b=c 2"},
		"nothing at all":          {"ini", "", ""},
		"a value with separators": {"properties", "url=http://tides:80/\n", "url=http://tides:80/ 1"},
	} {
		t.Run(name, func(t *testing.T) {
			list, err := Read(c.text, c.format)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, f := range list {
				text := fmt.Sprintf("%s=%s %d", f.Key, strings.Trim(f.Text, "\n"), f.Line)
				if f.Off {
					text += " off"
				}
				got = append(got, text)
			}
			if strings.Join(got, "; ") != c.want {
				t.Errorf("\n got %q\nwant %q", strings.Join(got, "; "), c.want)
			}
		})
	}
	for _, c := range []struct{ format, text string }{{"yaml", "a: [1"}, {"toml", "a = b"}, {"json", "{"},
		{"xml", "<a><b></a>"}} {
		if _, err := Read(c.text, c.format); err == nil {
			t.Errorf("%s %q is read", c.format, c.text)
		}
	}
}

// FuzzRead reads anything as settings of any format.
func FuzzRead(f *testing.F) {
	for _, format := range Grammars() {
		f.Add("[a]\nb = 'c' # d\nHost x\n", format)
	}
	f.Add("a: [1, {b: c}]\n", "yaml")
	f.Add("<a b='c'>d</a>", "xml")
	f.Add("\rb", "yaml")
	f.Add("a: 1\r\rb: 2\r\nc: 3\r", "yaml")
	f.Fuzz(func(t *testing.T, text, format string) {
		list, err := Read(text, format)
		for _, each := range list {
			if err == nil && each.Line > strings.Count(text, "\n")+1 {
				t.Errorf("line %d of %q", each.Line, text)
			}
		}
	})
}
