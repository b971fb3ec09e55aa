package weigh

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
)

// serviceReadings reads the host gate, and the listener and room gates from
// the side of units and processes.
func (v *view) serviceReadings(w *wants, t *try) []Reading {
	readings := v.hostReadings(w, t)
	if t.server == "" {
		return readings
	}
	t.running = v.running(t)
	w.add(Want{Look: fact.LookService, At: fact.Server, On: t.server,
		Target: fact.Target{Port: v.ask.Endpoint.Port, Scheme: t.target.Scheme}, Gate: Listener})
	if t.symptom != Fine && t.symptom != NotTried {
		w.add(Want{Look: fact.LookResources, At: fact.Server, On: t.server, Gate: Room})
	}
	f, s := v.service(t.server)
	_, list := v.listeners(t.server)
	if s == nil || list == nil {
		return readings
	}
	for _, u := range s.Needs {
		if u.Active != "active" {
			readings = append(readings, Reading{Gate: Room, Cause: "service/needs-down", Apart: true, Harmless: t.symptom == Fine, Because: factIDs(f), Vantage: t.server,
				Summary: fmt.Sprintf("the card says that it needs %s, which is %s", u.Name, strings.TrimSpace(orElse(u.Active, "not there")+" "+u.Result)),
				Values:  v.place(t, values{"unit": u.Name, "needed": u.Name, "program": v.ask.Card.Name})})
		}
	}
	p, short := v.chosen(s.Programs)
	if p == nil || len(short) > 0 && len(list.On(v.ask.Endpoint.Transport, t.target.Port)) > 0 {
		return readings // whoever holds the port may be the service
	}
	if !v.confirmed(t) {
		short = append(short, notConfirmed)
	}
	seen := servant{v: v, t: t, f: f, manager: s.Manager, p: p, u: mainUnit(p), short: short}
	if r, ok := seen.fullDisk(); ok {
		readings = append(readings, r)
	}
	if len(v.ours(t, v.taking(t))) > 0 {
		return append(readings, seen.up()...)
	}
	return append(readings, seen.down()...)
}

// running says that the endpoint's service runs, as far as that was seen: by
// who holds its port, on whatever address, or by its processes.
func (v *view) running(t *try) string {
	if _, list := v.listeners(t.server); list != nil {
		for _, l := range v.ours(t, list.On(v.ask.Endpoint.Transport, t.target.Port)) {
			if l.PID != 0 {
				return strings.TrimRight(fmt.Sprintf("%s runs (pid %d) %s", l.Program, l.PID, since(v.ask.Began, l.Since)), " ")
			}
			if l.Unit != "" {
				return l.Unit + " runs"
			}
		}
	}
	if p, _ := v.chosen(v.programsAt(t.server)); p != nil && len(p.Here()) > 0 {
		r := p.Here()[0]
		return strings.TrimRight(fmt.Sprintf("%s runs (pid %d) %s", p.Name, r.PID, since(v.ask.Began, r.Since)), " ")
	}
	return ""
}

const notConfirmed = "this host is taken for the server only because the name gives one of its loopback addresses"

// chosen is the program that stands behind the endpoint: the one that the
// card, the unit or its own settings name, else the only installed one of
// the scheme. On a port that is not the scheme's own, a guard is missing then:
// something else may be served there.
func (v *view) chosen(programs []fact.Program) (*fact.Program, []string) {
	var told, only []*fact.Program
	for i := range programs {
		p := &programs[i]
		switch {
		case v.named(p):
			return p, nil
		case p.Why != "scheme" && installed(p):
			told = append(told, p)
		case p.Path != "":
			only = append(only, p)
		}
	}
	switch {
	case len(told) > 0:
		return likeliest(told)
	case len(only) == 1 && v.scheme.Usual(v.ask.Endpoint.Port):
		return only[0], nil
	case len(only) == 1:
		return only[0], []string{only[0].Name + " is taken for the endpoint's service because it is the only one of its kind here"}
	}
	return nil, nil
}

