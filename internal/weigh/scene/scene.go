package scene

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/protocol"
)

// Scene is a set of facts, arranged for asking.
type Scene struct {
	Set    fact.Set
	Ask    fact.Ask
	Scheme protocol.Scheme
	// Protocol is what is known of what the endpoint speaks.
	Protocol *protocol.Protocol
	// Programs is the server programs that are known.
	Programs *program.Registry
	Client   string // the client's vantage
	// All is every fact, in the order in which they were seen.
	All []*fact.Fact
	// index has the facts by where and by which look they were seen.
	index map[place][]*fact.Fact
	// climbs has every session by where it was looked from and at what.
	climbs map[Seat]Climb
	// led says of names that a service record led to, how.
	Led map[string]string
}

type place struct {
	vantage string
	look    fact.Kind
}

// Seat is where a session was made from, and at what.
type Seat struct {
	vantage string
	target  fact.Target
}

// everyHosts is the addresses that every host has for itself.
var everyHosts = map[netip.Addr]bool{netip.AddrFrom4([4]byte{127, 0, 0, 1}): true, netip.IPv6Loopback(): true}

// New arranges a set.
func New(set fact.Set) *Scene {
	v := &Scene{
		Set:    set,
		Ask:    set.Ask,
		All:    inTime(set.Facts),
		index:  map[place][]*fact.Fact{},
		climbs: map[Seat]Climb{},
		Led:    map[string]string{},
	}
	v.Scheme, _ = protocol.Lookup(set.Ask.Endpoint.Scheme)
	if v.Protocol = protocol.Of(v.Scheme.Wire); v.Protocol.Shared && !set.Ask.Shared {
		v.Scheme.Wire, v.Protocol = "", protocol.Of("") // nothing can be asked in it
	}
	if own, err := program.With(set.Ask.Programs); err == nil {
		v.Programs = own
	} else {
		v.Programs = program.Known() // facts that somebody wrote by hand
	}
	for _, at := range set.Vantages {
		if at.Role == fact.Client && v.Client == "" {
			v.Client = at.ID
		}
	}
	for _, f := range v.All {
		at := place{f.Vantage, f.Order.Look}
		v.index[at] = append(v.index[at], f)
		if f.Order.Look != fact.LookSession {
			continue
		}
		s := Seat{f.Vantage, f.Order.Target}
		c := v.climbs[s]
		c.Target = f.Order.Target
		c.take(f)
		v.climbs[s] = c
	}
	return v
}

// ClimbAt is the session that was made from a vantage at a target, if one was.
func (v *Scene) ClimbAt(vantage string, target fact.Target) (Climb, bool) {
	c, ok := v.climbs[Seat{vantage, target}]
	return c, ok
}

// ConnectedFrom is every address and port that a vantage connected to.
func (v *Scene) ConnectedFrom(vantage string) []netip.AddrPort {
	var list []netip.AddrPort
	for _, f := range v.Facts(vantage, fact.LookSession) {
		at := netip.AddrPortFrom(f.Order.Target.Addr, f.Order.Target.Port)
		if f.Connect != nil && f.Connect.Outcome == fact.Connected && !slices.Contains(list, at) {
			list = append(list, at)
		}
	}
	return list
}

// inTime is facts in the order in which they were seen. In which order they
// came in says nothing.
func inTime(facts []fact.Fact) []*fact.Fact {
	list := make([]*fact.Fact, len(facts))
	for i := range facts {
		list[i] = &facts[i]
	}
	slices.SortStableFunc(list, func(a, b *fact.Fact) int {
		if c := a.At.Compare(b.At); c != 0 {
			return c
		}
		return cmp.Or(cmp.Compare(len(a.ID), len(b.ID)), strings.Compare(a.ID, b.ID)) // e9 before e10
	})
	return list
}

// Facts is the facts that one look left at one vantage, whatever its target.
func (v *Scene) Facts(vantage string, look fact.Kind) []*fact.Fact {
	return v.index[place{vantage, look}]
}

