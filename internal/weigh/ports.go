package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// taking is the listeners that certainly take a connection to the target.
func (v *view) taking(t *try) []fact.Listener {
	_, list := v.listeners(t.server)
	if list == nil {
		return nil
	}
	return slices.DeleteFunc(list.On(v.ask.Endpoint.Transport, t.target.Port), func(l fact.Listener) bool {
		takes, certain := l.Takes(t.target.Addr)
		return !takes || !certain
	})
}

// portReadings reads the listener and room gates from the server's own list
// of sockets.
func (v *view) portReadings(w *wants, t *try) []Reading {
	if t.server == "" {
		return nil
	}
	f, list := v.listeners(t.server)
	if list == nil {
		return nil
	}
	if taking := v.taking(t); len(taking) > 0 {
		var readings []Reading
		if r, ok := v.missingPorts(t, f, list); ok {
			readings = append(readings, r)
		}
		if ours := v.ours(t, taking); len(ours) > 0 {
			return append(readings, v.openPort(t, f, ours[0])...)
		}
		return append(readings, v.foreignPort(t, f, taking[0])...)
	}
	if symptoms[t.symptom].open.has(Listener) {
		// The connection got through to somebody: a translation or another
		// namespace leads on, as with published container ports.
		return nil
	}
	onPort := v.ours(t, list.On(v.ask.Endpoint.Transport, t.target.Port))
	for _, l := range onPort {
		if takes, _ := l.Takes(t.target.Addr); takes {
			return nil // it may take this address; nobody can say
		}
	}
	if len(onPort) > 0 {
		return []Reading{v.elsewhere(t, f, onPort)}
	}
	none := Reading{
		Gate: Listener, Cause: "ports/none-listening", Because: factIDs(f), Vantage: t.server,
		Summary: fmt.Sprintf("nothing on %s listens on port %d", v.host(t.server), t.target.Port),
		Values:  v.place(t, values{}),
	}
	if !v.confirmed(t) {
		none.Short = append(none.Short, notConfirmed)
	}
	for _, p := range v.programsAt(t.server) {
		if len(p.Processes) > len(p.Here()) {
			none.Short = append(none.Short, "a process of "+p.Name+" runs in another network namespace")
		}
	}
	if moved, ok := v.movedReading(w, t, list); ok {
		return []Reading{none, moved}
	}
	if len(list.Elsewhere) > 0 {
		l := list.Elsewhere[0]
		none.Cause = "ports/other-namespace"
		none.Summary = fmt.Sprintf("%s listens on port %d in another network namespace only, %s", owner(l), l.Port, l.Space)
		none.Values["program"], none.Values["unit"] = owner(l), l.Unit
		none.Short = nil
		if slices.ContainsFunc(list.Elsewhere, func(other fact.Listener) bool { return other.Space != l.Space }) {
			none.Short = []string{"several namespaces have such a listener"}
		}
	}
	return []Reading{none}
}

// ours leaves out listeners that are known to be somebody else's: where it is
// known which program serves the endpoint, and another one holds the socket.
func (v *view) ours(t *try, on []fact.Listener) []fact.Listener {
	p, short := v.chosen(v.programsAt(t.server))
	if p == nil || len(short) > 0 || p.Why == "holder" {
		return on // who holds a socket that several processes share is not always the same
	}
	return slices.DeleteFunc(slices.Clone(on), func(l fact.Listener) bool {
		// The service manager holds sockets for others.
		return l.Program != "" && l.PID != 1 && !slices.Contains(publishers, l.Program) && !serves(l, []fact.Program{*p})
	})
}

// missingPorts doubts an application whose card names ports that are not open.
func (v *view) missingPorts(t *try, f *fact.Fact, list *fact.Listeners) (Reading, bool) {
	if v.ask.Card == nil {
		return Reading{}, false
	}
	var missing []string
	for _, port := range v.ask.Card.Ports {
		if len(list.On(v.ask.Endpoint.Transport, port)) == 0 {
			missing = append(missing, fmt.Sprint(port))
		}
	}
	if len(missing) == 0 {
		return Reading{}, false
	}
	which := strings.Join(missing, ", ")
	return Reading{Gate: Listener, Cause: "ports/some-missing", Harmless: true, Because: factIDs(f), Vantage: t.server,
		Summary: fmt.Sprintf("of the card's %d ports, %s not open", len(v.ask.Card.Ports), pluralIs(which, len(missing))),
		Values:  v.place(t, values{"missing": "port " + which})}, true
}

func pluralIs(which string, n int) string {
	if n == 1 {
		return which + " is"
	}
	return which + " are"
}

// publishers are programs that hold a port of the host for a container behind
// them.
var publishers = []string{"docker-proxy", "rootlessport", "conmon", "slirp4netns", "pasta", "kube-proxy"}

