package weigh

import (
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// mostFixes bounds how many fixes are rehearsed, one after the other.
const mostFixes = 8

// Rehearse tries the fixes of what a set shows, on its facts alone: one by one, in the order
// in which they must be made, with a judgement after each. Nothing is looked at and nothing
// is changed. What only a new look can show is told as not seen.
func Rehearse(set fact.Set) trail.Rehearsal {
	r := trail.Rehearsal{Format: trail.RehearsalFormat, Endpoint: set.Ask.Endpoint.Input, Steps: []trail.Rehearsed{}}
	now, tries := judged(set)
	r.Outcome, r.Unseen = now.Outcome, unseenOf(now)
	faults := faultList{done: map[string]bool{}}
	faults.add(now, tries)
	for range mostFixes {
		next := faults.next(now)
		if next == nil {
			break
		}
		faults.done[fixKey(next.Cause)] = true
		step := trail.StepOf(next.Cause)
		set, step.Changes = fixed(set, next.try, next.of, next.Remedies)
		now, tries = judged(set)
		faults.add(now, tries)
		step.Left = faults.left(now)
		step.Idle = blocks(now, next.Cause) // judged as before: this fix changes nothing that was seen
		step.Unseen = unseenOf(now)
		r.Steps = append(r.Steps, step)
		r.Unseen = step.Unseen
		r.Clears = len(step.Left) == 0
	}
	return r
}

// fault is a cause that keeps the client out, with the reading and the try that it is of.
type fault struct {
	trail.Cause
	of  *gate.Judged
	try *scene.Try
}

// faultList is the faults that were found so far, and which of them were fixed.
type faultList struct {
	known []fault
	done  map[string]bool
}

// blocks reports whether a fault keeps the client out by a judgement.
func blocks(t trail.Trail, of trail.Cause) bool {
	return slices.ContainsFunc(t.Blocking(), func(c trail.Cause) bool { return fixKey(c) == fixKey(of) })
}

// add takes over the faults of a judgement, in place of what was known of them.
func (l *faultList) add(t trail.Trail, tries []*scene.Try) {
	var now []fault
	for _, c := range t.Blocking() {
		of, try := judgedOf(tries, c)
		if c.Certainty != trail.Possible && of != nil {
			now = append(now, fault{c, of, try})
		}
	}
	for _, old := range l.known {
		if !slices.ContainsFunc(now, func(f fault) bool { return fixKey(f.Cause) == fixKey(old.Cause) }) {
			now = append(now, old)
		}
	}
	l.known = now
}

// stands reports whether a fault still is one: it is judged so, also after its fix, or it was
// not fixed and, since no try was made after the fixes before it, nothing that was read shows
// its rung clear.
func (l *faultList) stands(f fault, t trail.Trail) bool {
	if blocks(t, f.Cause) {
		return true
	}
	return !l.done[fixKey(f.Cause)] && !slices.ContainsFunc(t.Rungs, func(r trail.Finding) bool {
		return r.Name == f.Rung && r.State == trail.Clear
	})
}

// next is the fault to fix now.
func (l *faultList) next(now trail.Trail) *fault {
	for i, f := range l.known {
		if !l.done[fixKey(f.Cause)] && l.stands(f, now) {
			return &l.known[i]
		}
	}
	return nil
}

// left is what still stands.
func (l *faultList) left(now trail.Trail) []string {
	var list []string
	for _, f := range l.known {
		if l.stands(f, now) && !slices.Contains(list, f.ID) {
			list = append(list, f.ID)
		}
	}
	return list
}

// judged is the trail of a set, and the tries that it rests on.
func judged(set fact.Set) (trail.Trail, []*scene.Try) {
	v := scene.New(set)
	tries := walk(v, &scene.Wants{})
	return trailOf(v, tries), tries
}

// fixKey tells one fault from another.
func fixKey(c trail.Cause) string { return c.ID + "\x00" + c.Vantage }

// judgedOf is the reading behind a cause, and the try that it is of.
func judgedOf(tries []*scene.Try, c trail.Cause) (*gate.Judged, *scene.Try) {
	for _, first := range tries {
		for t := first; t != nil; t = t.Instead {
			for _, j := range t.Verdict.Causes {
				if j.Cause == c.ID && j.Vantage == c.Vantage {
					return j, t
				}
			}
		}
	}
	return nil, nil
}

// unseenOf is the rungs of which nothing tells, while no fault is told of them.
func unseenOf(t trail.Trail) []string {
	list := []string{}
	for _, f := range t.Rungs {
		if f.State == trail.Unseen || f.State == trail.Doubt || f.State == trail.Follows {
			list = append(list, string(f.Name))
		}
	}
	return list
}

// passing is the looks whose facts tell how a try went: after a fix another one goes otherwise.
var passing = []fact.Kind{
	fact.LookSession, fact.LookEcho, fact.LookReset, fact.LookHops, fact.LookPackets, fact.LookPeers, fact.LookLogin,
	fact.LookOffers, fact.LookThrough, fact.LookIdle, fact.LookLoad, fact.LookMapper, fact.LookClaims, fact.LookLink,
}

// fixed is a set as it were after a fix, and in words what was taken to change.
func fixed(set fact.Set, t *scene.Try, j *gate.Judged, remedies []trail.Remedy) (fact.Set, string) {
	rest := fact.New(set.Ask, set.Vantages)
	rest.Facts, rest.Ended, rest.Behind = slices.Clone(set.Facts), set.Ended, set.Behind
	rest.Supposed = map[string][]string{}
	for at, list := range set.Supposed {
		rest.Supposed[at] = slices.Clone(list)
	}
	e := effect{set: &rest, try: t, cause: j, remedies: remedies}
	entry, _ := catalogue.Explain(j.Cause)
	if apply := effects[entry.Effect]; apply != nil {
		if text := apply(&e); text != "" {
			e.forgetTry()
			return rest, text
		}
	}
	e.forget(j.Because)
	e.forgetTry()
	why, none := strings.CutPrefix(entry.Effect, "none: ")
	if !none {
		why = "what follows it, a new look will tell"
	}
	return rest, "this fault is gone; " + why
}

// effect is a fix on its way into the facts.
type effect struct {
	set      *fact.Set
	try      *scene.Try
	cause    *gate.Judged
	remedies []trail.Remedy
	kept     []string // facts of tries that go on to count
}

// effects is what fixes change in the facts, by the names that the catalogue gives them beside
// the remedies. A cause without one is fixed by forgetting what showed it, and so is one of
// which too little is known.
var effects = map[string]func(*effect) string{
	"resolves":  (*effect).resolves,
	"goes-to":   (*effect).goesTo,
	"listens":   (*effect).listens,
	"runs":      (*effect).runs,
	"startable": (*effect).startable,
	"passes":    (*effect).passes,
}

// forget takes facts away.
func (e *effect) forget(ids []string) {
	keep := []fact.Kind{fact.LookAddresses, fact.LookIdentity, fact.LookNames}
	e.set.Facts = slices.DeleteFunc(e.set.Facts, func(f fact.Fact) bool {
		return slices.Contains(ids, f.ID) && !slices.Contains(keep, f.Order.Look)
	})
}

// forgetTry takes away how tries of the target went. What the server's own try showed stays
// where the fix does not touch the program: it is what clients meet then.
func (e *effect) forgetTry() {
	rung, _, _ := strings.Cut(e.cause.Cause, "/")
	if slices.Contains([]string{"ports", "rules", "names", "settings"}, rung) {
		e.meets()
	}
	e.set.Facts = slices.DeleteFunc(e.set.Facts, func(f fact.Fact) bool {
		other := f.Order.Target.Addr.IsValid() && f.Order.Target.Addr != e.try.Target.Addr ||
			f.Order.Target.Port != 0 && f.Order.Target.Port != e.try.Target.Port ||
			f.Order.Target.Security != "" && f.Order.Target.Security != e.try.Target.Security
		return slices.Contains(passing, f.Order.Look) && !other && !slices.Contains(e.kept, f.ID)
	})
}

// meets lets what the server's own tries of the port showed be what is met at the target.
func (e *effect) meets() {
	server := e.try.Server
	for i, f := range e.set.Facts {
		if f.Order.Look != fact.LookSession || server == "" || f.Vantage != server ||
			f.Order.Target.Port != e.try.Target.Port {
			continue
		}
		at := f.Order.Target
		at.Addr = e.try.Target.Addr
		e.set.Facts[i].Order.Target = at
		e.kept = append(e.kept, f.ID)
	}
}

// resolves lets the name give the address that is right, where that is known.
func (e *effect) resolves() string {
	right, err := netip.ParseAddr(e.cause.Values["right"])
	if e.cause.Instead != nil {
		right, err = e.cause.Instead.Addr, nil
	}
	if err != nil || !right.IsValid() {
		return e.looksUpAnew()
	}
	name, old := e.try.Target.Name, e.try.Target.Addr
	for i, f := range e.set.Facts {
		if f.Order.Look != fact.LookNames || f.Order.Target.Name != name {
			continue
		}
		switch {
		case f.HostsFile != nil && slices.Contains(f.HostsFile.Addrs, old):
			h := *f.HostsFile
			h.Addrs = []netip.Addr{right}
			e.set.Facts[i].HostsFile = &h
		case f.Answer != nil && (slices.Contains(f.Answer.Addrs, old) || len(f.Answer.Addrs) == 0 &&
			(f.Answer.Type == "A") == right.Is4()):
			a := *f.Answer
			a.Addrs, a.Outcome, a.Aliases, a.Denies = []netip.Addr{right}, fact.Addressed, nil, ""
			e.set.Facts[i].Answer = &a
		case f.System != nil && (slices.Contains(f.System.Addrs, old) || len(f.System.Addrs) == 0):
			s := *f.System
			s.Addrs = []netip.Addr{right}
			e.set.Facts[i].System = &s
		}
	}
	return name + " resolves to " + right.String()
}

// looksUpAnew takes away what the name gave, where nobody knows what it will give.
func (e *effect) looksUpAnew() string {
	name := e.try.Target.Name
	asked := []fact.Kind{fact.LookNames, fact.LookZone, fact.LookServices, fact.LookReverse}
	e.set.Facts = slices.DeleteFunc(e.set.Facts, func(f fact.Fact) bool {
		return slices.Contains(asked, f.Order.Look) && f.Failed == nil &&
			(f.Order.Target.Name == name || slices.Contains(e.cause.Because, f.ID))
	})
	return "what " + name + " resolves to then, a new look-up will tell"
}

// goesTo lets the client go to the target that is right.
func (e *effect) goesTo() string {
	to := e.cause.Instead
	if to == nil {
		return ""
	}
	end := &e.set.Ask.Endpoint
	end.Stray = nil // as typed, they are gone by now
	if to.Addr != e.try.Target.Addr && e.try.Lookup != nil && e.try.Lookup.Literal {
		end.Host = to.Addr.String()
	}
	if to.Name != e.try.Target.Name && to.Name != "" {
		end.Host = to.Name
	}
	end.Port, end.Security = to.Port, to.Security
	if to.Scheme != "" {
		end.Scheme = to.Scheme
	}
	host := to.Name
	if to.Addr.IsValid() {
		host = to.Addr.String()
	}
	return "the client goes to " + endpoint.HostPort(host, to.Port)
}

// listens lets the program listen on every address.
func (e *effect) listens() string { return e.opens("") }

// opens puts a listening socket for the target into the server's list.
func (e *effect) opens(program string) string {
	at := e.try.Server
	text := ""
	for i, f := range e.set.Facts {
		if f.Vantage != at || f.Listeners == nil {
			continue
		}
		list := fact.Listeners{All: slices.Clone(f.Listeners.All)}
		l := fact.Listener{Addr: anyOf(e.try.Target.Addr), Port: e.try.Target.Port, Limit: 1, Program: program}
		if e.set.Ask.Endpoint.Transport == "udp" {
			l.Transport = "udp"
		}
		for _, old := range f.Listeners.On(e.set.Ask.Endpoint.Transport, e.try.Target.Port) {
			if old.Program != "" && program == "" {
				l.Program, l.PID, l.Unit, l.Limit = old.Program, old.PID, old.Unit, max(old.Limit, 1)
			}
		}
		list.All = append(list.All, l)
		e.set.Facts[i].Listeners = &list
		text = "something listens on " + netip.AddrPortFrom(l.Addr, l.Port).String()
	}
	return text
}

func anyOf(addr netip.Addr) netip.Addr {
	if addr.Is4() {
		return netip.IPv4Unspecified()
	}
	return netip.IPv6Unspecified()
}

// runs lets the service run, and listen as its settings say: on the target's port.
func (e *effect) runs() string {
	at, program := e.try.Server, ""
	for i, f := range e.set.Facts {
		if f.Vantage != at || f.Service == nil {
			continue
		}
		s := *f.Service
		s.Programs = slices.Clone(s.Programs)
		for k, p := range s.Programs {
			if len(e.cause.Values["unit"]) > 0 && !slices.ContainsFunc(p.Units, func(u fact.Unit) bool {
				return u.Name == e.cause.Values["unit"]
			}) && p.Name != e.cause.Values["program"] {
				continue
			}
			if len(p.Processes) > 0 && len(p.Units) == 0 {
				continue
			}
			p.Units = slices.Clone(p.Units)
			for n := range p.Units {
				u := fact.Unit{Name: p.Units[n].Name, Load: "loaded", Active: "active", Sub: "running",
					Enabled: p.Units[n].Enabled, MainPID: 1}
				p.Units[n] = u
			}
			p.Processes, p.Private, p.Logs = []fact.Process{{PID: supposedPID, State: "S"}}, nil, nil
			s.Programs[k] = p
			if program == "" {
				program = p.Name
			}
		}
		e.set.Facts[i].Service = &s
	}
	// What an earlier look saw of the listening sockets was before the start.
	if text := e.opens(program); text != "" && program != "" {
		return program + " is running, and " + text
	}
	return ""
}

// startable lets nothing stop the next start of the service, which does not run by that.
func (e *effect) startable() string {
	unit := ""
	for i, f := range e.set.Facts {
		if f.Vantage != e.try.Server || f.Service == nil {
			continue
		}
		s := *f.Service
		s.Programs = slices.Clone(s.Programs)
		for k, p := range s.Programs {
			p.Units = slices.Clone(p.Units)
			for n := range p.Units {
				if u := &p.Units[n]; u.Name == e.cause.Values["unit"] {
					u.Blocked, u.LeastPort, unit = nil, 0, u.Name
				}
			}
			s.Programs[k] = p
		}
		e.set.Facts[i].Service = &s
	}
	if unit == "" {
		return ""
	}
	return "nothing seen stops the start of " + unit
}

// supposedPID is the process of a service that is supposed to run.
const supposedPID = 999_999

// passes lets the filter of the host take the rule that the fix inserts, and evaluates again.
func (e *effect) passes() string {
	for _, m := range e.remedies {
		for line := range strings.Lines(m.Command) {
			if line = strings.TrimSpace(line); line == "" || e.cause.Vantage == "" {
				continue
			}
			e.set.Supposed[e.cause.Vantage] = append(e.set.Supposed[e.cause.Vantage], line)
			return "the rule is in place: " + line
		}
	}
	return ""
}
