package program

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/settingsfile"
)

// TestAddressesDeny evaluates lists of every shape.
func TestAddressesDeny(t *testing.T) {
	from := netip.MustParseAddr("10.20.7.31")
	for _, c := range []struct {
		order, other string
		lines        []string
		want         string // denies, deciding line, known
	}{
		{"first", "deny", []string{"allow 127.0.0.1", "allow 10.20.9.0/24"}, "true 0 true"},
		{"first", "deny", []string{"allow 10.20.7.0/24", "deny 10.20.7.31"}, "false 1 true"},
		{"first", "allow", []string{"deny 10.20.7.", "allow all"}, "true 1 true"},
		{"last", "deny", []string{"allow 10.20.7.0/24", "deny 10.20.7.31"}, "true 2 true"},
		{"narrowest", "deny", []string{"deny 10.20.7.31", "allow 10.20.7.0/24"}, "true 1 true"},
		{"narrowest", "deny", []string{"deny 10.20.0.0/16", "allow 10.20.7.0/24"}, "false 2 true"},
		{"narrowest", "deny", nil, "true 0 true"},
		{"listed", "allow", []string{"allow 127.0.0.1", "allow ::1"}, "true 0 true"},
		{"listed", "allow", nil, "false 0 true"},
		{"listed", "allow", []string{"allow gauge.varzea.example"}, "true 0 false"},
		{"unless", "", []string{"deny 10.20.7.31"}, "true 1 true"},
		{"unless", "", []string{"deny 10.20.9.1"}, "false 0 true"},
		{"allow", "allow", []string{"allow 10.20.7.0/255.255.255.0", "deny all"}, "false 1 true"},
		{"allow", "allow", []string{"deny all", "allow 10.20.9.0/24"}, "true 1 true"},
		{"allow", "allow", []string{"deny 10.20.9.0/24"}, "false 0 true"},
		{"allow", "allow", []string{"allow 10.20.9.0/24"}, "true 0 true"},
		{"allow", "allow", []string{"deny 10.20.8.0/24", "allow 10.20.9.0/24"}, "false 0 true"},
		{"first", "deny", []string{"allow !10.20.7.31", "allow any"}, "true 1 true"},
		{"listed", "deny", []string{"allow none"}, "true 0 true"},
	} {
		f := fact.AccessFile{Order: c.order, Else: c.other}
		for i, text := range c.lines {
			f.Lines = append(f.Lines, fact.Line{Number: i + 1, Text: text})
		}
		denies, by, known := AddressesDeny(f, from)
		number := 0
		if by != nil {
			number = by.Number
		}
		if got := fmt.Sprint(denies, number, known); got != c.want {
			t.Errorf("%s %v else %s: got %s, want %s", c.order, c.lines, c.other, got, c.want)
		}
	}
}

func TestByWords(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"allowed_hosts=127.0.0.1,10.20.0.0/16\n", "1 allow 127.0.0.1; 1 allow 10.20.0.0/16"},
		{"# allow 10.20.0.0/16\n\tonly_from = 10.20.9.0/24\n", "2 allow 10.20.9.0/24"},
		{"Allow 127.0.0.1\nDeny 0/0\n", "1 allow 127.0.0.1; 2 deny 0/0"},
		{`  "rpc-whitelist": "127.0.0.1,10.20.*.*",`, "1 allow 127.0.0.1; 1 allow 10.20."},
		{"    allow connections from = localhost 10.20.*\n", "1 allow localhost; 1 allow 10.20."},
		{"range=10.20.9.0/24", "1 allow 10.20.9.0/24"},
		{"max_allowed_packet = 16\nallow_tls = 1.2\nacl_file = /srv/tide/10.20.0.1\npassword = deny 10.20.0.1\n", ""},
	} {
		var got []string
		for _, l := range ByWords(c.text) {
			got = append(got, fmt.Sprint(l.Number, " ", l.Text))
		}
		if strings.Join(got, "; ") != c.want {
			t.Errorf("%q: got %q, want %q", c.text, got, c.want)
		}
	}
	for list, denied := range map[string]bool{
		"allow 10.20.9.0/24\n": true, "allow 10.20.7.0/24\n": false, "deny 10.20.7.31\n": true,
		"deny 10.20.9.1\n":            false,
		"allow 127.0.0.1\ndeny 0/0\n": true, "allow *.1\n": false,
	} {
		f := fact.AccessFile{Order: "allow", Lines: ByWords(list)}
		if denies, _, _ := AddressesDeny(f, netip.MustParseAddr("10.20.7.31")); denies != denied {
			t.Errorf("%q: denies %v", list, denies)
		}
	}
}

// TestListedParts takes what a pattern says is the address of a value, and no more.
func TestListedParts(t *testing.T) {
	row, ok := Known().Of("unbound")
	if !ok {
		t.Fatal("no such program")
	}
	values, err := settingsfile.Read(
		"server:\n access-control: 10.20.0.0/16 refuse\n access-control: 10.20.9.0/24 allow_snoop\n",
		row.Settings.Grammar,
	)
	if err != nil {
		t.Fatal(err)
	}
	f := fact.AccessFile{Order: row.Settings.Lists[0].Order, Else: row.Settings.Lists[0].Else,
		Lines: row.Settings.Lists[0].ListedIn(values)}
	for addr, denied := range map[string]bool{"10.20.7.31": true, "10.20.9.4": false, "192.0.2.1": true} {
		if denies, _, known := AddressesDeny(f, netip.MustParseAddr(addr)); denies != denied || !known {
			t.Errorf("%s: denied %v, known %v, by %+v", addr, denies, known, f.Lines)
		}
	}
}
