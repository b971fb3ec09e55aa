package weigh

import (
	"testing"
	"uakari/internal/fact"
)

// TestSheetSource is the guard of the same packet: a layer that lets other
// clients in is proven to stop this one only where its address is certain.
func TestSheetSource(t *testing.T) {
	office := func(rules ...fact.SheetRule) fact.Sheet {
		return fact.Sheet{Name: "office", Layers: []fact.Layer{{Name: "edge", Kind: "stateful", Order: "first", Otherwise: "deny", Guards: []string{tidebook}, In: rules}}}
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
		{"a router, and the server saw this client", "10.20.7.1", gauge, []fact.SheetRule{others}, "rules/sheet-in proven"},
		{"a router, and nobody is let in", "10.20.7.1", "", []fact.SheetRule{nobody}, "rules/sheet-in proven"},
		{"a router, and all others are let in", "10.20.7.1", "", []fact.SheetRule{notThis, rule("allow", "", nil)}, "rules/sheet-in likely"},
	} {
		s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, silent).sends("v1", tidebook, gauge, c.via)
		s.set.Ask.Sheets = []fact.Sheet{office(c.rules...)}
		if c.seen != "" {
			s.peers("v2", c.seen)
		}
		s.check(c.name, c.want)
	}
}

func rule(do, transport string, from []string, ports ...string) fact.SheetRule {
	return fact.SheetRule{Do: do, Transport: transport, From: from, Ports: ports}
}