func (c *Climb) take(f *fact.Fact) {
	switch {
	case f.Connect != nil:
		c.Connect = f
	case f.Greeting != nil:
		c.Greeting = f
	case f.Upgrade != nil:
		c.Upgrade = f
	case f.Handshake != nil:
		c.Handshake = f
	case f.Trust != nil && f.Trust.Beside:
		c.Beside = f
	case f.Trust != nil:
		c.Trust = f
	case f.HostKey != nil:
		c.HostKey = f
	case f.Reply != nil:
		c.Reply = f
	}
}

// Addresses is what a vantage says its own addresses are; nil if it was not
// asked yet or could not say.
func (v *Scene) Addresses(vantage string) (*fact.Fact, *fact.Addresses) {
	for _, f := range v.Facts(vantage, fact.LookAddresses) {
		if f.Addresses != nil {
			return f, f.Addresses
		}
	}
	return nil, nil
}

// Listeners is the first look at who listens, which was taken at the time of
// the client's try.
func (v *Scene) Listeners(vantage string) (*fact.Fact, *fact.Listeners) {
	for _, f := range v.Facts(vantage, fact.LookListeners) {
		if f.Listeners != nil && f.Order.Target.Again == 0 {
			return f, f.Listeners
		}
	}
	return nil, nil
}

// ListenersLater is who holds the target's port by the second look, which was
// taken while the client waited; nil if there was none.
func (v *Scene) ListenersLater(t *Try) []fact.Listener { return v.listenersAt(t, 1) }

// Queued is the target's socket with connections or datagrams in its queue.
type Queued struct {
	fact.Listener
	Waits   bool // by the second look
	Lasting bool // a third, a moment later, saw none of them taken
	Twice   bool // there was a third look
}

// Unread is what waits in the queue of the target's socket while a client waits. Between one
// connection or datagram and the next a program may do other things.
func (v *Scene) Unread(t *Try) Queued {
	at := func(again int) (fact.Listener, bool) {
		for _, l := range v.listenersAt(t, again) {
			if takes, certain := l.Takes(t.Target.Addr); takes && certain && l.Queue > 0 {
				return l, true
			}
		}
		return fact.Listener{}, false
	}
	l, waits := at(1)
	after, still := at(2)
	return Queued{l, waits, waits && still && after.Queue >= l.Queue, v.listenersAt(t, 2) != nil}
}

func (v *Scene) listenersAt(t *Try, again int) []fact.Listener {
	var last []fact.Listener
	for _, f := range v.Facts(t.Server, fact.LookListeners) {
		if f.Listeners != nil && f.Order.Target.Again == again {
			last = append([]fact.Listener{}, f.Listeners.On(v.Ask.Endpoint.Transport, t.Target.Port)...)
		}
	}
	return last
}

func (v *Scene) Service(vantage string) (*fact.Fact, *fact.Service) {
	for _, f := range v.Facts(vantage, fact.LookService) {
		if f.Service != nil {
			return f, f.Service
		}
	}
	return nil, nil
}

// Failed is the first thing that a look at a vantage could not see.
func (v *Scene) Failed(vantage string, look fact.Kind) *fact.Fact {
	for _, f := range v.Facts(vantage, look) {
		if f.Failed != nil {
			return f
		}
	}
	return nil
}

// Missing reports whether a vantage was asked for and saw nothing at all.
func (v *Scene) Missing(vantage string) bool {
	cut := false
	for _, f := range v.Set.Facts {
		switch {
		case f.Vantage != vantage:
		case f.Failed == nil:
			return false
		case f.Failed.CutOff:
			cut = true
		}
	}
	return cut
}

// SoleAddress is the client's only address of a family, where the route was
// not asked for.
func (v *Scene) SoleAddress(to netip.Addr) netip.Addr {
	var found netip.Addr
	for _, addr := range v.Own() {
		if addr.IsLoopback() != to.IsLoopback() || addr.Is6() != to.Is6() || addr.IsLinkLocalUnicast() {
			continue
		}
		if found.IsValid() {
			return netip.Addr{}
		}
		found = addr
	}
	return found
}

