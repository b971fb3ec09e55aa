package test

import (
	"path/filepath"
	"strings"
	"testing"
)

const savedTables = `*filter
:INPUT DROP [0:0]
:FORWARD ACCEPT [0:0]
:OUTPUT ACCEPT [0:0]
:web - [0:0]
-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT
-A INPUT -i lo -j ACCEPT
-A INPUT -p tcp -m tcp --dport 443 -j web
-A INPUT -p tcp -m tcp --dport 80 -m limit --limit 5/sec -j ACCEPT
-A web -s 10.20.7.0/24 -m comment --comment "gauges moved" -j REJECT --reject-with icmp-port-unreachable
-A web -j ACCEPT
-A OUTPUT -d 10.20.9.0/24 -j DROP
COMMIT
`

// TestSavedTables judges packets by a colleague's dump.
func TestSavedTables(t *testing.T) {
	file := write(t, filepath.Join(t.TempDir(), "rules.v4"), savedTables)
	for _, c := range []struct {
		args   []string
		status int
		first  string
		also   []string
	}{
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:443"}, 1,
			"No: 10.20.7.31 to 10.20.0.14:443/tcp is stopped on the host by rule 1 of ip filter, chain web.",
			[]string{"refused with icmp-port-unreachable", "iptables -I web 1 -s 10.20.7.31/32 -p tcp -m tcp --dport 443 -j ACCEPT", "risk: it opens 443/tcp to 10.20.7.31 and to nobody else"}},
		{[]string{"--from", "10.20.8.31", "--to", "10.20.0.14:443"}, 0, "Yes: 10.20.8.31 to 10.20.0.14:443/tcp passes, and its reply.", nil},
		{[]string{"--from", "10.20.9.31", "--to", "10.20.0.14:443"}, 1,
			"No: 10.20.9.31 to 10.20.0.14:443/tcp passes, and its reply is stopped on the host by rule 1 of ip filter, chain OUTPUT.", nil},
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:22"}, 1, "No: 10.20.7.31 to 10.20.0.14:22/tcp is stopped on the host by the policy of ip filter, chain INPUT.", nil},
		{[]string{"--from", "10.20.8.31", "--to", "10.20.0.14:80"}, 3, "Not known whether 10.20.8.31 to 10.20.0.14:80/tcp passes.", []string{"it depends on limit"}},
		{[]string{"--hook", "out", "--from", "10.20.0.14", "--to", "10.20.9.31:443"}, 1, "No: 10.20.0.14 to 10.20.9.31:443/tcp is stopped on the host by rule 1 of ip filter, chain OUTPUT.", nil},
		{[]string{"--hook", "through", "--from", "10.20.7.31", "--to", "10.20.9.31:443"}, 0, "Yes:", nil},
		{[]string{"--transport", "icmp", "--from", "10.20.7.31", "--to", "10.20.0.14"}, 1, "No: 10.20.7.31 to 10.20.0.14 (icmp) is stopped", nil},
		{[]string{"--transport", "udp", "--from", "10.20.7.31:4000", "--to", "10.20.0.14:53"}, 1, "No:", nil},
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:443", "--suppose", "-I INPUT 3 -s 10.20.7.0/24 -p tcp --dport 443 -j ACCEPT"}, 1, "No:",
			[]string{"after:  accept, its reply accept", "opens 443/tcp of 10.20.0.14 to 10.20.7.0/24: 10.20.7.31 and 255 others"}},
		{[]string{"--from", "10.20.7.31", "--to", "10.20.0.14:443", "--suppose", "-D web 1"}, 1, "No:", []string{"opens 443/tcp of 10.20.0.14 to 10.20.7.0/24"}},
		{[]string{"--from", "10.20.8.31", "--to", "10.20.0.14:443", "--suppose", "-I web 1 -j DROP"}, 0, "Yes:", []string{"after:  drop", "closes 443/tcp of 10.20.0.14 to 0.0.0.0/5"}},
	} {
		r := run(t, append([]string{"rules", "--tables", file}, c.args...)...)
		if r.status != c.status || !strings.HasPrefix(oneLine(r.stdout), c.first) {
			t.Errorf("%v: status %d, want %d and %q\n%s%s", c.args, r.status, c.status, c.first, r.stdout, r.stderr)
		}
		flat := oneLine(r.stdout)
		for _, want := range c.also {
			if !strings.Contains(flat, oneLine(want)) {
				t.Errorf("%v: it does not say %q\n%s", c.args, want, r.stdout)
			}
		}
		j := run(t, append([]string{"rules", "--json", "--tables", file}, c.args...)...)
		validate(t, "journey", []byte(j.stdout))
		if j.status != c.status {
			t.Errorf("%v: status %d as JSON", c.args, j.status)
		}
	}
}

// TestUnreadableTables sees that what cannot be read is said in one line.
func TestUnreadableTables(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"cut off":     {savedTables[:len(savedTables)-8], "without COMMIT"},
		"empty":       {"", "1:1: the file is empty"},
		"no chain":    {"*filter\n:INPUT ACCEPT [0:0]\n-A FORWARD -j DROP\nCOMMIT\n", `3:4: the chain "FORWARD" was not declared`},
		"a loop":      {"*filter\n:INPUT ACCEPT [0:0]\n:a - [0:0]\n:b - [0:0]\n-A INPUT -j a\n-A a -j b\n-A b -j a\nCOMMIT\n", "jumps in a loop"},
		"bad address": {"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -s 10.20.300.1 -j DROP\nCOMMIT\n", `3:13: "10.20.300.1": expected an address or a net`},
		"not UTF-8":   {"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -m comment --comment \"\xff\" -j DROP\nCOMMIT\n", "3:1: not UTF-8"},
		"half JSON":   {`{"nftables": [`, "cut off"},
		"other JSON":  {`{"a": 1}`, `expected an object with the list "nftables"`},
		"own text":    {"table inet filter {\n}\n", "nft -j list ruleset"},
	} {
		file := write(t, filepath.Join(t.TempDir(), "tables"), c.text)
		r := run(t, "rules", "--tables", file, "--from", "10.20.7.31", "--to", "10.20.0.14:443")
		if r.status != 2 || !strings.Contains(r.stderr, c.want) || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%s: status %d, %q; want %q", name, r.status, r.stderr, c.want)
		}
	}
}

// TestRulesUsage sees that flags which make no sense are said in one line.
func TestRulesUsage(t *testing.T) {
	for _, args := range [][]string{
		{}, {"--from", "10.20.7.31"}, {"--from", "x", "--to", "10.20.0.14:443"}, {"--from", "10.20.7.31", "--to", "10.20.0.14"},
		{"--from", "10.20.7.31", "--to", "[fd20::14]:443"}, {"--from", "10.20.7.31", "--to", "10.20.0.14:443", "--transport", "sctp"},
		{"--from", "10.20.7.31", "--to", "10.20.0.14:443", "--tables", "/nowhere"},
		{"--from", "10.20.7.31", "--to", "10.20.0.14:443"}, // neither is this host's
		{"--from", "127.0.0.1", "--to", "127.0.0.1:443", "--suppose", "frobnicate"},
	} {
		if r := run(t, append([]string{"rules"}, args...)...); r.status != 2 || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%v: status %d, %q", args, r.status, r.stderr)
		}
	}
}
