package sheet

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

const office = `format: uakari.sheet/1
name: office
groups:
  desks: [10.20.7.0/24, "2001:db8:7::/64"]
  servers: [10.20.0.0/24]
layers:
  - name: edge
    kind: stateful
    guards: [servers]
    in:
      - {do: allow, transport: tcp, ports: [443, 8000-8100], from: [desks]}
      - {do: deny, from: [10.20.9.4]}
  - name: subnet
    kind: stateless
    order: any
    otherwise: allow
    guards: [10.20.0.14]
    out:
      - {do: deny, transport: icmp, to: [desks]}
routes:
  - for: [desks]
    table:
      - {to: 0.0.0.0/0, via: heron}
      - {to: 10.20.0.0/24, via: none}
`

// TestParse reads a whole sheet, and fills in what was left out.
func TestParse(t *testing.T) {
	s, err := Parse("office.yaml", []byte(office))
	if err != nil {
		t.Fatal(err)
	}
	if s.Name != "office" || len(s.Layers) != 2 || len(s.Routes) != 1 {
		t.Errorf("read as %+v", s)
	}
	if l := s.Layers[0]; l.Order != "first" || l.Otherwise != "deny" || l.In[0].Ports[0] != "443" {
		t.Errorf("the first layer is %+v", l)
	}
	if l := s.Layers[1]; l.Order != "any" || l.Otherwise != "allow" {
		t.Errorf("the second layer is %+v", l)
	}
}

// TestWrong is a sheet with one thing replaced: the error names the place and
// what was expected.
func TestWrong(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"uakari.sheet/1", "uakari.sheet/9", `s.yaml:1:9: format "uakari.sheet/9"; expected "uakari.sheet/1"`},
		{"name: office\n", "", "s.yaml:1:1: the sheet has no name"},
		{"10.20.7.0/24, ", "10.20.7.0/240, ", `s.yaml:4:11: "10.20.7.0/240": expected an address, a net, a range`},
		{"  - name: edge\n    kind: stateful", "  - kind: stateful", "the layer has no name"},
		{"kind: stateless", "kind: maybe", `s.yaml:14:11: "maybe": expected stateful or stateless`},
		{"order: any", "order: last", `"last": expected first or any`},
		{"otherwise: allow", "otherwise: ask", `"ask": expected deny or allow`},
		{"do: allow", "do: accept", `"accept": expected allow or deny`},
		{"transport: icmp", "transport: sctp", `"sctp": expected tcp or udp or icmp`},
		{"guards: [servers]", "guards: [printers]",
			`s.yaml:9:14: "printers": expected an address, a net, a range such as 10.20.7.10-10.20.7.40, or one of ` +
				`the groups`},
		{"guards: [10.20.0.14]", "guards: []", "expected addresses, nets or groups"},
		{"8000-8100", "8100-8000", `s.yaml:11:50: "8100-8000": expected a port or a range such as 1024-65535`},
		{"443,", "99999,", `"99999": expected a port`},
		{"to: 0.0.0.0/0", "to: all", `"all": expected a net such as 0.0.0.0/0`},
		{", via: none", "", "no via; expected where it leads, or none"},
		{"kind: stateful", "knid: stateful", "s.yaml:8:5: unknown field \"knid\""},
		{"layers:\n", "layers: 3\n", "s.yaml:"},
		{"groups:", "groups: [", "s.yaml:"},
		{"servers: [10.20.0.0/24]", "servers: [10.20.0.9-10.20.0.2]", `"10.20.0.9-10.20.0.2": expected an address`},
		{"servers: [10.20.0.0/24]", "servers: [servers]", "the group names itself"},
		{"servers: [10.20.0.0/24]", "servers: [10.20.0.0/24]\n  all: [10.20.0.1]",
			"may not be called as an address is"},
		{"routes:\n", "machines:\n  - {address: heron, power: on, at: 2026-11-23T10:00:00Z}\nroutes:\n",
			`"heron": expected the machine's address`},
		{"routes:\n", "machines:\n  - {address: 10.20.0.14, power: maybe, at: 2026-11-23T10:00:00Z}\nroutes:\n",
			`"maybe": expected on or off`},
		{"routes:\n", "machines:\n  - {address: 10.20.0.14, power: \"off\"}\nroutes:\n", "at what time was that so?"},
		{"routes:\n", "sign-in:\n  accounts: {ana: [admins]}\n  rules: [{name: x, do: refuse, who: " +
			"[anna]}]\nroutes:\n", `s.yaml:22:39: "anna": no account and no group`},
	} {
		text := strings.Replace(office, c.old, c.new, 1)
		if text == office {
			t.Fatalf("%q is not in the sheet", c.old)
		}
		_, err := Parse("s.yaml", []byte(text))
		if err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "\n") {
			t.Errorf("%q for %q: %v; want %q", c.new, c.old, err, c.want)
		}
	}
}

// TestNets is lists of addresses, nets, ranges and groups, and what they hold.
func TestNets(t *testing.T) {
	s := &fact.Sheet{
		Groups: map[string][]string{
			"desks":    {"10.20.1.5-10.20.1.9", "stations"},
			"stations": {"10.20.7.0/24", "fd20:7::1-fd20:7::ff"},
		},
	}
	for _, c := range []struct {
		list      []string
		in, apart string
	}{
		{[]string{"10.20.1.5-10.20.1.9"}, "10.20.1.5 10.20.1.7 10.20.1.9", "10.20.1.4 10.20.1.10"},
		{[]string{"desks"}, "10.20.1.6 10.20.7.200 fd20:7::10", "10.20.1.1 fd20:7::1:0"},
		{[]string{"all"}, "192.0.2.1 fd20::1", ""},
		{[]string{"0.0.0.0-255.255.255.255"}, "0.0.0.0 255.255.255.255 10.20.7.1", "fd20::1"},
		{[]string{"10.20.7.31"}, "10.20.7.31", "10.20.7.30"},
	} {
		for _, text := range strings.Fields(c.in) {
			if !HoldsAny(s, c.list, netip.MustParseAddr(text)) {
				t.Errorf("%v lacks %s", c.list, text)
			}
		}
		for _, text := range strings.Fields(c.apart) {
			if HoldsAny(s, c.list, netip.MustParseAddr(text)) {
				t.Errorf("%v holds %s", c.list, text)
			}
		}
	}
}

// TestCutShort sees that no beginning of a sheet, and no sheet with one
// character lost, does more than fail.
func TestCutShort(t *testing.T) {
	for i := range office {
		for _, text := range []string{office[:i], office[:i] + office[i+1:]} {
			if _, err := Parse("s.yaml", []byte(text)); err != nil && !strings.HasPrefix(err.Error(), "s.yaml:") {
				t.Errorf("at %d: the error has no place: %v", i, err)
			}
		}
	}
}
