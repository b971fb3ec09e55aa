package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/program"
)

func linesOf(text string) []fact.Line {
	var lines []fact.Line
	for i, l := range strings.Split(text, "\n") {
		lines = append(lines, fact.Line{Number: i + 1, Text: l})
	}
	return lines
}

// TestWrapperRules is lines of hosts.allow and hosts.deny as hosts_access(5)
// has them.
func TestWrapperRules(t *testing.T) {
	for _, c := range []struct {
		line   string
		source string
		want   filter.Tri
	}{
		{"ALL: ALL", gauge, filter.Yes}, {"sshd: ALL", gauge, filter.Yes}, {"vsftpd: ALL", gauge, filter.No},
		{"sshd, vsftpd : 10.20.7.", gauge, filter.Yes},
		{"sshd: 10.20.8.", gauge, filter.No}, {"sshd: 10.20.7.0/24", gauge, filter.Yes},
		{"sshd: 10.20.7.0/255.255.255.0", gauge, filter.Yes},
		{"sshd: 10.20.8.0/255.255.255.0", gauge, filter.No}, {"sshd: 10.20.*.31", gauge, filter.Yes},
		{"sshd: 10.20.7.3?", gauge, filter.Yes},
		{"sshd: ALL EXCEPT 10.20.7.31", gauge, filter.No}, {"sshd: ALL EXCEPT 10.20.7.0/24 EXCEPT 10.20.7.31", gauge,
			filter.Yes},
		{"ALL EXCEPT sshd: ALL", gauge, filter.No}, {"sshd: .varzea.example", gauge, filter.Unknown},
		{"sshd: LOCAL", gauge, filter.Unknown},
		{"sshd: [fd20:7::]/64", "fd20:7::31", filter.Yes}, {"sshd: [fd20:8::]/64", "fd20:7::31", filter.No},
		{"sshd@10.20.0.14: ALL", gauge, filter.Unknown}, {"vsftpd@10.20.0.14: ALL", gauge, filter.No},
		{"sshd: ana@10.20.7.31", gauge, filter.Unknown}, {"sshd: ana@10.20.8.1", gauge, filter.No},
		{"sshd: 10.20.7.9/24", gauge, filter.No},
		{"sshd: .varzea.example 10.20.7.31", gauge, filter.Yes},
	} {
		rules := program.WrapperRules(linesOf(c.line))
		if len(rules) != 1 {
			t.Errorf("%q: %d rules", c.line, len(rules))
			continue
		}
		if got := rules[0].Matches("sshd", netip.MustParseAddr(c.source)); got != c.want {
			t.Errorf("%q: %s, want %s", c.line, got, c.want)
		}
	}
	two := program.WrapperRules(linesOf("# a comment\nsshd: 10.20.8.1, \\\n 10.20.7.31 : deny\n\nALL: ALL: allow"))
	if len(two) != 2 || two[0].Option != "deny" || two[0].Number != 2 || two[1].Option != "allow" ||
		two[0].Matches("sshd", netip.MustParseAddr(gauge)) != filter.Yes {
		t.Errorf("%+v", two)
	}
}

// TestNginxDenies is allow and deny in nginx's blocks.
func TestNginxDenies(t *testing.T) {
	for _, c := range []struct {
		text, path string
		want       int
	}{
		{"server {\n listen 80;\n deny 10.20.7.0/24;\n allow all;\n}", "/", 3},
		{"server {\n listen 80;\n allow 10.20.7.31;\n deny all;\n}", "/", 0},
		{"server {\n listen 80;\n allow 10.20.8.0/24;\n deny all;\n}", "/", 4},
		{"server {\n listen 81;\n deny all;\n}", "/", 0},
		{"server {\n listen 80; server_name ledger.varzea.example;\n deny all;\n}", "/", 3}, // the first takes what none is named for
		{"deny all;\nserver {\n listen 80;\n}", "/", 1},
		{"deny all;\nserver {\n listen 80;\n allow all;\n}", "/", 0},
		{"server {\n listen 80;\n location /map {\n deny all;\n }\n location / {\n allow all;\n }\n}", "/map/x", 4},
		{"server {\n listen 80;\n location /map { deny all; }\n location / { allow all; }\n}", "/", 0},
		// Another block has the name, or may take the request.
		{"server {\n deny all;\n}\nserver {\n server_name tidebook.varzea.example;\n allow all;\n}", "/", 0},
		{"server {\n allow all;\n}\nserver {\n server_name tidebook.varzea.example;\n deny all;\n}", "/", 6},
		{"server {\n deny all;\n}\nserver {\n server_name *.varzea.example;\n}", "/", 0},
		{"server {\n deny all;\n}\nserver {\n}", "/", 2},
		{"server {\n listen 80;\n deny all;\n}\nserver {\n listen 80 default_server;\n allow all;\n}", "/", 0},
		{"server {\n listen 80;\n}\nserver {\n listen 80 default_server;\n deny all;\n}", "/", 6},
		{"server {\n listen 81 default_server;\n listen 80;\n}\nserver {\n listen 80;\n deny all;\n}", "/", 0},
		{"server {\n location / { deny all; }\n location ~ map$ { allow all; }\n}", "/map", 0},
		{"server {\n include snippets/office.conf;\n deny all;\n}", "/", 0},
		{"server {\n include sites.d/*.conf;\n allow all;\n}", "/", 2},
		{"server {\n allow all;\n include \"/etc/nginx/sites.d/*.conf\";\n}", "/", 0},
		{"server {\n location / { include sites.d/deny.conf; }\n}", "/", 2},
		{"server {\n include none.d/*.conf;\n deny all;\n}", "/", 3},
		{"server {\n include again;\n deny all;\n}", "/", 0},
		{"server {\n location = / { deny all; }\n location / { allow all; }\n}", "/map", 0},
		{"server {\n location = /map { deny all; }\n location / { allow all; }\n}", "/map?scale=2", 2},
		{"server {\n listen 127.0.0.1:81; listen [::]:80;\n deny all;\n}", "/", 3},
		{"server {\n location /map { location /map/old { deny all; } allow all; }\n}", "/map/old/1", 2},
	} {
		servers := program.NginxServers(&fact.AccessFile{Path: "/etc/nginx/conf.d/x.conf", Lines: linesOf(c.text)},
			[]fact.AccessFile{
				{Path: "/etc/nginx/sites.d/deny.conf", Kind: fact.ListNginx, Lines: linesOf("\ndeny 10.20.7.0/24;")},
				{Path: "/etc/nginx/again", Kind: fact.ListNginx, Lines: linesOf("include again; include again;")},
			})
		_, got := program.NginxDenies(
			servers,
			netip.MustParseAddr(gauge),
			fact.Target{Name: "tidebook.varzea.example", Port: 80, Path: c.path},
		)
		if got.Number != c.want {
			t.Errorf("%q: line %d, want %d", c.text, got.Number, c.want)
		}
	}
}
