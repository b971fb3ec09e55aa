// Package service judges the rung "service": whether what should serve runs, why it does
// not, and whether it keeps up.
package service

import (
	"cmp"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// anotherAnswers is what a client may meet at a machine that is not the server.
var anotherAnswers = []gate.Symptom{
	gate.SilentTCP,
	gate.RefusedByReset,
	gate.ICMPFromTarget,
	gate.ServerFirstClosed,
	gate.ServerFirstSilent,
	gate.ServerFirstRefused,
	gate.ClientFirstClosed,
	gate.ClientFirstSilent,
	gate.OtherProtocol,
	gate.SessionFailed,
	gate.RefusedByCode,
	gate.ErrorAnswer,
}

// Readings reads the host gate, and the listener and room gates from
// the side of units and processes.
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	readings := hostReadings(v, w, t)
	if t.Server == "" {
		return readings
	}
	t.Running = running(v, t)
	w.Add(scene.Want{Look: fact.LookService, At: fact.Server, On: t.Server,
		Target: fact.Target{Port: v.Ask.Endpoint.Port, Scheme: t.Target.Scheme}, Gate: gate.Listener})
	if !t.Symptom.Good() && t.Symptom != gate.NotTried {
		w.Add(scene.Want{Look: fact.LookResources, At: fact.Server, On: t.Server, Gate: gate.Room})
	}
	f, s := v.Service(t.Server)
	_, list := v.Listeners(t.Server)
	if _, c, _ := v.PublishedAt(t); s == nil || list == nil || c != nil {
		return readings // what is in a container is told with its port
	}
	for _, u := range s.Needs {
		if u.Active != "active" {
			readings = append(
				readings,
				gate.Reading{
					Gate:     gate.Room,
					Cause:    "service/needs-down",
					Strength: gate.Read,
					Reach:    gate.Further,
					Harmless: t.Symptom.Good(),
					Because:  scene.FactIDs(f),
					Vantage:  t.Server,
					Summary: fmt.Sprintf(
						"the card says that it needs %s, which is %s",
						u.Name,
						strings.TrimSpace(cmp.Or(u.Active, "not there")+" "+u.Result),
					),
					Values: v.Place(t, catalogue.Values{"unit": u.Name, "needed": u.Name, "program": v.Ask.Card.Name}),
				},
			)
		}
	}
	if r, ok := takenReading(v, t, f, s, list); ok {
		return append(readings, r)
	}
	p, short := v.Chosen(s.Programs)
	if p == nil || len(short) > 0 && len(list.On(v.Ask.Endpoint.Transport, t.Target.Port)) > 0 {
		return readings // the holder of the port may be the service
	}
	short = append(short, scene.ByNameAlone(p, t.Target.Port)...)
	if !v.Confirmed(t) {
		short = append(short, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
	}
	seen := serving{v: v, t: t, f: f, manager: s.Manager, p: p, u: scene.MainUnit(p), short: short}
	if r, ok := seen.fullDisk(); ok {
		readings = append(readings, r)
	}
	if len(v.Ours(t, v.Taking(t))) > 0 {
		return append(readings, seen.up()...)
	}
	return append(readings, seen.down()...)
}

// takenReading reads a unit that could not start since the endpoint's port was
// taken, or that runs without it: it is the one that should hold it, whatever process
// does.
func takenReading(
	v *scene.Scene,
	t *scene.Try,
	f *fact.Fact,
	s *fact.Service,
	list *fact.Listeners,
) (gate.Reading, bool) {
	held := v.Taking(t)
	if len(held) == 0 {
		return gate.Reading{}, false
	}
	for i := range s.Programs {
		p := &s.Programs[i]
		u := scene.MainUnit(p)
		own := u != nil && (u.Name == held[0].Unit || held[0].Unit == "" && scene.Serves(held[0], []fact.Program{*p}))
		if u == nil || u.Active == "inactive" || own {
			continue
		}
		seen := serving{v: v, t: t, f: f, manager: s.Manager, p: p, u: u}
		cause, line := seen.fromLog(seen.startLines())
		if cause != "service/port-taken" || !ofPort(line, t.Target.Port) ||
			u.Active == "active" && u.Restarts == 0 && !leftNothing(p, u) && !portNamed().MatchString(line) &&
				!holdsBeside(v, t, list, p) &&
				(p.Settings == "" || !p.Written(t.Target.Port)) {
			continue
		}
		how := "does not start"
		if u.Active == "active" && !leftNothing(p, u) {
			how = "runs without it"
		}
		r := seen.reading(
			gate.Listener,
			cause,
			fmt.Sprintf("%s %s: %s holds port %d (%q)", u.Name, how, scene.Owner(held[0]), t.Target.Port, line),
		)
		r.Strength, r.Reach = gate.Logged, gate.Further
		r.Values["other"], r.Values["other-unit"] = scene.Owner(held[0]), held[0].Unit
		return r, true
	}
	return displaced(v, t, f, s, held[0])
}

// displaced reads a unit that failed without a word of why, or ended at once when it was
// started, and whose own settings name the port that somebody else holds: what answers
// there as it should is left alone.
func displaced(v *scene.Scene, t *scene.Try, f *fact.Fact, s *fact.Service, holder fact.Listener) (gate.Reading,
	bool) {
	if v.Scheme.Wire != "" && t.Symptom.Good() {
		return gate.Reading{}, false
	}
	for i := range s.Programs {
		p := &s.Programs[i]
		u := scene.MainUnit(p)
		if u == nil || p.Why != "evidence" || !p.Written(t.Target.Port) || p.Settings == "" || u.Name == holder.Unit ||
			scene.Serves(holder, []fact.Program{*p}) {
			continue
		}
		how := "fails"
		if u.Active != "failed" && u.Sub != "auto-restart" {
			how = "was started and does not run"
			// Where that port answers, one that ended may have had no more to do.
			if !endedAfter(p, u, holder) || t.Symptom.Good() && u.Active == "inactive" {
				continue
			}
		}
		seen := serving{v: v, t: t, f: f, manager: s.Manager, p: p, u: u}
		if cause, _ := seen.fromLog(seen.startLines()); cause != "" {
			continue // it says why
		}
		r := seen.reading(gate.Listener, "service/port-taken", fmt.Sprintf(
			"%s, whose settings name port %d (%s), %s, and %s holds it", u.Name, t.Target.Port, p.Settings, how,
			scene.Owner(holder),
		))
		r.Strength, r.Reach = gate.Inferred, gate.Further
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.OneMeaning, Why: u.Name + " does not say why it fails"})
		r.Values["other"], r.Values["other-unit"] = scene.Owner(holder), holder.Unit
		return r, true
	}
	return gate.Reading{}, false
}