// foreignPort reads a port that is held by somebody else. Our own try may
// have been answered: it does not ask who answers.
func (v *view) foreignPort(t *try, f *fact.Fact, l fact.Listener) []Reading {
	p, _ := v.chosen(v.programsAt(t.server))
	if t.symptom == Fine && !v.named(p) {
		return v.openPort(t, f, l)
	}
	r := Reading{
		Gate: Listener, Cause: "ports/other-owner", Apart: true, Because: factIDs(f), Vantage: t.server,
		Summary: strings.TrimSpace(fmt.Sprintf("port %d is held by %s, not by %s %s", l.Port, owner(l), p.Name, since(v.ask.Began, l.Since))),
		Values:  v.place(t, values{"program": p.Name, "other": owner(l), "other-unit": l.Unit}),
	}
	if !v.confirmed(t) {
		r.Short = append(r.Short, notConfirmed)
	}
	return []Reading{r}
}

// openPort reads a port that somebody holds.
func (v *view) openPort(t *try, f *fact.Fact, l fact.Listener) []Reading {
	readings := []Reading{{Gate: Listener, Because: factIDs(f), Vantage: t.server, Summary: v.heldBy(t, l)}}
	switch {
	case l.Full():
		readings = append(readings, Reading{
			Gate: Room, Cause: "ports/queue-full", Because: factIDs(f), Vantage: t.server,
			Shows: []Symptom{SilentTCP, ServerFirstSilent, ClientFirstSilent},
			Summary: fmt.Sprintf("%s has %s waiting to be accepted, and its queue takes %d",
				owner(l), connections(l.Queue), l.Limit+1),
			Values: v.place(t, values{"program": owner(l), "pid": nonZero(l.PID), "unit": l.Unit}),
		})
	case t.symptom == SilentTCP && v.overflowed(t) > 0:
		readings = append(readings, Reading{
			Gate: Room, Cause: "ports/queue-full", Because: append(factIDs(f), v.kernels(t)...), Vantage: t.server, Most: trail.Likely,
			Summary: fmt.Sprintf("%s turned %s away for a full queue while ours was tried", v.host(t.server), connections(uint32(v.overflowed(t)))),
			Short:   []string{"the kernel counts for all ports together, and this queue had room when it was looked at"},
			Values:  v.place(t, values{"program": owner(l), "pid": nonZero(l.PID), "unit": l.Unit}),
		})
	case l.Transport == "udp": // whether it reads what comes is seen by a second look
	case t.symptom == SilentTCP || !symptoms[t.symptom].may.has(Room):
		readings = append(readings, Reading{Gate: Room, Because: factIDs(f), Vantage: t.server,
			Summary: fmt.Sprintf("queue %d of %d", l.Queue, max(l.Limit, 1))})
	}
	return readings
}

