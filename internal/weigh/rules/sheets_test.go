package rules

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/filter"
)

func rule(do, transport string, from []string, ports ...string) fact.SheetRule {
	return fact.SheetRule{Do: do, Transport: transport, From: from, Ports: ports}
}

// TestLayers is one layer in front of the server, and what it says of a
// connection from gauge-07 to port 443.
func TestLayers(t *testing.T) {
	desks := []string{"desks"}
	for _, c := range []struct {
		name    string
		layer   fact.Layer
		request string
		reply   string
	}{
		{"nothing is said", fact.Layer{}, "deny, since no rule allows it", ""},
		{"nothing is said, and the rest is let in", fact.Layer{Otherwise: "allow"},
			"allow, since no rule says otherwise", ""},
		{"allowed", fact.Layer{In: []fact.SheetRule{rule("allow", "tcp", desks, "443")}}, "allow", ""},
		{"another transport", fact.Layer{In: []fact.SheetRule{rule("allow", "udp", desks, "443")}},
			"deny, since no rule allows it", ""},
		{"another source", fact.Layer{In: []fact.SheetRule{rule("allow", "tcp", []string{"10.20.9.0/24"}, "443")}},
			"deny, since no rule allows it", ""},
		{"another port", fact.Layer{In: []fact.SheetRule{rule("allow", "tcp", desks, "80", "8000-9000")}},
			"deny, since no rule allows it", ""},
		{"the first match decides", fact.Layer{In: []fact.SheetRule{rule("allow", "", desks), rule("deny", "", nil)}},
			"allow", ""},
		{"the first match decides, the other way", fact.Layer{In: []fact.SheetRule{rule("deny", "", nil),
			rule("allow", "", desks)}}, "deny", ""},
		{"a deny wins over an earlier allow", fact.Layer{Order: "any",
			In: []fact.SheetRule{rule("allow", "", desks), rule("deny", "", nil)}}, "deny", ""},
		{"a deny of another port wins nothing", fact.Layer{Order: "any",
			In: []fact.SheetRule{rule("allow", "", desks), rule("deny", "tcp", nil, "80")}}, "allow", ""},
		{"it is off", fact.Layer{Off: true}, "", ""},
		{"replies are rules' too", fact.Layer{Kind: "stateless",
			In: []fact.SheetRule{rule("allow", "tcp", desks, "443")}}, "allow", "deny, since no rule allows it"},
		{"replies to all high ports", fact.Layer{Kind: "stateless", In: []fact.SheetRule{rule("allow", "", desks)},
			Out: []fact.SheetRule{rule("allow", "tcp", nil, "1024-65535")}}, "allow", "allow"},
		{"replies to some high ports", fact.Layer{Kind: "stateless", In: []fact.SheetRule{rule("allow", "", desks)},
			Out: []fact.SheetRule{rule("allow", "tcp", nil, "49152-65535")}}, "allow",
			"no rule allows the ports 32768-49151"},
		{"replies to two ranges that meet", fact.Layer{Kind: "stateless",
			In: []fact.SheetRule{rule("allow", "", desks)}, Out: []fact.SheetRule{rule("allow", "tcp", nil,
				"1024-40000"), rule("allow", "tcp", nil, "40001-65535")}}, "allow", "allow"},
		{"a deny of some replies", fact.Layer{Kind: "stateless", Order: "any",
			In: []fact.SheetRule{rule("allow", "", desks)}, Out: []fact.SheetRule{rule("allow", "tcp", nil),
				rule("deny", "tcp", nil, "40000")}}, "allow", "no rule allows the ports 40000"},
	} {
		l := c.layer
		l.Name, l.Guards = "edge", []string{tidebook}
		if l.Kind == "" {
			l.Kind = "stateful"
		}
		if l.Order == "" {
			l.Order = "first"
		}
		if l.Otherwise == "" {
			l.Otherwise = "deny"
		}
		s := fact.Sheet{Name: "office", Groups: map[string][]string{"desks": {"10.20.7.0/24"}},
			Layers: []fact.Layer{l}}
		var request, reply string
		for _, step := range sheetSteps([]fact.Sheet{s}, filter.Packet{Proto: filter.TCP,
			From: netip.MustParseAddr(gauge), To: netip.MustParseAddr(tidebook), ToPort: 443}) {
			if step.back {
				reply = step.says()
			} else {
				request = step.says()
			}
			if step.allowed != strings.HasPrefix(step.says(), "allow") {
				t.Errorf("%s: allowed is %v, and it says %q", c.name, step.allowed, step.says())
			}
		}
		if request != c.request || reply != c.reply {
			t.Errorf("%s: %q and %q, want %q and %q", c.name, request, reply, c.request, c.reply)
		}
	}
}