// endedAfter reports whether a unit that is meant to stay was started when somebody else
// held its port, and ended by itself, or left nothing running. What a timer starts is meant
// to end.
func endedAfter(p *fact.Program, u *fact.Unit, holder fact.Listener) bool {
	if holder.Since.IsZero() || u.Since.IsZero() || u.Since.Before(holder.Since) || len(p.Here()) > 0 {
		return false
	}
	if leftNothing(p, u) {
		return true
	}
	timed := func(name string) bool { return strings.HasSuffix(name, ".timer") }
	if u.Enabled != "enabled" || slices.ContainsFunc(u.Sockets, timed) {
		return false
	}
	for _, l := range slices.Backward(u.Log) {
		switch {
		case strings.HasPrefix(l.Text, "Stopping "): // somebody stopped it
			return false
		case strings.HasPrefix(l.Text, "Starting "), strings.HasPrefix(l.Text, "Started "):
			return u.Active == "inactive" && l.At.After(holder.Since)
		}
	}
	return false
}

// leftNothing reports whether a unit counts as active though its start left nothing
// running, as those of old start scripts do.
func leftNothing(p *fact.Program, u *fact.Unit) bool {
	done := func(l fact.LogLine) bool { return strings.HasPrefix(l.Text, "Finished ") } // it had no more to do
	return u.Active == "active" && u.Sub == "exited" && len(p.Here()) == 0 && !slices.ContainsFunc(u.Log, done)
}

// holdsBeside reports whether a program holds the port of a try on another
// address: then a port that it found taken may be this one.
func holdsBeside(v *scene.Scene, t *scene.Try, list *fact.Listeners, p *fact.Program) bool {
	return slices.ContainsFunc(
		list.On(v.Ask.Endpoint.Transport, t.Target.Port),
		func(l fact.Listener) bool { return scene.Serves(l, []fact.Program{*p}) },
	)
}

// ofPort reports whether a line about a port that is taken is about this one,
// as far as it names any.
func ofPort(line string, port uint16) bool {
	named := portNamed().FindAllStringSubmatch(line, -1)
	return len(named) == 0 || slices.ContainsFunc(named, func(m []string) bool { return m[1] == fmt.Sprint(port) })
}

