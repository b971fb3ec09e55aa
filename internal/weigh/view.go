package weigh

import (
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// view is a set of facts, arranged for asking.
type view struct {
	set    fact.Set
	ask    fact.Ask
	scheme endpoint.Scheme
	client string // the client's vantage
	// climbs has every session by where it was looked from and at what.
	climbs map[seat]climb
	// led says of names that a service record led to, how.
	led map[string]string
}

type seat struct {
	vantage string
	target  fact.Target
}

func newView(set fact.Set) *view {
	v := &view{set: set, ask: set.Ask, climbs: map[seat]climb{}, led: map[string]string{}}
	v.scheme, _ = endpoint.Lookup(set.Ask.Endpoint.Scheme)
	for _, at := range set.Vantages {
		if at.Role == fact.Client && v.client == "" {
			v.client = at.ID
		}
	}
	for i := range set.Facts {
		f := &set.Facts[i]
		if f.Order.Look != fact.LookSession {
			continue
		}
		s := seat{f.Vantage, f.Order.Target}
		c := v.climbs[s]
		c.target = f.Order.Target
		c.take(f)
		v.climbs[s] = c
	}
	return v
}

func (c *climb) take(f *fact.Fact) {
	switch {
	case f.Connect != nil:
		c.connect = f
	case f.Greeting != nil:
		c.greeting = f
	case f.Upgrade != nil:
		c.upgrade = f
	case f.Handshake != nil:
		c.handshake = f
	case f.Trust != nil && f.Trust.Beside:
		c.beside = f
	case f.Trust != nil:
		c.trust = f
	case f.HostKey != nil:
		c.hostKey = f
	case f.Reply != nil:
		c.reply = f
	}
}

// facts is the facts that one look left at one vantage, whatever its target.
func (v *view) facts(vantage string, look fact.Kind) []*fact.Fact {
	var list []*fact.Fact
	for i := range v.set.Facts {
		if f := &v.set.Facts[i]; f.Vantage == vantage && f.Order.Look == look {
			list = append(list, f)
		}
	}
	return list
}

// addresses is what a vantage says its own addresses are; nil if it was not
// asked yet or could not say.
func (v *view) addresses(vantage string) (*fact.Fact, *fact.Addresses) {
	for _, f := range v.facts(vantage, fact.LookAddresses) {
		if f.Addresses != nil {
			return f, f.Addresses
		}
	}
	return nil, nil
}

// listeners is the first look at who listens, which was taken at the time of
// the client's try.
func (v *view) listeners(vantage string) (*fact.Fact, *fact.Listeners) {
	for _, f := range v.facts(vantage, fact.LookListeners) {
		if f.Listeners != nil && f.Order.Target.Again == 0 {
			return f, f.Listeners
		}
	}
	return nil, nil
}

// listenersLater is who holds the target's port by the second look, which was
// taken while the client waited; nil if there was none.
func (v *view) listenersLater(t *try) []fact.Listener {
	var last []fact.Listener
	for _, f := range v.facts(t.server, fact.LookListeners) {
		if f.Listeners != nil && f.Order.Target.Again > 0 {
			last = append([]fact.Listener{}, f.Listeners.On(v.ask.Endpoint.Transport, t.target.Port)...)
		}
	}
	return last
}

func (v *view) service(vantage string) (*fact.Fact, *fact.Service) {
	for _, f := range v.facts(vantage, fact.LookService) {
		if f.Service != nil {
			return f, f.Service
		}
	}
	return nil, nil
}

// failed is the first thing that a look at a vantage could not see.
func (v *view) failed(vantage string, look fact.Kind) *fact.Fact {
	for _, f := range v.facts(vantage, look) {
		if f.Failed != nil {
			return f
		}
	}
	return nil
}

// own is the client's own addresses, as far as they were seen.
func (v *view) own() []netip.Addr {
	var list []netip.Addr
	if _, a := v.addresses(v.client); a != nil {
		for _, held := range a.Held {
			list = append(list, held.Prefix.Addr())
		}
	}
	return list
}

// serverOf is the vantage that is the server of an address: the one that
// holds it. No vantage counts as the server for being called so.
func (v *view) serverOf(addr netip.Addr) string {
	holder := ""
	for _, at := range v.set.Vantages {
		if at.Role != fact.Server {
			continue
		}
		if _, a := v.addresses(at.ID); a == nil || !a.Holds(addr) {
			continue
		}
		if everyHosts[addr.Unmap()] && !at.Implied && at.Host != v.host(v.client) {
			continue // the client comes to itself there, not to the server
		}
		if !at.Implied {
			return at.ID // the administrator said that it is the server
		}
		holder = at.ID
	}
	return holder
}

// everyHosts is the addresses that every host has for itself.
var everyHosts = map[netip.Addr]bool{netip.AddrFrom4([4]byte{127, 0, 0, 1}): true, netip.IPv6Loopback(): true}

// host is the name of a vantage's host.
func (v *view) host(vantage string) string { return v.vantage(vantage).Host }

// programsAt is the programs that could stand behind the endpoint on a
// vantage.
func (v *view) programsAt(vantage string) []fact.Program {
	if _, s := v.service(vantage); s != nil {
		return s.Programs
	}
	return nil
}

// ownName reports whether a name is one a host gives to itself, so that a
// loopback address for it is right.
func ownName(name, host string) bool {
	name, host = strings.ToLower(strings.TrimSuffix(name, ".")), strings.ToLower(host)
	first, _, _ := strings.Cut(name, ".")
	return name == "localhost" || strings.HasSuffix(name, ".localhost") || host != "" && (name == host || first == host)
}

// hasFamily reports whether the client has an address of a family beyond
// loopback and the link; true where its addresses were not seen.
func (v *view) hasFamily(six bool) bool {
	_, a := v.addresses(v.client)
	if a == nil {
		return true
	}
	return slices.ContainsFunc(a.Held, func(h fact.Address) bool {
		addr := h.Prefix.Addr()
		return addr.Is6() == six && !addr.IsLoopback() && !addr.IsLinkLocalUnicast()
	})
}
