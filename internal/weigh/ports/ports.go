// Package ports judges the rung "ports": what listens where, also within containers and
// behind port mappers.
package ports

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// mostPorts bounds on how many other ports of a program it is looked for.
const mostPorts = 3

// Readings reads the listener and room gates from the server's own list
// of sockets.
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	rest := cardPorts(v, w, t)
	if t.Server == "" {
		return rest
	}
	f, list := v.Listeners(t.Server)
	if list == nil {
		return rest
	}
	if readings, ok := containerReadings(v, w, t, f, list); ok {
		return readings
	}
	if taking := v.Taking(t); len(taking) > 0 {
		readings := rest
		if ours := v.Ours(t, taking); len(ours) > 0 {
			return append(readings, openPort(v, t, f, ours[0])...)
		}
		return append(readings, foreignPort(v, t, f, taking[0])...)
	}
	if gate.Symptoms[t.Symptom].Open.Has(gate.Listener) {
		// The connection got through to somebody: a translation or another
		// namespace leads on, as with published container ports.
		return nil
	}
	onPort := v.Ours(t, list.On(v.Ask.Endpoint.Transport, t.Target.Port))
	for _, l := range onPort {
		if takes, _ := l.Takes(t.Target.Addr); takes {
			return nil // it may take this address; nobody can say
		}
	}
	if len(onPort) > 0 {
		return []gate.Reading{elsewhere(v, t, f, onPort)}
	}
	none := gate.Reading{
		Gate: gate.Listener, Cause: "ports/none-listening",
		Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
		Summary: fmt.Sprintf("nothing on %s listens on port %d", v.Host(t.Server), t.Target.Port),
		Values:  v.Place(t, catalogue.Values{}),
	}
	if words, by := v.Policy(t.Server, func(p protocol.Policy) bool { return p.Shuts }); by != nil {
		none.Summary += ": " + words
		none.Because = gate.Union(none.Because, scene.FactIDs(by))
	}
	if !v.Confirmed(t) {
		none.Lacks = append(none.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
	}
	for _, p := range v.ProgramsAt(t.Server) {
		if len(p.Processes) > len(p.Here()) {
			none.Lacks = append(
				none.Lacks,
				gate.Lack{
					Guard: gate.SameProcess,
					Why:   "a process of " + p.Name + " runs in another network namespace",
				},
			)
		}
	}
	if moved, ok := movedReading(v, w, t, list); ok {
		return []gate.Reading{none, moved}
	}
	if l, lacks, ok := inOtherSpace(v, t, list.Elsewhere); ok {
		none.Cause = "ports/other-namespace"
		none.Summary = fmt.Sprintf(
			"%s listens on port %d in another network namespace only, %s",
			scene.Owner(l),
			l.Port,
			l.Space,
		)
		none.Values["program"], none.Values["unit"] = scene.Owner(l), l.Unit
		none.Lacks = lacks
	}
	return []gate.Reading{none}
}

// inOtherSpace is the listener of another network namespace that may be the
// endpoint's own, and what is missing for it: many run programs of their own
// behind one and the same port number. One of another program than the endpoint's
// is somebody else's.
func inOtherSpace(v *scene.Scene, t *scene.Try, elsewhere []fact.Listener) (fact.Listener, []gate.Lack, bool) {
	programs := v.ProgramsAt(t.Server)
	own, _ := v.Chosen(programs)
	if own != nil {
		programs = []fact.Program{*own}
		elsewhere = slices.DeleteFunc(slices.Clone(elsewhere),
			func(l fact.Listener) bool { return !scene.Serves(l, programs) })
	}
	if len(elsewhere) == 0 {
		return fact.Listener{}, nil, false
	}
	l := elsewhere[0]
	var lacks []gate.Lack
	if slices.ContainsFunc(elsewhere, func(other fact.Listener) bool { return other.Space != l.Space }) {
		lacks = append(lacks, gate.Lack{Guard: gate.AllRead, Why: "several namespaces have such a listener"})
	}
	if !scene.Serves(l, programs) {
		lacks = append(lacks, gate.Lack{Guard: gate.SameProcess, Why: "nothing says that it is this endpoint's"})
	}
	return l, lacks, true
}

