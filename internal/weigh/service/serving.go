package service

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/foreign"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// serving is the program behind the endpoint, as it was seen on the server.
type serving struct {
	v       *scene.Scene
	t       *scene.Try
	f       *fact.Fact // that it was seen by
	manager string
	p       *fact.Program
	u       *fact.Unit  // nil: none is known
	short   []gate.Lack // guards that are missing for all that is said of it
}

// startSlack is how long before a unit's change of state its log may tell of it.
const startSlack = 10 * time.Second

// preparingTime is how long a program may take to begin with what it has opened.
const preparingTime = 10 * time.Second

// startingTime is how long a service may take to open its ports.
const startingTime = 2 * time.Minute

// sameEvent is how close a line of the kernel's log must be to a unit's change
// of state to be about it.
const sameEvent = time.Minute

// stamped is the time at the beginning of a line, as most servers write it.
var stamped = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^\[?(\d{4})[-/](\d\d)[-/](\d\d)[ T](\d\d:\d\d:\d\d)`)
})

// reading begins a reading of the service.
func (s serving) reading(g gate.Gate, cause, summary string) gate.Reading {
	r := gate.Reading{
		Gate: g, Cause: cause,
		Strength: gate.Read, Because: scene.FactIDs(s.f), Vantage: s.t.Server, Lacks: slices.Clone(s.short),
		Summary: summary,
		Values:  s.v.Place(s.t, catalogue.Values{"program": s.p.Name, "path": s.p.Path}),
	}
	if s.u != nil {
		r.Values["unit"] = s.u.Name
	}
	// Another process that holds the port may have answered our own try.
	if len(s.v.Taking(s.t)) > 0 && len(s.v.Ours(s.t, s.v.Taking(s.t))) == 0 {
		r.Reach = gate.Further
	}
	return r
}

// fromLog says which cause the lines of a failed start point at, and by which
// line: the one that tells most, and of those the last.
func (s serving) fromLog(lines []fact.LogLine) (cause, line string) {
	best := -1
	if m, at, ok := s.v.Programs.Means(s.p.Name, texts(lines), "start"); ok {
		return m.Cause, lines[at].Text // its own words have no other meaning
	}
	for _, l := range lines {
		if m, rank, ok := program.DoesNotStart(l.Text); ok && (best < 0 || rank <= best) {
			best, cause, line = rank, m.Cause, l.Text
		}
	}
	return cause, line
}

// down reads a service that does not hold its port.
func (s serving) down() []gate.Reading {
	here := s.p.Here()
	alive := slices.ContainsFunc(here, func(r fact.Process) bool { return r.State != "Z" })
	switch {
	case !scene.Installed(s.p):
		return s.absent()
	case len(s.p.Processes) > 0 && len(here) == 0 && s.mayServeElsewhere():
		return nil // it runs in another network namespace: that is a matter of ports
	case len(here) > 0 && !alive:
		return []gate.Reading{
			s.reading(
				gate.Listener,
				"service/zombie",
				fmt.Sprintf("%s (pid %d) has ended, and its parent has not collected it: it is a zombie", s.p.Name,
					here[0].PID),
			),
		}
	}
	denied, ok := s.denied()
	if ok && !alive && len(denied.Lacks) == len(s.short) {
		return []gate.Reading{denied}
	}
	if s.u != nil {
		if r, ok := s.unitDown(alive); ok {
			return s.withNextStart(r) // what was refused at another time is another matter
		}
	}
	if ok && !alive {
		return []gate.Reading{denied}
	}
	if !alive {
		if r, ok := s.openFiles(); ok {
			return []gate.Reading{r}
		}
		text := fmt.Sprintf("%s is installed but not running", s.p.Name)
		if len(s.p.Processes) > 0 {
			text += " here"
			s.short = append(slices.Clone(s.short), gate.Lack{
				Guard: gate.SameProcess, Why: "a process of it runs in another network namespace",
			})
		}
		return []gate.Reading{s.stopped(text)}
	}
	if since := here[0].Since; !since.IsZero() && s.v.Ask.Began.Sub(since) < startingTime && s.mute() {
		r := s.reading(
			gate.Listener,
			"service/starting",
			fmt.Sprintf(
				"%s started %s ago and has not opened the port yet%s",
				s.p.Name,
				foreign.Span(s.v.Ask.Began.Sub(since)),
				s.stillClosed(),
			),
		)
		r.Strength = gate.Inferred
		if s.v.Named(s.p) {
			return []gate.Reading{r}
		}
	}
	return nil
}

// mayServeElsewhere reports whether processes of the program in other network
// namespaces may be the endpoint's own: one listens on its port there, or is of
// its unit, or nobody could see where it is. Else they are another copy of the
// same program, as of a container.
func (s serving) mayServeElsewhere() bool {
	if slices.ContainsFunc(s.p.Processes, func(r fact.Process) bool { return r.Unplaced }) {
		return true
	}
	if s.u != nil && (s.u.Active == "active" || s.u.Active == "reloading") {
		return true
	}
	_, list := s.v.Listeners(s.t.Server)
	return list == nil || slices.ContainsFunc(list.Elsewhere, func(l fact.Listener) bool {
		return scene.Serves(l, []fact.Program{*s.p})
	})
}

// mute reports whether the program listens nowhere at all, or on some of the
// card's ports and not on others: one that has another port open, and not this
// one, is not on its way to open it.
func (s serving) mute() bool {
	_, list := s.v.Listeners(s.t.Server)
	if list == nil {
		return false
	}
	closed, all := s.closedPorts()
	return closed > 0 && closed < all ||
		!slices.ContainsFunc(list.All, func(l fact.Listener) bool { return scene.Serves(l, []fact.Program{*s.p}) })
}

// closedPorts is how many of the card's ports are not open, of how many.
func (s serving) closedPorts() (closed, all int) {
	_, list := s.v.Listeners(s.t.Server)
	if s.v.Ask.Card == nil || list == nil {
		return 0, 0
	}
	for _, port := range s.v.Ask.Card.Ports {
		if len(list.On(s.v.Ask.Endpoint.Transport, port)) == 0 {
			closed++
		}
	}
	return closed, len(s.v.Ask.Card.Ports)
}

// stillClosed tells how many of the card's ports are not open yet.
func (s serving) stillClosed() string {
	closed, all := s.closedPorts()
	if all == 0 {
		return ""
	}
	return fmt.Sprintf("; %d of the card's %d ports are still closed", closed, all)
}

// openFiles reads a program that does not run, and will not start: all of its private files may
// be read by others, and it uses none of those.
func (s serving) openFiles() (gate.Reading, bool) {
	var open []string
	for _, f := range s.p.Private {
		if !f.Open {
			return gate.Reading{}, false
		}
		open = append(open, f.Path)
	}
	if len(open) == 0 {
		return gate.Reading{}, false
	}
	r := s.reading(gate.Listener, "service/settings-rejected", fmt.Sprintf(
		"%s does not run, and will not start while others can read its keys: %s (mode %s)", s.p.Name,
		strings.Join(open, ", "), s.p.Private[0].Mode))
	r.Values["name-of-program"] = s.p.Name
	r.Values["private"] = open[0]
	r.Values["private-mode"] = s.p.Private[0].Mode
	return r, true
}

// absent reads a service that is not there at all. Only where it was said
// which one it is can it be missed.
func (s serving) absent() []gate.Reading {
	others := slices.ContainsFunc(s.v.ProgramsAt(s.t.Server), func(p fact.Program) bool {
		return p.Name != s.p.Name && p.Why != "scheme" && scene.Installed(&p)
	})
	left := s.p.Why == "settings" && s.p.Written(s.t.Target.Port) && !others
	if !s.v.Named(s.p) && !left {
		return nil
	}
	what := "program " + s.p.Name
	if len(s.p.Units) > 0 {
		what += " and unit " + s.p.Units[0].Name
	}
	r := s.reading(gate.Listener, "service/not-installed", what+" are not on "+s.v.Host(s.t.Server))
	if !s.v.Named(s.p) {
		r.Summary += fmt.Sprintf("; its settings (%s) still name port %d", s.p.Settings, s.t.Target.Port)
		r.Strength = gate.Inferred // they may be left of a program that was replaced
	}
	return []gate.Reading{r}
}

// stopped reads a service that simply does not run.
// withBegins says when the manager starts the unit by itself, where it told.
func (s serving) withBegins(summary string) string {
	if s.u == nil || s.u.Begins == "" {
		return summary
	}
	return summary + " (" + s.u.Begins + ")"
}

// lateStart is how long after the host's start a service may come that starts late (of
// Windows, which waits two minutes and then takes one after the other).
const lateStart = 10 * time.Minute

// justBooted reports a host that has not been up for that long.
func (s serving) justBooted() bool {
	for _, f := range s.v.Facts(s.t.Server, fact.LookIdentity) {
		if id := f.Identity; id != nil && !id.Boot.IsZero() && id.Clock.Sub(id.Boot) < lateStart {
			return true
		}
	}
	return false
}

func (s serving) stopped(summary string) gate.Reading {
	r := s.reading(gate.Listener, "service/stopped", s.withBegins(summary))
	if s.u != nil && s.u.Late && s.justBooted() {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameTime,
			Why: fmt.Sprintf("%s has just started, and %s comes later", s.v.Host(s.t.Server), s.u.Name)})
	}
	if s.u != nil && s.u.Enabled == "transient" {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameProcess,
			Why: s.u.Name + " was started for the moment: whether it should still run is not known"})
	}
	if port := s.instead(); port != 0 {
		r.Lacks = append(r.Lacks, gate.Lack{
			Guard: gate.SameProcess,
			Why: fmt.Sprintf("%s is switched off for good, and the process that listens on port %d may serve in its place",
				s.u.Name, port),
		})
	}
	if s.manager != "" && s.u == nil && !s.v.Named(s.p) {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameProcess, Why: s.manager + " knows no unit for it"})
	}
	return r
}

// instead is a port that no other kind of service is known by and that somebody else
// listens on, where the unit in question is switched off for good; 0 if there is none:
// then it may be the one all the same.
func (s serving) instead() uint16 {
	if s.u == nil || s.u.Enabled != "disabled" || s.p.Why == "card" || s.v.Named(s.p) {
		return 0
	}
	_, list := s.v.Listeners(s.t.Server)
	if list == nil {
		return 0
	}
	for _, l := range list.All {
		usual := protocol.UsualOn(l.Port)
		fits := len(usual) == 0 || slices.Contains(usual, s.t.Target.Scheme)
		open := l.Transport != "udp" && !l.Addr.IsLoopback() && l.Port < filter.Ephemeral.Low
		if fits && open && !scene.Serves(l, []fact.Program{*s.p}) {
			return l.Port
		}
	}
	return 0
}