// SourceOf is the client's own address towards a target: as it was seen, or the only one that
// there is.
func (v *Scene) SourceOf(t *Try) netip.Addr {
	if source := v.LocalAddress(t); source.IsValid() {
		return source
	}
	return v.SoleAddress(t.Target.Addr)
}

// Own is the client's own addresses, as far as they were seen.
func (v *Scene) Own() []netip.Addr {
	var list []netip.Addr
	if _, a := v.Addresses(v.Client); a != nil {
		for _, held := range a.Held {
			list = append(list, held.Prefix.Addr())
		}
	}
	return list
}

// ServerOf is the vantage that is the server of an address: the one that
// holds it. No vantage counts as the server for being called so.
func (v *Scene) ServerOf(addr netip.Addr) string {
	holder := ""
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Server {
			continue
		}
		if _, a := v.Addresses(at.ID); a == nil || !a.Holds(addr) {
			continue
		}
		if (everyHosts[addr.Unmap()] && !at.Implied || addr.IsLoopback() && !v.clientHere()) &&
			at.Host != v.Host(v.Client) {
			continue // the client comes to itself there, not to the server
		}
		if !at.Implied {
			return at.ID // the administrator said that it is the server
		}
		holder = at.ID
	}
	if holder == "" && !addr.IsLoopback() {
		return v.frontOf(addr)
	}
	return holder
}

// clientHere reports whether the client is the host that the program ran on.
func (v *Scene) clientHere() bool {
	means := v.Vantage(v.Client).Means
	return means == fact.Here || means == ""
}

// frontOf is a gateway that was given, holds the address that clients come to,
// and takes connections on the port, or has a program that should: what stands
// behind it is its own next leg.
func (v *Scene) frontOf(addr netip.Addr) string {
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Gateway {
			continue
		}
		_, a := v.Addresses(at.ID)
		if a == nil || !a.Holds(addr) {
			continue
		}
		_, list := v.Listeners(at.ID)
		if list != nil && len(list.On(v.Ask.Endpoint.Transport, v.Ask.Endpoint.Port)) > 0 ||
			v.MeantFor(at.ID, v.Ask.Endpoint.Port) {
			return at.ID
		}
	}
	return ""
}

// Host is the name of a vantage's host.
func (v *Scene) Host(vantage string) string { return v.Vantage(vantage).Host }

// MeantFor reports whether a host has a program for a port that somebody wants to run.
func (v *Scene) MeantFor(vantage string, port uint16) bool {
	return slices.ContainsFunc(v.ProgramsAt(vantage), func(p fact.Program) bool {
		return slices.Contains(p.Ports, port) && (len(p.Here()) > 0 || slices.ContainsFunc(p.Units, fact.Unit.Wanted))
	})
}

// ProgramsAt is the programs that could stand behind the endpoint on a
// vantage.
func (v *Scene) ProgramsAt(vantage string) []fact.Program {
	if _, s := v.Service(vantage); s != nil {
		return s.Programs
	}
	return nil
}

// ownName reports whether a name is one a host gives to itself, so that a
// loopback address for it is right.
func ownName(name, host string) bool {
	name, host = strings.ToLower(strings.TrimSuffix(name, ".")), strings.ToLower(host)
	first, _, _ := strings.Cut(name, ".")
	return name == "localhost" || strings.HasSuffix(name, ".localhost") || host != "" &&
		(name == host || first == host)
}

// HasFamily reports whether the client has an address of a family beyond
// loopback and the link; true where its addresses were not seen.
func (v *Scene) HasFamily(six bool) bool {
	_, a := v.Addresses(v.Client)
	if a == nil {
		return true
	}
	return slices.ContainsFunc(a.Held, func(h fact.Address) bool {
		addr := h.Prefix.Addr()
		return addr.Is6() == six && !addr.IsLoopback() && !addr.IsLinkLocalUnicast()
	})
}
