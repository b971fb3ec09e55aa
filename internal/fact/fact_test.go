package fact

import (
	"encoding/json"
	"net/netip"
	"strings"
	"testing"
)

// TestDecode is kept files that are whole, and such as are not: the error has
// the place, in one line.
func TestDecode(t *testing.T) {
	kept, err := json.MarshalIndent(
		New(
			Ask{Account: "svc-tide", Endpoint: Endpoint{Host: "tidebook.varzea.example", Port: 443}},
			[]Vantage{{ID: "v1", Role: Client, Host: "gauge-07"}},
		).With(Fact{Vantage: "v1", Order: Order{Look: LookProxy}, Proxy: &ProxySetting{Name: "all_proxy"}}),
		"",
		" ",
	)
	if err != nil {
		t.Fatal(err)
	}
	s, err := DecodeSet("a.json", kept)
	if err != nil || len(s.Facts) != 1 || s.Facts[0].ID != "e1" || s.Facts[0].Proxy.Name != "all_proxy" ||
		s.Ask.Account != "svc-tide" {
		t.Errorf("%v, %+v", err, s)
	}
	for _, c := range []struct{ text, want string }{
		{"", "a.json:1:1: EOF"},
		{"root:x", "a.json:1:2: invalid character 'r'"},
		{"{\n \"format\": 7}", "a.json:2:13: "},
		{"{\n \"unheard\": 7}", "unknown field \"unheard\""},
		{`{"format":"uakari.facts/9"}`, `a.json:1:1: format "uakari.facts/9"; expected "uakari.facts/1"`},
		{string(kept) + "{}", "something follows the end"},
		{string(kept) + "\n]", "something follows the end"},
		{`[]`, "cannot unmarshal array"},
	} {
		_, err := DecodeSet("a.json", []byte(c.text))
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%q: %v, want %q", c.text, err, c.want)
		}
	}
	// No beginning of a file is taken for the whole.
	for i := range kept {
		if _, err := DecodeSet("a.json", kept[:i]); err == nil {
			t.Errorf("the first %d bytes are taken", i)
		}
	}
	if _, err := DecodeRecord("a.json", kept); err == nil {
		t.Error("a set is taken for a record")
	}
	if TooLarge("a.json", mostKept) != nil || TooLarge("a.json", mostKept+1) == nil {
		t.Error("the bound of a file's size does not hold")
	}
}

// TestBarred is to whom an account may be shown: the endpoint that was typed, at
// an address that the client's own look-up gave.
func TestBarred(t *testing.T) {
	right, other := netip.MustParseAddr("10.20.0.14"), netip.MustParseAddr("10.20.0.15")
	e := Endpoint{Host: "tidebook.varzea.example", Port: 443, Scheme: "https", Security: TLS}
	target := Target{Name: e.Host, Addr: right, Port: 443, Scheme: "https", Security: TLS}
	set := New(Ask{Endpoint: e}, []Vantage{{ID: "v1", Role: Client}, {ID: "v2", Role: Server}})
	names := Order{Look: LookNames, Target: Target{Name: e.Host}}
	if set.Barred(target) == "" {
		t.Error("nobody has looked the name up")
	}
	elsewhere := set.With(
		Fact{Vantage: "v2", Order: names, Answer: &Answer{Addrs: []netip.Addr{right}}},
		Fact{
			Vantage: "v1",
			Order:   Order{Look: LookNames, Target: Target{Name: "heron"}},
			Answer:  &Answer{Addrs: []netip.Addr{right}},
		},
		Fact{
			Vantage:   "v2",
			Order:     Order{Look: LookAddresses},
			Addresses: &Addresses{Held: []Address{{Prefix: netip.PrefixFrom(right, 24)}}},
		},
	)
	if elsewhere.Barred(target) == "" {
		t.Error("another host, another name, or the server's word is taken")
	}
	for _, f := range []Fact{{Answer: &Answer{Addrs: []netip.Addr{right}}},
		{HostsFile: &HostsFile{Addrs: []netip.Addr{right}}}, {System: &SystemLookup{Addrs: []netip.Addr{right}}}} {
		f.Vantage, f.Order = "v1", names
		known := set.With(f)
		if why := known.Barred(target); why != "" {
			t.Errorf("%+v: %s", f, why)
		}
		moved := target
		moved.Addr = other
		if known.Barred(moved) == "" {
			t.Error("an address that nobody gave")
		}
		known.Ask.Endpoint.Stray = []Stray{{At: 1}}
		if known.Barred(target) == "" {
			t.Error("not what was typed")
		}
	}
}