// portNamed is how programs write a port.
var portNamed = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)(?:\d{1,3}(?:\.\d{1,3}){3}:|\]:|\*:|::|(?:tcp|udp)[46]? :|port[ :=#"]+)(\d{1,5})\b`)
})

// running says that the endpoint's service runs, as far as that was seen: by
// who holds its port, on whatever address, or by its processes.
func running(v *scene.Scene, t *scene.Try) string {
	if _, c, _ := v.PublishedAt(t); c != nil {
		if c.State != "running" {
			return ""
		}
		return strings.TrimRight(
			fmt.Sprintf("container %s is running (%s)%s", c.Called(), c.Engine, foreign.Up(v.Ask.Began, c.Started)),
			" ",
		)
	}
	if _, list := v.Listeners(t.Server); list != nil {
		for _, l := range v.Ours(t, list.On(v.Ask.Endpoint.Transport, t.Target.Port)) {
			if l.PID != 0 {
				return strings.TrimRight(
					fmt.Sprintf("%s is running (pid %d)%s", l.Program, l.PID, foreign.Up(v.Ask.Began, l.Since)),
					" ",
				)
			}
			if l.Unit != "" {
				return l.Unit + " runs"
			}
		}
	}
	if p, _ := v.Chosen(v.ProgramsAt(t.Server)); p != nil && len(p.Here()) > 0 {
		r := p.Here()[0]
		return strings.TrimRight(
			fmt.Sprintf("%s is running (pid %d)%s", p.Name, r.PID, foreign.Up(v.Ask.Began, r.Since)),
			" ",
		)
	}
	return ""
}

// hostReadings reads whether a machine is there at all.
func hostReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if t.Server != "" {
		f, a := v.Addresses(t.Server)
		for _, held := range a.Held {
			if r, bad := badAddress(v, t, f, held); bad {
				return []gate.Reading{r}
			}
		}
		if r, bad := twice(v, w, t); bad {
			return []gate.Reading{r}
		}
		return []gate.Reading{
			{
				Gate:     gate.Host,
				Strength: gate.Read,
				Because:  scene.FactIDs(f),
				Vantage:  t.Server,
				Summary:  v.Host(t.Server) + " has this address and is up",
			},
		}
	}
	if r, bad := twice(v, w, t); bad {
		return []gate.Reading{r}
	}
	if r, bad := noAddress(v, t); bad {
		return []gate.Reading{r}
	}
	if !t.Symptom.Silent() && t.Symptom != gate.UnreachableFrom {
		return nil
	}
	if r, ok := fromLink(v, w, t); ok {
		return []gate.Reading{r}
	}
	w.Add(scene.Want{Look: fact.LookEcho, At: fact.Client, Target: fact.Target{Addr: t.Target.Addr}, Gate: gate.Host})
	for _, f := range v.Facts(v.Client, fact.LookEcho) {
		if f.Echo != nil && f.Echo.Answered && f.Order.Target.Addr == t.Target.Addr {
			return []gate.Reading{
				{
					Gate:     gate.Host,
					Strength: gate.Read,
					Because:  scene.FactIDs(f),
					Vantage:  v.Client,
					Summary:  "something answers an echo for this address",
				},
			}
		}
	}
	return nil
}

// fromLink reads a gateway on the server's own link that asked for the server
// itself, and heard nobody: the way there is open, and what should be at its
// end is not.
func fromLink(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Gateway {
			continue
		}
		w.Add(scene.Want{Look: fact.LookSession, At: fact.Gateway, On: at.ID, Target: t.Target, Gate: gate.Way})
		_, held := v.Addresses(at.ID)
		c, tried := v.ClimbAt(at.ID, t.Target)
		if held == nil || !tried {
			continue
		}
		var own []netip.Addr
		for _, h := range held.Held {
			own = append(own, h.Prefix.Addr())
		}
		if c.Symptom(own) == gate.NeighbourSilent {
			return gate.Reading{Gate: gate.Way, Strength: gate.Inferred, Because: c.IDs(), Vantage: at.ID,
				Summary: fmt.Sprintf(
					"%s, on the link of %s, asks for it itself and hears nobody",
					at.Host,
					t.Target.Addr,
				)}, true
		}
	}
	return gate.Reading{}, false
}

