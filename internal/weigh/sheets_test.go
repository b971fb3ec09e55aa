package weigh

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/trail"
)

// TestSheetSource is the guard of the same packet: a layer that lets other
// clients in is proven to stop this one only where its address is certain.
func TestSheetSource(t *testing.T) {
	office := func(rules ...fact.SheetRule) fact.Sheet {
		return fact.Sheet{
			Name: "office",
			Layers: []fact.Layer{
				{Name: "edge", Kind: "stateful", Order: "first", Otherwise: "deny", Guards: []string{tidebook},
					In: rules},
			},
		}
	}
	others, nobody := rule("allow", "tcp", []string{"10.20.9.0/24"}, "80"), rule("allow", "tcp", nil, "443")
	notThis := rule("deny", "", []string{gauge})
	for _, c := range []struct {
		name  string
		via   string
		seen  string
		rules []fact.SheetRule
		want  string
	}{
		{"one link", "", "", []fact.SheetRule{others}, "rules/sheet-in proven"},
		{"a router", "10.20.7.1", "", []fact.SheetRule{others}, "rules/sheet-in likely"},
		{"a router, and the server saw this client", "10.20.7.1", gauge, []fact.SheetRule{others},
			"rules/sheet-in proven"},
		{"a router, and nobody is let in", "10.20.7.1", "", []fact.SheetRule{nobody}, "rules/sheet-in proven"},
		{"a router, and all others are let in", "10.20.7.1", "", []fact.SheetRule{notThis, rule("allow", "", nil)},
			"rules/sheet-in likely"},
	} {
		s := newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, silent).
			sends("v1", tidebook, gauge, c.via)
		s.set.Ask.Sheets = []fact.Sheet{office(c.rules...)}
		if c.seen != "" {
			s.peers("v2", c.seen)
		}
		s.check(c.name, c.want)
	}
}

// TestSheetStands is what else a sheet says, and what a connection of the same
// run says against it.
func TestSheetStands(t *testing.T) {
	const other = "10.20.0.15"
	shut := fact.Sheet{
		Name: "office",
		Layers: []fact.Layer{
			{Name: "edge", Kind: "stateful", Order: "first", Otherwise: "deny", Guards: []string{tidebook, other}},
		},
	}
	base := func(s fact.Sheet, steps ...step) *scenario {
		sc := newScene(
			t,
			web,
		).holds("v1", gauge).
			holds("v2", tidebook).
			named(tidebook).
			client(tidebook, steps...).
			sends("v1", tidebook, gauge, "")
		sc.set.Ask.Sheets = []fact.Sheet{s}
		return sc
	}
	base(shut, silent).check("shut by its rules", "rules/sheet-in proven")
	there := fact.Target{
		Name:     "tidebook.varzea.example",
		Addr:     netip.MustParseAddr(other),
		Port:     80,
		Scheme:   "tcp",
		Security: fact.Plain,
	}
	got := base(shut, silent).climb("v1", there, connected).weigh()
	expect(t, got, "rules/sheet-in likely")
	if s := strings.Join(got.Causes[0].Short, "; "); !strings.Contains(
		s,
		"by it 10.20.0.15:80 would be shut too, and it connects",
	) {
		t.Error(s)
	}
	routed := fact.Sheet{
		Name: "office",
		Routes: []fact.SheetRoutes{
			{Name: "gauges", For: []string{gauge}, Table: []fact.SheetRoute{{To: "10.20.9.0/24", Via: "heron"}}},
		},
	}
	got = base(routed, silent).weigh()
	expect(t, got, "rules/no-route proven")
	if r := got.Causes[0].Remedies; len(r) != 1 ||
		!strings.Contains(r[0].Do, "add an entry that leads to 10.20.0.14 to the routes gauges of office") {
		t.Errorf("%+v", r)
	}
	scoped := fact.Sheet{
		Name: "office",
		Scopes: &fact.Scopes{
			Groups: []fact.ScopeGroup{{Name: "field", Serves: []string{"10.20.0.14:80"}}},
			Ranges: []fact.ScopeRange{{Range: "10.20.1.1-10.20.1.9", Group: "field"}},
		},
	}
	// It connects, and is assigned nothing.
	unscoped := base(scoped, connected, replied(200)).weigh()
	expect(t, unscoped, "rules/out-of-scope proven")
	if got := unscoped.Verdict(); got != trail.Unhealthy {
		t.Errorf("out of scope, and the verdict is %d", got)
	}
	// An address that leads on: to nobody, and to some that a layer guards.
	leads := func(to ...string) fact.Sheet {
		return fact.Sheet{
			Name: "office",
			Forwards: []fact.Forward{
				{
					Name: "service portal",
					From: "10.20.0.14:80",
					To:   to,
					Why:  map[bool]string{true: "no pod has its labels"}[len(to) == 0],
				},
			},
			Layers: []fact.Layer{
				{
					Name:      "inner",
					Kind:      "stateful",
					Order:     "any",
					Otherwise: "deny",
					Guards:    []string{"10.20.8.5"},
					In:        []fact.SheetRule{rule("allow", "tcp", nil, "9000")},
				},
			},
		}
	}
	nobody := base(leads(), reset).weigh()
	expect(t, nobody, "service/nobody-behind proven")
	if c := nobody.Causes[0]; !strings.Contains(c.Summary, "leads to nobody: no pod has its labels") ||
		len(c.Remedies) != 1 {
		t.Errorf("%+v", c)
	}
	base(leads("10.20.8.5:8443"), silent).check("all behind it are guarded", "rules/sheet-in proven")
	base(leads("10.20.8.5:8443", "10.20.8.6:8443"), silent).check("some behind it are guarded",
		"rules/sheet-in likely")
	base(leads("10.20.8.5:9000"), silent).check("those behind it are let in")
	machine := func(m fact.Machine) fact.Sheet {
		m.Address = tidebook
		return fact.Sheet{Name: "office", Machines: []fact.Machine{m}}
	}
	now := base(shut).set.Ask.Began
	base(
		machine(fact.Machine{Power: "off", At: now.Add(-time.Minute)}),
		silent,
	).check("switched off", "service/machine-off proven")
	base(
		machine(fact.Machine{Power: "off", At: now.Add(-time.Hour)}),
		silent,
	).check("an hour ago", "service/machine-off likely")
	base(machine(fact.Machine{Power: "on", Checks: "failed", At: now}), silent).check("ill",
		"service/machine-off likely")
	expectDoubts(
		t,
		base(machine(fact.Machine{Power: "off", At: now}), connected, replied(200)).weigh(),
		"service/machine-off possible",
	) // it answers
}

func rule(do, transport string, from []string, ports ...string) fact.SheetRule {
	return fact.SheetRule{Do: do, Transport: transport, From: from, Ports: ports}
}