// foreignPort reads a port that is held by somebody else. Our own try may
// have been answered: it does not ask who answers.
func foreignPort(v *scene.Scene, t *scene.Try, f *fact.Fact, l fact.Listener) []gate.Reading {
	p, _ := v.Chosen(v.ProgramsAt(t.Server))
	if t.Symptom.Good() && !v.Named(p) {
		return openPort(v, t, f, l)
	}
	r := gate.Reading{
		Gate: gate.Listener, Cause: "ports/other-owner",
		Strength: gate.Read, Reach: gate.Further, Because: scene.FactIDs(f),
		Vantage: t.Server,
		Summary: strings.TrimSpace(
			fmt.Sprintf(
				"port %d is held by %s, not by %s %s",
				l.Port,
				scene.Owner(l),
				p.Name,
				foreign.Since(v.Ask.Began, l.Since),
			),
		),
		Values: v.Place(t, catalogue.Values{"program": p.Name, "other": scene.Owner(l), "other-unit": l.Unit}),
	}
	if !v.Confirmed(t) {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
	}
	return []gate.Reading{r}
}

// openPort reads a port that somebody holds.
func openPort(v *scene.Scene, t *scene.Try, f *fact.Fact, l fact.Listener) []gate.Reading {
	readings := []gate.Reading{
		{Gate: gate.Listener,
			Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server, Summary: heldBy(v, t, l)},
	}
	switch {
	case l.Full():
		readings = append(readings, gate.Reading{
			Gate: gate.Room, Cause: "ports/queue-full",
			Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
			Shows: []gate.Symptom{gate.SilentTCP, gate.ServerFirstSilent, gate.ClientFirstSilent},
			Summary: fmt.Sprintf("%s has %s waiting to be accepted, and its queue takes %d",
				scene.Owner(l), foreign.Connections(l.Queue), l.Limit+1),
			Values: v.Place(
				t,
				catalogue.Values{"program": scene.Owner(l), "pid": foreign.NonZero(l.PID), "unit": l.Unit},
			),
		})
	case t.Symptom == gate.SilentTCP && overflowed(v, t) > 0:
		readings = append(readings, gate.Reading{
			Gate: gate.Room, Cause: "ports/queue-full", Because: append(scene.FactIDs(f), kernels(v, t)...),
			Vantage: t.Server, Strength: gate.Inferred,
			Summary: fmt.Sprintf(
				"%s turned %s away for a full queue while ours was tried",
				v.Host(t.Server),
				foreign.Connections(uint32(overflowed(v, t))),
			),
			Lacks: []gate.Lack{
				{
					Guard: gate.OneMeaning,
					Why:   "the kernel counts for all ports together, and this queue had room when it was looked at",
				},
			},
			Values: v.Place(
				t,
				catalogue.Values{"program": scene.Owner(l), "pid": foreign.NonZero(l.PID), "unit": l.Unit},
			),
		})
	case l.Unqueued: // its system does not tell
	case l.Transport == "udp": // whether it reads what comes is seen by a second look
	case t.Symptom == gate.SilentTCP || !gate.Symptoms[t.Symptom].May.Has(gate.Room):
		readings = append(readings, gate.Reading{Gate: gate.Room,
			Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
			Summary: fmt.Sprintf("queue %d of %d", l.Queue, max(l.Limit, 1))})
	}
	return readings
}

// kernels is the two looks at the server's counters, before and after a try.
func kernels(v *scene.Scene, t *scene.Try) []string {
	var ids []string
	for _, f := range v.Facts(t.Server, fact.LookKernel) {
		if f.Kernel != nil {
			ids = append(ids, f.ID)
		}
	}
	return ids
}