// TestMends is layers that stop a connection, and the change that each of them
// needs under its own order.
func TestMends(t *testing.T) {
	desks := []string{"10.20.7.0/24"}
	allow := "in: {do: allow, from: [10.20.7.31], transport: tcp, ports: [443]}"
	for _, c := range []struct {
		name, order, otherwise string
		rules                  []fact.SheetRule
		says, command          string
	}{
		{"no rule allows it", "first", "deny", []fact.SheetRule{rule("allow", "tcp", desks, "80")},
			"allow it in the layer edge", allow},
		{"a deny comes first", "first", "deny", []fact.SheetRule{rule("allow", "tcp", desks, "80"),
			rule("deny", "", desks), rule("allow", "", nil)}, "before rule 2 (r2)", allow},
		{"a deny wins", "any", "deny", []fact.SheetRule{rule("allow", "tcp", nil, "443"), rule("deny", "", desks)},
			"leave it out of rule 2 (r2)", "not-from: [10.20.7.31]"},
		{"a deny wins, and nothing allows it", "any", "deny", []fact.SheetRule{rule("deny", "", desks)},
			"leave it out of rule 1 (r1)", "not-from: [10.20.7.31]; " + allow},
		{"two denies win", "any", "allow", []fact.SheetRule{rule("deny", "tcp", nil, "400-500"),
			rule("deny", "", desks)}, "leave it out of rule 1 (r1) and 2 (r2)", "not-from: [10.20.7.31]"},
		{"the last deny of all", "first", "allow", []fact.SheetRule{rule("deny", "", nil)}, "before rule 1 (r1)",
			allow},
	} {
		for i := range c.rules {
			c.rules[i].Name = fmt.Sprintf("r%d", i+1)
		}
		s := fact.Sheet{
			Name: "office",
			Layers: []fact.Layer{
				{Name: "edge", Kind: "stateful", Order: c.order, Otherwise: c.otherwise, Guards: []string{tidebook},
					In: c.rules},
			},
		}
		steps := sheetSteps(
			[]fact.Sheet{s},
			filter.Packet{Proto: filter.TCP, From: netip.MustParseAddr(gauge), To: netip.MustParseAddr(tidebook),
				ToPort: 443},
		)
		if len(steps) != 1 || steps[0].allowed {
			t.Fatalf("%s: %+v", c.name, steps)
		}
		m := steps[0].mend()
		if !strings.Contains(m.says("edge"), c.says) || m.command() != c.command {
			t.Errorf("%s: %q, %q; want %q, %q", c.name, m.says("edge"), m.command(), c.says, c.command)
		}
	}
	// What is left out of a rule is not for it.
	r := rule("deny", "", desks)
	r.NotFrom = []string{gauge}
	if ruleConcerns(
		&r,
		&fact.Sheet{},
		crossing{"tcp", netip.MustParseAddr(gauge), netip.MustParseAddr(tidebook), 443, 443},
	) {
		t.Error("a rule concerns what it leaves out")
	}
}

// TestLayerEnds sees that a layer concerns what leaves those it guards, too.
func TestLayerEnds(t *testing.T) {
	s := fact.Sheet{
		Name: "office",
		Layers: []fact.Layer{
			{Name: "desk", Kind: "stateful", Order: "first", Otherwise: "deny", Guards: []string{"10.20.7.0/24"},
				Out: []fact.SheetRule{{Do: "allow", To: []string{"10.20.0.0/24"}, Transport: "tcp",
					Ports: []string{"80"}}}},
		},
	}
	for port, want := range map[uint16]bool{80: true, 443: false} {
		steps := sheetSteps(
			[]fact.Sheet{s},
			filter.Packet{Proto: filter.TCP, From: netip.MustParseAddr(gauge), To: netip.MustParseAddr(tidebook),
				ToPort: port},
		)
		if len(steps) != 1 || steps[0].allowed != want || steps[0].side != "out" || steps[0].guardsEnd != "client" {
			t.Errorf("port %d: %+v", port, steps)
		}
	}
}

// TestOddities is rules of a sheet that do nothing, or quarrel.
func TestOddities(t *testing.T) {
	for _, c := range []struct {
		order string
		rules []fact.SheetRule
		want  string
	}{
		{"first", []fact.SheetRule{rule("allow", "", nil), rule("deny", "tcp", []string{gauge}, "443")},
			"rule 2 can never match, rule 1 takes all of it"},
		{"first", []fact.SheetRule{rule("deny", "tcp", []string{gauge}, "443"), rule("allow", "", nil)}, ""},
		{"first", []fact.SheetRule{rule("allow", "tcp", nil, "1-1023"), rule("deny", "tcp", nil, "443")},
			"can never match"},
		{"first", []fact.SheetRule{rule("allow", "tcp", nil, "1-442"), rule("deny", "tcp", nil, "443")}, ""},
		{"first", []fact.SheetRule{rule("allow", "tcp", []string{"10.20.0.0/16"}),
			rule("deny", "tcp", []string{"10.20.7.0/24"})}, "can never match"},
		{"any", []fact.SheetRule{rule("allow", "", nil), rule("deny", "tcp", nil, "443")},
			"rules 1 and 2 say opposite things"},
		{"any", []fact.SheetRule{rule("allow", "", nil), rule("allow", "tcp", nil, "443")}, ""},
	} {
		got := strings.Join(
			LayerDoubts(&fact.Sheet{Name: "office", Layers: []fact.Layer{{Name: "edge", Order: c.order,
				In: c.rules}}}),
			"; ",
		)
		if (got == "") != (c.want == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s, %v: %q, want %q", c.order, c.rules, got, c.want)
		}
	}
}

// TestCutPorts splits ranges of ports.
func TestCutPorts(t *testing.T) {
	whole := []portRange{{1000, 2000}}
	for _, c := range []struct {
		ports     []string
		hit, left string
	}{
		{nil, "1000-2000", ""}, {[]string{"1500"}, "1500", "1000-1499, 1501-2000"},
		{[]string{"1-1000"}, "1000", "1001-2000"}, {[]string{"2000-65535"}, "2000", "1000-1999"},
		{[]string{"1-65535"}, "1000-2000", ""}, {[]string{"80"}, "", "1000-2000"},
		{[]string{"1000-1400", "1300-2000"}, "1000-1400, 1401-2000", ""},
	} {
		hit, left := cutPorts(whole, c.ports)
		if portsText(hit) != c.hit || portsText(left) != c.left {
			t.Errorf("%v: %q and %q", c.ports, portsText(hit), portsText(left))
		}
	}
}
