package vantage

import (
	"context"
	"net/netip"
	"testing"

	"uakari/internal/fact"
)

// TestCarried answers looks from a record: what a host says of itself for any
// question, what it saw of a target for that one alone.
func TestCarried(t *testing.T) {
	addr, other := netip.MustParseAddr("10.20.0.14"), netip.MustParseAddr("10.20.0.15")
	of := func(look fact.Kind, target fact.Target) fact.Fact {
		return fact.Fact{Order: fact.Order{Look: look, Target: target}, Source: string(look), Saw: "seen"}
	}
	c := NewCarried("r1", fact.Server, fact.HostRecord{Host: "tidebook", Facts: []fact.Fact{
		of(
			fact.LookAddresses,
			fact.Target{},
		), of(fact.LookListeners, fact.Target{}), of(fact.LookListeners, fact.Target{Port: 443}),
		of(fact.LookService, fact.Target{Port: 443}), of(fact.LookSession, fact.Target{Addr: addr, Port: 443}),
		of(fact.LookAccount, fact.Target{Account: "gauge", Port: 22}),
		of(fact.LookSettings, fact.Target{Name: "server"}),
		of(
			fact.LookCertFiles,
			fact.Target{Port: 443},
		), of(fact.LookPathRight, fact.Target{Account: "www-data", Path: "/srv"}),
	}})
	for _, q := range []struct {
		look   fact.Kind
		target fact.Target
		found  int
	}{
		{fact.LookAddresses, fact.Target{}, 1},
		{fact.LookAddresses, fact.Target{Port: 443}, 1},
		{fact.LookListeners, fact.Target{Port: 443}, 1}, // the one that was made for the port
		{fact.LookListeners, fact.Target{Port: 80}, 1},  // the list of all stands in
		{fact.LookService, fact.Target{Port: 443, Scheme: "https"}, 1},
		{fact.LookService, fact.Target{Port: 80}, 0},
		{fact.LookSession, fact.Target{Addr: addr, Port: 443}, 1},
		{fact.LookSession, fact.Target{Addr: addr, Port: 443, Apart: true}, 1},
		{fact.LookSession, fact.Target{Addr: other, Port: 443}, 0},
		{fact.LookAccount, fact.Target{Account: "gauge", Scheme: "ssh", Port: 22}, 1},
		{fact.LookAccount, fact.Target{Account: "ana", Scheme: "ssh", Port: 22}, 0},
		{fact.LookSettings, fact.Target{Name: "server"}, 1},
		{fact.LookSettings, fact.Target{Name: "client"}, 0},
		{fact.LookCertFiles, fact.Target{Port: 443}, 1},
		{fact.LookPathRight, fact.Target{Account: "www-data", Path: "/srv"}, 1},
		{fact.LookPathRight, fact.Target{Account: "www-data", Path: "/srv/other"}, 0},
		{fact.LookKernel, fact.Target{}, 0},
	} {
		found, failed := 0, 0
		c.Look(context.Background(), fact.Order{Look: q.look, Target: q.target}, func(f fact.Fact) {
			if f.Vantage != "r1" {
				t.Errorf("%s: left under %s", q.look, f.Vantage)
			}
			if f.Failed != nil {
				failed++
				return
			}
			found++
		})
		if found != q.found || failed != 1-min(1, q.found) {
			t.Errorf("%s %+v: %d found, %d failed", q.look, q.target, found, failed)
		}
	}
}

// TestCarriedScheme lets what a record saw of one protocol answer no question of another.
func TestCarriedScheme(t *testing.T) {
	addr := netip.MustParseAddr("10.20.0.14")
	for _, look := range []fact.Kind{fact.LookListeners, fact.LookSession, fact.LookOffers, fact.LookStored} {
		of := fact.Target{Addr: addr, Port: 8443, Scheme: "https"}
		c := NewCarried("r1", fact.Server, fact.HostRecord{Host: "tidebook", Facts: []fact.Fact{
			{Order: fact.Order{Look: look, Target: of}, Source: "x", Saw: "seen"}}})
		for scheme, want := range map[string]bool{"https": true, "http": false, "": false} {
			of.Scheme = scheme
			answered := false
			c.Look(t.Context(), fact.Order{Look: look, Target: of}, func(f fact.Fact) { answered = f.Failed == nil })
			if answered != want {
				t.Errorf("%s of https answers one of %q: %v", look, scheme, answered)
			}
		}
	}
}
