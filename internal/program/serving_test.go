package program

import (
	"testing"

	"uakari/internal/protocol"
)

// servedBeside is the schemes that no program file names, and why.
var servedBeside = map[string]string{
	"ws":        "servers of http take it on",
	"wss":       "servers of http take it on",
	"grpc":      "an application's own, behind servers of http",
	"grpcs":     "an application's own, behind servers of http",
	"proxy":     "proxies are found as what serves http",
	"proxy+tls": "proxies are found as what serves http",
}

// TestServing joins the registries of protocols and of programs, both ways: what a scheme
// may be answered by, and that what a program answers is a scheme.
func TestServing(t *testing.T) {
	known := map[string]bool{}
	for _, s := range protocol.Schemes {
		known[s.Name] = true
		if serving := Known().Serving(s.Name); len(serving) == 0 == (servedBeside[s.Name] == "") {
			t.Errorf("%s is answered by %d programs; the reason that it has none: %q", s.Name, len(serving), servedBeside[s.Name])
		}
	}
	for _, p := range Known().All() {
		for scheme := range p.Serves {
			if !known[scheme] {
				t.Errorf("%s answers %q, which is no scheme", p.Name, scheme)
			}
		}
	}
}