// named reports whether the administrator said that a program serves the
// endpoint: by a card, which a record may have been made without, or by a unit.
func (v *view) named(p *fact.Program) bool {
	c := v.ask.Card
	return p.Why == "card" || p.Why == "unit" || c != nil && (c.Program != "" && path.Base(c.Program) == p.Name ||
		c.Unit != "" && slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Name == c.Unit }))
}

// likeliest is which of several programs, whose settings all name the port,
// serves it: the one that runs or, failing that, the one that should. A guard
// is missing where that does not tell.
func likeliest(told []*fact.Program) (*fact.Program, []string) {
	signs := []func(*fact.Program) bool{
		func(p *fact.Program) bool { return len(p.Here()) > 0 },
		func(p *fact.Program) bool {
			u := mainUnit(p)
			return u != nil && (u.Enabled == "enabled" || u.Active == "failed" || u.Active == "activating")
		},
	}
	left := told
	for _, sign := range signs {
		with := slices.DeleteFunc(slices.Clone(left), func(p *fact.Program) bool { return !sign(p) })
		if len(with) == 1 {
			return with[0], nil
		}
		if len(with) > 0 {
			left = with
		}
	}
	if len(told) == 1 {
		return told[0], nil
	}
	var names []string
	for _, p := range left {
		names = append(names, p.Name)
	}
	return left[0], []string{"any of " + strings.Join(names, ", ") + " could serve it"}
}

// installed reports whether a program or a unit of it is there at all.
func installed(p *fact.Program) bool {
	return p.Path != "" || len(p.Processes) > 0 || mainUnit(p) != nil
}

// mainUnit is the unit that runs a program: one that is there, a service
// before a socket, one that is up before one that is not.
func mainUnit(p *fact.Program) *fact.Unit {
	if p == nil {
		return nil
	}
	var best *fact.Unit
	rank := func(u *fact.Unit) int {
		switch {
		case u == nil || u.Load == "not-found" || u.Load == "":
			return 0
		case strings.HasSuffix(u.Name, ".socket"):
			return 1
		case u.Active == "inactive":
			return 2
		}
		return 3
	}
	for i := range p.Units {
		if u := &p.Units[i]; rank(u) > rank(best) {
			best = u
		}
	}
	return best
}

// hostReadings reads whether a machine is there at all.
func (v *view) hostReadings(w *wants, t *try) []Reading {
	if t.server != "" {
		f, a := v.addresses(t.server)
		for _, held := range a.Held {
			if r, bad := v.badAddress(t, f, held); bad {
				return []Reading{r}
			}
		}
		if r, bad := v.twice(w, t); bad {
			return []Reading{r}
		}
		return []Reading{{Gate: Host, Because: factIDs(f), Vantage: t.server, Summary: v.host(t.server) + " has this address and is up"}}
	}
	if r, bad := v.twice(w, t); bad {
		return []Reading{r}
	}
	if !t.symptom.silent() && t.symptom != UnreachableFrom {
		return nil
	}
	w.add(Want{Look: fact.LookEcho, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: Host})
	for _, f := range v.facts(v.client, fact.LookEcho) {
		if f.Echo != nil && f.Echo.Answered && f.Order.Target.Addr == t.target.Addr {
			return []Reading{{Gate: Host, Because: factIDs(f), Vantage: v.client, Summary: "something answers an echo for this address"}}
		}
	}
	return nil
}

// anotherAnswers is what a client may meet at a machine that is not the server.
var anotherAnswers = []Symptom{SilentTCP, RefusedByReset, ICMPFromTarget, ServerFirstClosed, ServerFirstSilent, ServerFirstRefused,
	ClientFirstClosed, ClientFirstSilent, OtherProtocol, SessionFailed, RefusedByCode, ErrorAnswer}