// twice reads who on the link answers for the target's address: nobody else
// may when the server itself asks, and one machine when the client does.
func twice(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if t.Symptom.Good() || t.Symptom == gate.NotTried || !t.Target.Addr.Is4() || v.OnSame(t) {
		return gate.Reading{}, false
	}
	w.Add(scene.Want{Look: fact.LookClaims, At: fact.Client, Target: fact.Target{Addr: t.Target.Addr},
		Gate: gate.Host})
	var own []string
	if t.Server != "" {
		w.Add(scene.Want{Look: fact.LookClaims, At: fact.Server, On: t.Server, Gate: gate.Host})
		if _, a := v.Addresses(t.Server); a != nil {
			own = a.MACs
		}
	}
	r := gate.Reading{
		Gate:     gate.Host,
		Cause:    "service/address-twice",
		Strength: gate.Read,
		Values:   v.Place(t, catalogue.Values{}),
		Shows:    anotherAnswers,
	}
	for _, at := range []string{t.Server, v.Client} {
		for _, f := range v.Facts(at, fact.LookClaims) {
			if f.Claims == nil {
				continue
			}
			for _, c := range f.Claims.List {
				others := slices.DeleteFunc(
					slices.Clone(c.MACs),
					func(mac string) bool { return slices.Contains(own, mac) },
				)
				if c.Addr != t.Target.Addr || c.Own != (at == t.Server) || len(others) == 0 ||
					!c.Own && len(c.MACs) < 2 {
					continue
				}
				r.Because, r.Vantage = scene.FactIDs(f), at
				r.Summary = fmt.Sprintf(
					"another machine answers for %s on the link %s of %s: %s",
					c.Addr,
					c.Dev,
					v.Host(at),
					strings.Join(others, ", "),
				)
				if own == nil {
					r.Summary = fmt.Sprintf(
						"two machines answer for %s on the link %s of %s: %s",
						c.Addr,
						c.Dev,
						v.Host(at),
						strings.Join(others, ", "),
					)
					r.Lacks = []gate.Lack{
						{Guard: gate.OneMeaning, Why: "one machine with two links there answers so, too"},
					}
				}
				return r, true
			}
		}
	}
	return gate.Reading{}, false
}

// noAddress reads a server that has no address at all on any link: then the one that was
// tried is no old one of it.
func noAddress(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	if t.Symptom.Good() || t.Symptom == gate.NotTried || t.Target.Addr.IsLoopback() {
		return gate.Reading{}, false
	}
	var found *fact.Fact
	server := ""
	for _, at := range v.Set.Vantages {
		if at.Role != fact.Server || at.Implied {
			continue
		}
		f, a := v.Addresses(at.ID)
		if a == nil || found != nil || slices.ContainsFunc(a.Held, func(held fact.Address) bool {
			addr := held.Prefix.Addr()
			return !held.Local && addr.IsGlobalUnicast()
		}) {
			return gate.Reading{}, false // which of several it should be is not known
		}
		found, server = f, at.ID
	}
	if found == nil {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate: gate.Host, Cause: "service/address-missing",
		Strength: gate.Read, Because: append(scene.FactIDs(found), t.Climb.IDs()...),
		Vantage: server,
		Summary: fmt.Sprintf("%s has no address on any link: %s is gone", v.Host(server), t.Target.Addr),
		Values:  catalogue.Values{"server": v.Host(server), "addr": t.Target.Addr.String()},
	}, true
}

// badAddress reads an address that the server has and cannot be reached at.
func badAddress(v *scene.Scene, t *scene.Try, f *fact.Fact, held fact.Address) (gate.Reading, bool) {
	if held.Prefix.Addr() != t.Target.Addr || held.Local {
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate:     gate.Host,
		Strength: gate.Read,
		Because:  scene.FactIDs(f),
		Vantage:  t.Server,
		Values:   v.Place(t, catalogue.Values{"link": held.Link}),
	}
	switch {
	case held.State == "duplicate":
		r.Cause = "service/address-twice"
		r.Summary = fmt.Sprintf(
			"another machine has %s too: the kernel of %s found it taken",
			t.Target.Addr,
			v.Host(t.Server),
		)
	case !held.Up:
		r.Cause = "service/address-missing"
		r.Summary = fmt.Sprintf("the link %s, which has %s, is down", held.Link, t.Target.Addr)
	default:
		return r, false
	}
	return r, true
}