// kernels is the two looks at the server's counters, before and after a try.
func (v *view) kernels(t *try) []string {
	var ids []string
	for _, f := range v.facts(t.server, fact.LookKernel) {
		if f.Kernel != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// overflowed is how many connections the server turned away for full queues
// while the client's was tried.
func (v *view) overflowed(t *try) uint64 {
	var before, after uint64
	seen := 0
	for _, f := range v.facts(t.server, fact.LookKernel) {
		switch {
		case f.Kernel == nil:
		case f.Order.Target.Again == 0:
			before, seen = f.Kernel.Counters["ListenOverflows"], seen|1
		default:
			after, seen = f.Kernel.Counters["ListenOverflows"], seen|2
		}
	}
	if seen != 3 || after < before {
		return 0
	}
	return after - before
}

func nonZero(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func connections(n uint32) string {
	if n == 1 {
		return "1 connection"
	}
	return fmt.Sprintf("%d connections", n)
}

// heldBy tells who holds a port and how full its queue is.
func (v *view) heldBy(t *try, l fact.Listener) string {
	by := l.Program
	if by == "" {
		by = owner(l)
	}
	text := fmt.Sprintf("%s held by %s", endpoint.HostPort(t.target.Addr.String(), t.target.Port), by)
	if l.Transport == "udp" {
		return text
	}
	return text + fmt.Sprintf(", queue %d of %d", l.Queue, max(l.Limit, 1))
}

func owner(l fact.Listener) string {
	switch {
	case l.Program != "" && l.PID != 0:
		return fmt.Sprintf("%s (pid %d)", l.Program, l.PID)
	case l.Unit != "":
		return l.Unit
	case l.User != "":
		return "a process of " + l.User
	}
	return "a process that only root can see"
}

// elsewhere reads a port that is held on other addresses only.
func (v *view) elsewhere(t *try, f *fact.Fact, onPort []fact.Listener) Reading {
	best := onPort[0]
	loopback := slices.IndexFunc(onPort, func(l fact.Listener) bool { return l.Addr.IsLoopback() })
	cause := "ports/other-address"
	if loopback >= 0 {
		best, cause = onPort[loopback], "ports/loopback-only"
	} else if sameFamily := slices.ContainsFunc(onPort, func(l fact.Listener) bool { return l.Addr.Is4() == t.target.Addr.Is4() }); !sameFamily {
		cause = "ports/family-gap"
	}
	r := Reading{
		Gate: Listener, Cause: cause, Because: factIDs(f), Vantage: t.server,
		Summary: fmt.Sprintf("%s listens on %s only; the client comes to %s", owner(best),
			endpoint.HostPort(best.Addr.String(), best.Port), t.target.Addr),
		Values: v.place(t, values{"program": owner(best), "listen": best.Addr.String(), "unit": best.Unit}),
	}
	if best.Program != "" {
		r.Values["name-of-program"] = best.Program
	}
	if !v.confirmed(t) {
		r.Short = append(r.Short, notConfirmed)
	}
	return r
}

// movable is the programs of which one that answers on another port is the
// endpoint's, and the guard that is missing for it. Many things are served by
// a web server: that one of them answers elsewhere does not make it this one.
func (v *view) movable(t *try) ([]fact.Program, []string) {
	programs := v.programsAt(t.server)
	if p, short := v.chosen(programs); p != nil && len(short) == 0 {
		return []fact.Program{*p}, nil
	}
	if len(v.scheme.Programs) == 1 {
		return programs, nil
	}
	return programs, []string{"what answers there is a server of the same kind; nothing says that it is this endpoint's"}
}

// mostPorts bounds on how many other ports of a program it is looked for.
const mostPorts = 3

// movedReading looks for the endpoint's own program on other ports. It is
// found there only if it answers there as the endpoint should.
func (v *view) movedReading(w *wants, t *try, list *fact.Listeners) (Reading, bool) {
	programs, short := v.movable(t)
	tried := 0
	for _, l := range list.All {
		takes, certain := l.Takes(t.target.Addr)
		if l.Port == t.target.Port || !takes || !certain || !serves(l, programs) || tried == mostPorts {
			continue
		}
		tried++
		there := t.target
		there.Port = l.Port
		w.add(Want{Look: fact.LookSession, At: fact.Client, Target: there, Gate: Listener})
		c, ok := v.climbs[seat{v.client, there}]
		if !ok || c.symptom(v.own()).progress() < SessionFailed.progress() || !c.expected() {
			continue
		}
		f, _ := v.listeners(t.server)
		r := Reading{
			Gate: Listener, Cause: "ports/moved", Because: append(factIDs(f), c.ids()...), Vantage: t.server, Instead: &there, Short: short,
			Summary: fmt.Sprintf("%s listens on port %d and answers there, not on %d", owner(l), l.Port, t.target.Port),
			Values: v.place(t, values{"program": owner(l), "right": fmt.Sprint(l.Port), "unit": l.Unit,
				"endpoint": fmt.Sprintf("%s://%s", t.target.Scheme, endpoint.HostPort(t.target.Name, l.Port))}),
		}
		if !v.scheme.Usual(t.target.Port) {
			r.Gate, r.Cause = Intent, "settings/wrong-port"
			r.Shows = []Symptom{RefusedByReset, SilentTCP}
			r.Summary = fmt.Sprintf("the client goes to port %d; %s answers on %d", t.target.Port, owner(l), l.Port)
		}
		if !v.confirmed(t) {
			r.Short = append(r.Short, notConfirmed)
		}
		return r, true
	}
	return Reading{}, false
}

// expected reports whether a climb found the endpoint's own protocol.
func (c climb) expected() bool {
	switch {
	case c.reply != nil:
		return c.reply.Reply.Ending == fact.Done
	case c.handshake != nil:
		return c.handshake.Handshake.Ending == fact.Done
	}
	scheme, _ := endpoint.Lookup(c.target.Scheme)
	return c.greeting != nil && c.greeting.Greeting.Ending == fact.Done && c.greeting.Greeting.Protocol == scheme.Wire
}

// onSame reports whether client and server are one host.
func (v *view) onSame(t *try) bool {
	_, own := v.addresses(v.client)
	return slices.ContainsFunc(v.set.Vantages, func(at fact.Vantage) bool {
		// Names alone say little: many hosts are called alike.
		return at.ID == t.server && (at.Implied || at.Host == v.host(v.client) && (own == nil || own.Holds(t.target.Addr)))
	})
}

// ownAddress is where the server can try its own service: the address that
// the client comes to or, failing that, one that the service has.
func (v *view) ownAddress(t *try) (netip.Addr, bool) {
	if len(v.taking(t)) > 0 {
		return t.target.Addr, true
	}
	_, list := v.listeners(t.server)
	if list == nil {
		return netip.Addr{}, false
	}
	for _, l := range v.ours(t, list.On(v.ask.Endpoint.Transport, t.target.Port)) {
		switch {
		case !l.Addr.IsUnspecified():
			return l.Addr, true
		case l.Addr.Is4():
			return netip.AddrFrom4([4]byte{127, 0, 0, 1}), true
		default:
			return netip.IPv6Loopback(), true
		}
	}
	return netip.Addr{}, false
}