// twice reads who on the link answers for the target's address: nobody else
// may when the server itself asks, and one machine when the client does.
func (v *view) twice(w *wants, t *try) (Reading, bool) {
	if t.symptom == Fine || t.symptom == NotTried || !t.target.Addr.Is4() || v.onSame(t) {
		return Reading{}, false
	}
	w.add(Want{Look: fact.LookClaims, At: fact.Client, Target: fact.Target{Addr: t.target.Addr}, Gate: Host})
	var own []string
	if t.server != "" {
		w.add(Want{Look: fact.LookClaims, At: fact.Server, On: t.server, Gate: Host})
		if _, a := v.addresses(t.server); a != nil {
			own = a.MACs
		}
	}
	r := Reading{Gate: Host, Cause: "service/address-twice", Values: v.place(t, values{}), Shows: anotherAnswers}
	for _, at := range []string{t.server, v.client} {
		for _, f := range v.facts(at, fact.LookClaims) {
			if f.Claims == nil {
				continue
			}
			for _, c := range f.Claims.List {
				others := slices.DeleteFunc(slices.Clone(c.MACs), func(mac string) bool { return slices.Contains(own, mac) })
				if c.Addr != t.target.Addr || c.Own != (at == t.server) || len(others) == 0 || !c.Own && len(c.MACs) < 2 {
					continue
				}
				r.Because, r.Vantage = factIDs(f), at
				r.Summary = fmt.Sprintf("another machine answers for %s on the link %s of %s: %s", c.Addr, c.Dev, v.host(at), strings.Join(others, ", "))
				if own == nil {
					r.Summary = fmt.Sprintf("two machines answer for %s on the link %s of %s: %s", c.Addr, c.Dev, v.host(at), strings.Join(others, ", "))
					r.Short = []string{"one machine with two links there answers so, too"}
				}
				return r, true
			}
		}
	}
	return Reading{}, false
}

// badAddress reads an address that the server has and cannot be reached at.
func (v *view) badAddress(t *try, f *fact.Fact, held fact.Address) (Reading, bool) {
	if held.Prefix.Addr() != t.target.Addr || held.Local {
		return Reading{}, false
	}
	r := Reading{Gate: Host, Because: factIDs(f), Vantage: t.server, Values: v.place(t, values{"link": held.Link})}
	switch {
	case held.State == "duplicate":
		r.Cause = "service/address-twice"
		r.Summary = fmt.Sprintf("another machine has %s too: the kernel of %s found it taken", t.target.Addr, v.host(t.server))
	case !held.Up:
		r.Cause = "service/address-missing"
		r.Summary = fmt.Sprintf("the link %s, which has %s, is down", held.Link, t.target.Addr)
	default:
		return r, false
	}
	return r, true
}

// place adds to values where the server side is.
func (v *view) place(t *try, more values) values {
	if more["server"] == "" {
		more["server"] = v.host(t.server)
	}
	more["client"] = v.host(v.client)
	more["addr"], more["port"] = t.target.Addr.String(), fmt.Sprint(t.target.Port)
	if more["name"] == "" {
		more["name"] = t.target.Name
	}
	return more
}

// since tells how long something has been so.
func since(now, from time.Time) string {
	if from.IsZero() || now.Before(from) {
		return ""
	}
	return "for " + span(now.Sub(from))
}

// span writes a duration in its largest whole unit.
func span(d time.Duration) string {
	for _, u := range []struct {
		d    time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		if n := int(d / u.d); n > 0 {
			if n == 1 {
				return "1 " + u.name
			}
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return "a moment"
}

// serves reports whether a listener's owner is one of the endpoint's
// programs.
func serves(l fact.Listener, programs []fact.Program) bool {
	return slices.ContainsFunc(programs, func(p fact.Program) bool {
		name := path.Base(p.Name)
		return l.Program == name || strings.HasPrefix(l.Program, name+":") ||
			l.Unit != "" && slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Name == l.Unit }) ||
			slices.ContainsFunc(p.Processes, func(r fact.Process) bool { return r.PID == l.PID && l.PID != 0 })
	})
}