// TestWith sees that a set is a value: what came later is not in what was
// before.
func TestWith(t *testing.T) {
	empty := New(Ask{}, nil)
	one := empty.With(Fact{Saw: "a"})
	two, other := one.With(Fact{Saw: "b"}), one.With(Fact{Saw: "c"}, Fact{Saw: "d"})
	if len(empty.Facts) != 0 || len(one.Facts) != 1 || two.Facts[1].Saw != "b" || other.Facts[1].Saw != "c" ||
		other.Facts[2].ID != "e3" {
		t.Errorf("%v, %v, %v, %v", empty.Facts, one.Facts, two.Facts, other.Facts)
	}
	made := 0
	for range 3 {
		one.Memo("tables", func() any { made++; return made })
	}
	if kept := two.Memo("tables", func() any { return 7 }); made != 1 || kept != 1 {
		t.Errorf("made %d times, then %v", made, kept)
	}
}

// TestCandidates is the full names that a look-up asks for.
func TestCandidates(t *testing.T) {
	for _, c := range []struct {
		name   string
		ndots  int
		search []string
		want   string
	}{
		{"tidebook.", 1, []string{"varzea.example"}, "tidebook."},
		{"tidebook", 1, nil, "tidebook."},
		{"tidebook", 1, []string{"varzea.example", "lab.varzea.example."},
			"tidebook.varzea.example. tidebook.lab.varzea.example. tidebook."},
		{"tidebook.varzea", 1, []string{"example"}, "tidebook.varzea. tidebook.varzea.example."},
		{"tidebook.varzea", 5, []string{"example"}, "tidebook.varzea.example. tidebook.varzea."},
		{"tidebook", 0, []string{"varzea.example"}, "tidebook. tidebook.varzea.example."},
	} {
		if got := strings.Join(ResolverSetup{Ndots: c.ndots, Search: c.search}.Candidates(c.name),
			" "); got != c.want {
			t.Errorf("%s, ndots %d: %q, want %q", c.name, c.ndots, got, c.want)
		}
	}
}

// TestTakes is which connections a listener takes.
func TestTakes(t *testing.T) {
	yes, no := true, false
	for _, c := range []struct {
		at             string
		v6only         *bool
		to             string
		takes, certain bool
	}{
		{"10.20.0.14", nil, "10.20.0.14", true, true}, {"10.20.0.14", nil, "10.20.0.15", false, true},
		{"127.0.0.1", nil, "10.20.0.14", false, true},
		{"0.0.0.0", nil, "10.20.0.14", true, true}, {"0.0.0.0", nil, "2001:db8::14", false, true},
		{"::", &no, "10.20.0.14", true, true}, {"::", &yes, "10.20.0.14", false, true},
		{"::", &yes, "2001:db8::14", true, true}, {"::", nil, "2001:db8::14", true, true},
		{"::ffff:10.20.0.14", nil, "10.20.0.14", true, true}, {"fe80::1%eth0", nil, "fe80::1", true, true},
	} {
		takes, certain := Listener{Addr: netip.MustParseAddr(c.at), V6Only: c.v6only}.Takes(netip.MustParseAddr(c.to))
		if takes != c.takes || certain != c.certain {
			t.Errorf("%s, to %s: %v, %v", c.at, c.to, takes, certain)
		}
	}
	if _, certain := (Listener{Addr: netip.MustParseAddr("::")}).Takes(netip.MustParseAddr("10.20.0.14")); certain {
		t.Error("whether a wildcard of IPv6 takes IPv4 is not certain where nobody said")
	}
	for _, c := range []struct {
		queue, limit uint32
		want         bool
	}{{0, 0, false}, {1, 0, true}, {511, 511, false}, {512, 511, true}} {
		if got := (Listener{Queue: c.queue, Limit: c.limit}).Full(); got != c.want {
			t.Errorf("%d of %d: %v", c.queue, c.limit, got)
		}
	}
}

// TestPorts is ranges of ports, and what is none.
func TestPorts(t *testing.T) {
	for text, want := range map[string][2]uint16{"443": {443, 443}, "1024-65535": {1024, 65535}, "20 - 21": {20, 21},
		"0": {0, 0}} {
		if low, high, err := Ports(text); err != nil || low != want[0] || high != want[1] {
			t.Errorf("%q: %d to %d, %v", text, low, high, err)
		}
	}
	for _, text := range []string{"", "-", "1-", "-1", "65536", "2-1", "http", "1-2-3"} {
		if low, high, err := Ports(text); err == nil {
			t.Errorf("%q: %d to %d; want an error", text, low, high)
		}
	}
}
