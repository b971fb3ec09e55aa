package endpoint

import (
	"errors"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/protocol"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		input string
		want  string // scheme host port security path
	}{
		{"https://tidebook.varzea.example/x?y", "https tidebook.varzea.example 443 tls /x?y"},
		{"HTTP://Tidebook.Varzea.Example", "http tidebook.varzea.example 80 none "},
		{"tidebook.varzea.example", "https tidebook.varzea.example 443 tls "},
		{"pier:22", "ssh pier 22 none "},
		{"ledger:5432", "postgres ledger 5432 starttls "},
		// a port that no scheme owns is only a connection
		{"ledger:4000", "tcp ledger 4000 none "},
		{"postgresql://ledger/readings", "postgres ledger 5432 starttls /readings"},
		{"postgres://ledger/?sslmode=disable", "postgres ledger 5432 none /?sslmode=disable"},
		{"mariadb://ledger", "mysql ledger 3306 starttls "},
		{"redis://ledger", "redis ledger 6379 none "},
		{"ldap://roster", "ldap roster 389 none "},
		{"ldaps://roster", "ldaps roster 636 tls "},
		{"smtp://post", "smtp post 25 starttls "},
		{"imap://post", "imap post 143 starttls "},
		{"imaps://post", "imaps post 993 tls "},
		{"tls://post:465", "tls post 465 tls "},
		{"tcp://post:7", "tcp post 7 none "},
		{"ssh://pier:2222/", "ssh pier 2222 none /"},
		// IPv6 literals, with and without zone, port and brackets
		{"[fd20::14]:443", "https fd20::14 443 tls "},
		{"https://[fd20:0:0::14]/", "https fd20::14 443 tls /"},
		{"fd20::14", "https fd20::14 443 tls "},
		{"[fe80::1%eth0]:22", "ssh fe80::1%eth0 22 none "},
		{"::ffff:10.20.0.14", "https 10.20.0.14 443 tls "},
		{"10.20.0.14:80", "http 10.20.0.14 80 none "},
		// internationalised names travel in their ASCII form
		{"https://várzea.example", "https xn--vrzea-xqa.example 443 tls "},
		{"maré.várzea.example:80", "http xn--mar-dma.xn--vrzea-xqa.example 80 none "},
		{"tidebook.varzea.example.", "https tidebook.varzea.example. 443 tls "},
		// not a host name by the standards, but for weighing to say
		{"tide_book:80", "http tide_book 80 none "},
	} {
		e, err := Parse(c.input)
		if err != nil {
			t.Errorf("%q: %v", c.input, err)
			continue
		}
		got := strings.Join([]string{e.Scheme, HostPort(e.Host, e.Port), string(e.Security), e.Path}, " ")
		want := strings.Fields(c.want + " ")
		host := want[1]
		if strings.Contains(host, ":") {
			host = "[" + host + "]"
		}
		if got != strings.Join(
			[]string{want[0], host + ":" + want[2], want[3],
				strings.TrimPrefix(c.want, strings.Join(want[:4], " ")+" ")},
			" ",
		) {
			t.Errorf("%q: got %q, want %q", c.input, got, c.want)
		}
		if len(e.Stray) > 0 {
			t.Errorf("%q: stray characters %v", c.input, e.Stray)
		}
	}
}

func TestParseErrors(t *testing.T) {
	long := strings.Repeat("a", 60)
	for input, want := range map[string]string{
		"":                                      "nothing but blanks",
		" \t":                                   "nothing but blanks",
		"a b":                                   `endpoint "a b", column 2: a blank inside`,
		"tidebook:70000":                        `column 10: port "70000" is out of range`,
		"tidebook:0":                            "expected a port from 1 to 65535",
		"tidebook:+5":                           "out of range or no number",
		"tidebook:":                             "a colon and no port",
		"https://:443":                          "the host is empty",
		"http//x":                               `column 5: "//" without a scheme before it`,
		"gopher://x":                            `unknown scheme "gopher"; expected one of https, http, ssh`,
		"tcp://x":                               "no port; expected a port after the host",
		"a..b":                                  "an empty part",
		"[fd20::14":                             `"[" without "]"`,
		"[fd20::14]x":                           `"x" after "]"`,
		"[10.20.0.14]:80":                       "is no IPv6 address",
		"a:b:80":                                "neither host:port nor an IPv6 address",
		"ti$debook":                             `"$" in the host name`,
		"\xff":                                  "not valid UTF-8",
		"https://u:hunter2@x":                   "an account in the address",
		"postgres://x/?password=hunter2":        "a secret in the address",
		"postgres://x/?sslmode=maybe":           `sslmode "maybe"; expected disable`,
		strings.Repeat("a", 64) + ".example":    "64 characters long; expected at most 63",
		strings.Repeat(long+".", 5) + "example": "characters long; expected at most 253",
	} {
		_, err := Parse(input)
		var e *Error
		if !errors.As(err, &e) {
			t.Errorf("%q: no error", input)
			continue
		}
		text := err.Error()
		if !strings.Contains(text, want) || strings.Contains(text, "\n") || strings.Contains(text, "hunter2") ||
			len(text) > 300 {
			t.Errorf("%q: got %q, want %q in one line without secrets", input, text, want)
		}
	}
}