// overflowed is how many connections the server turned away for full queues
// while the client's was tried.
func overflowed(v *scene.Scene, t *scene.Try) uint64 {
	var before, after uint64
	seen := 0
	for _, f := range v.Facts(t.Server, fact.LookKernel) {
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

// heldBy tells who holds a port and how full its queue is.
func heldBy(v *scene.Scene, t *scene.Try, l fact.Listener) string {
	by := l.Program
	if by == "" {
		by = scene.Owner(l)
	}
	text := fmt.Sprintf("%s held by %s", endpoint.HostPort(t.Target.Addr.String(), t.Target.Port), by)
	if l.Transport == "udp" || l.Unqueued {
		return text
	}
	return text + fmt.Sprintf(", queue %d of %d", l.Queue, max(l.Limit, 1))
}

// elsewhere reads a port that is held on other addresses only.
func elsewhere(v *scene.Scene, t *scene.Try, f *fact.Fact, onPort []fact.Listener) gate.Reading {
	best := onPort[0]
	loopback := slices.IndexFunc(onPort, func(l fact.Listener) bool { return l.Addr.IsLoopback() })
	cause := "ports/other-address"
	if loopback >= 0 {
		best, cause = onPort[loopback], "ports/loopback-only"
	} else if sameFamily := slices.ContainsFunc(onPort,
		func(l fact.Listener) bool { return l.Addr.Is4() == t.Target.Addr.Is4() }); !sameFamily {
		cause = "ports/family-gap"
	}
	r := gate.Reading{
		Gate: gate.Listener, Cause: cause, Strength: gate.Read, Because: scene.FactIDs(f), Vantage: t.Server,
		Summary: fmt.Sprintf("%s listens on %s only; the client comes to %s", scene.Owner(best),
			endpoint.HostPort(best.Addr.String(), best.Port), t.Target.Addr),
		Values: v.Place(
			t,
			catalogue.Values{"program": scene.Owner(best), "listen": best.Addr.String(), "unit": best.Unit},
		),
	}
	if best.Program != "" {
		r.Values["name-of-program"] = best.Program
	}
	if !v.Confirmed(t) {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
	}
	return r
}

// movable is the programs of which one that answers on another port is the
// endpoint's, and the guard that is missing for it. Many things are served by
// a web server: that one of them answers elsewhere does not make it this one.
func movable(v *scene.Scene, t *scene.Try) ([]fact.Program, []gate.Lack) {
	programs := v.ProgramsAt(t.Server)
	if p, short := v.Chosen(programs); p != nil && len(short) == 0 {
		return []fact.Program{*p}, scene.ByNameAlone(p, t.Target.Port)
	}
	if v.Scheme.Wire != "" && !v.Protocol.Web {
		return programs, nil
	}
	return programs, []gate.Lack{
		{
			Guard: gate.SameProcess,
			Why:   "what answers there is a server of the same kind; nothing says that it is this endpoint's",
		},
	}
}

// movedReading looks for the endpoint's own program on other ports. It is
// found there only if it answers there as the endpoint should.
func movedReading(v *scene.Scene, w *scene.Wants, t *scene.Try, list *fact.Listeners) (gate.Reading, bool) {
	if v.Ask.Card != nil && slices.Contains(v.Ask.Card.Ports, t.Target.Port) {
		return gate.Reading{}, false // the card says that this port is right
	}
	programs, short := movable(v, t)
	// One whose settings name this port did not move, whatever else it holds.
	programs = slices.DeleteFunc(slices.Clone(programs), func(p fact.Program) bool {
		return p.Why == "evidence" && p.Settings != "" && p.Written(t.Target.Port)
	})
	tried := 0
	for _, l := range list.All {
		takes, certain := l.Takes(t.Target.Addr)
		if l.Port == t.Target.Port || !takes || !certain || !scene.Serves(l, programs) || tried == mostPorts {
			continue
		}
		tried++
		there := t.Target
		there.Port = l.Port
		w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: there, Gate: gate.Listener})
		c, ok := v.ClimbAt(v.Client, there)
		bare := v.Scheme.Wire == ""
		if !ok || c.Symptom(v.Own()).Progress() < gate.SessionFailed.Progress() || !c.Expected() && !bare {
			continue
		}
		if bare {
			short = []gate.Lack{{Guard: gate.SameProcess, Why: "a bare connection does not say what answers there"}}
		}
		f, _ := v.Listeners(t.Server)
		r := gate.Reading{
			Gate: gate.Listener, Cause: "ports/moved",
			Strength: gate.Read, Because: append(scene.FactIDs(f), c.IDs()...),
			Vantage: t.Server, Instead: &there, Lacks: short,
			Summary: fmt.Sprintf(
				"%s listens on port %d and answers there, not on %d",
				scene.Owner(l),
				l.Port,
				t.Target.Port,
			),
			Values: v.Place(t, catalogue.Values{"program": scene.Owner(l), "right": fmt.Sprint(l.Port), "unit": l.Unit,
				"endpoint": fmt.Sprintf("%s://%s", t.Target.Scheme, endpoint.HostPort(t.Target.Name, l.Port))}),
		}
		if !v.Scheme.Usual(t.Target.Port) {
			r.Gate, r.Cause = gate.Intent, "settings/wrong-port"
			r.Shows = []gate.Symptom{gate.RefusedByReset, gate.SilentTCP}
			r.Summary = fmt.Sprintf(
				"the client goes to port %d; %s answers on %d",
				t.Target.Port,
				scene.Owner(l),
				l.Port,
			)
		}
		if !v.Confirmed(t) {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
		}
		return r, true
	}
	return gate.Reading{}, false
}

// OwnAddress is where the server can try its own service: the address that
// the client comes to or, failing that, one that the service has.
func OwnAddress(v *scene.Scene, t *scene.Try) (netip.Addr, bool) {
	if len(v.Taking(t)) > 0 {
		return t.Target.Addr, true
	}
	_, list := v.Listeners(t.Server)
	if list == nil {
		return netip.Addr{}, false
	}
	for _, l := range v.Ours(t, list.On(v.Ask.Endpoint.Transport, t.Target.Port)) {
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