func TestStray(t *testing.T) {
	for _, c := range []struct{ input, host, clean, code string }{
		{"https://tide\u200bbook.varzea.example/", "tide\u200bbook.varzea.example", "tidebook.varzea.example",
			"U+200B"},
		{" tidebook ", " tidebook ", "tidebook", "U+0020"},
		{"tidebook\n", "tidebook", "tidebook", "U+000A"},
		{"\ufefftidebook:80", "\ufefftidebook", "tidebook", "U+FEFF"},
		{"tide\u00adbook:80", "tide\u00adbook", "tidebook", "U+00AD"},
		// a Cyrillic letter among Latin ones
		{"tid\u0435book:80", "tid\u0435book", "tidebook", "U+0435"},
		{"tide\u2011book:80", "tide\u2011book", "tide-book", "U+2011"},
		{"tide\x01book:80", "tide\x01book", "tidebook", "U+0001"},
	} {
		e, err := Parse(c.input)
		if err != nil {
			t.Errorf("%q: %v", c.input, err)
			continue
		}
		if e.Host != c.host || e.Clean != c.clean || len(e.Stray) == 0 || e.Stray[0].Code != c.code {
			t.Errorf("%q: host %q, clean %q, stray %+v", c.input, e.Host, e.Clean, e.Stray)
		}
	}
	// a name all in another script is a name
	if e, err := Parse("пример.example"); err != nil || len(e.Stray) > 0 {
		t.Errorf("a Cyrillic name: %+v, %v", e, err)
	}
}

// FuzzParse sees that nothing panics, that errors are one line, and that what
// is accepted can be parsed again.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{"https://tidebook.varzea.example:8443/", "[fd20::14%eth0]:443", "a:b",
		"tide\u200bbook", "http//x", "postgres://x/?sslmode=", "\xff", "://", "[", "a]:1", "::%]"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, input string) {
		e, err := Parse(input)
		if err != nil {
			if strings.Contains(err.Error(), "\n") {
				t.Errorf("%q: error of two lines: %q", input, err)
			}
			return
		}
		if e.Port == 0 || e.Host == "" {
			t.Fatalf("%q: %+v", input, e)
		}
		if len(e.Stray) > 0 {
			return
		}
		again, err := Parse(e.Scheme + "://" + HostPort(e.Host, e.Port))
		if err != nil || again.Host != e.Host || again.Port != e.Port {
			t.Errorf("%q: %+v, again %+v, %v", input, e, again, err)
		}
	})
}

func TestSchemesAreWhole(t *testing.T) {
	for _, s := range protocol.Schemes {
		if got, ok := protocol.Lookup(s.Name); !ok || got.Name != s.Name {
			t.Errorf("%s cannot be looked up", s.Name)
		}
		if s.Security == fact.StartTLS && s.Wire == "" {
			t.Errorf("%s upgrades in no protocol", s.Name)
		}
	}
}

func TestUnicode(t *testing.T) {
	for host, want := range map[string]string{"tide\u200bbook.varzea.example": "", "TideBook.varzea.example": "",
		"xn--mar-dma.xn--vrzea-xqa.example": "maré.várzea.example", "tidebook.varzea.example": "", "10.20.0.14": "",
		"fd00::14": "", "xn--\x1b.example": "", "_ldap._tcp.varzea.example": ""} {
		if got := Unicode(host); got != want {
			t.Errorf("Unicode(%q) = %q, expected %q", host, got, want)
		}
	}
}
