package weigh

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
)

// serviceReadings reads the host gate, and the listener gate from the side
// of units and processes.
func (v *view) serviceReadings(w *wants, t *try) []Reading {
	readings := v.hostReadings(w, t)
	if t.server == "" {
		return readings
	}
	t.running = v.running(t)
	_, list := v.listeners(t.server)
	if len(v.taking(t)) > 0 && (t.symptom == Fine || !t.target.Addr.IsLoopback()) {
		return readings // it listens: that is all there is to know of a service here
	}
	w.add(Want{Look: fact.LookService, At: fact.Server,
		Target: fact.Target{Port: v.ask.Endpoint.Port, Scheme: t.target.Scheme}, Gate: Listener})
	f, s := v.service(t.server)
	if s == nil || list == nil || len(v.taking(t)) > 0 {
		return readings
	}
	p, short := chosen(s.Programs)
	if p == nil || len(p.Here()) > 0 || p.Path == "" && len(p.Units) == 0 {
		return readings
	}
	return append(readings, v.downReading(t, f, s, p, short))
}

// running says that the endpoint's service runs, as far as that was seen: by
// who holds its port, on whatever address, or by its processes.
func (v *view) running(t *try) string {
	if _, list := v.listeners(t.server); list != nil {
		for _, l := range v.ours(t, list.On(t.target.Port)) {
			if l.PID != 0 {
				return strings.TrimRight(fmt.Sprintf("%s runs (pid %d) %s", l.Program, l.PID, since(v.ask.Began, l.Since)), " ")
			}
			if l.Unit != "" {
				return l.Unit + " runs"
			}
		}
	}
	if p, _ := chosen(v.programsAt(t.server)); p != nil && len(p.Here()) > 0 {
		r := p.Here()[0]
		return strings.TrimRight(fmt.Sprintf("%s runs (pid %d) %s", p.Name, r.PID, since(v.ask.Began, r.Since)), " ")
	}
	return ""
}

// downReading is the reading of a service that is not running.
func (v *view) downReading(t *try, f *fact.Fact, s *fact.Service, p *fact.Program, short []string) Reading {
	r := Reading{
		Gate: Listener, Cause: "service/stopped", Because: factIDs(f), Vantage: t.server, Short: short,
		Summary: fmt.Sprintf("%s is installed and no process of it runs", p.Name),
		Values:  v.place(t, values{"program": p.Name, "path": p.Path}),
	}
	if !v.confirmed(t) {
		r.Short = append(r.Short, notConfirmed)
	}
	if len(p.Processes) > 0 {
		r.Short = append(r.Short, "a process of "+p.Name+" runs in another network namespace")
	}
	for _, u := range p.Units {
		if u.Load == "not-found" {
			continue
		}
		r.Values["unit"] = u.Name
		switch {
		case u.Active == "failed":
			r.Cause, r.Summary = "service/failed", fmt.Sprintf("%s failed (%s) %s", u.Name, u.Result, since(v.ask.Began, u.Since))
		case u.Load == "masked":
			r.Values["masked"] = u.Name
			r.Summary = u.Name + " is masked and no process of it runs"
		case u.Active == "inactive":
			r.Summary = fmt.Sprintf("%s is stopped %s", u.Name, since(v.ask.Began, u.Since))
		default:
			r.Short = append(r.Short, fmt.Sprintf("%s says it is %s", u.Name, u.Active))
		}
		return r
	}
	if s.Manager != "" && p.Why != "card" {
		r.Short = append(r.Short, s.Manager+" knows no unit for it")
	}
	return r
}

const notConfirmed = "this host is taken for the server only because the name gives one of its loopback addresses"

// chosen is the program that stands behind the endpoint: the one that the
// card, the unit or its own settings name, else the only installed one of
// the scheme. The guard that is missing then comes with it.
func chosen(programs []fact.Program) (*fact.Program, []string) {
	var installed []*fact.Program
	for i := range programs {
		p := &programs[i]
		if p.Why != "scheme" {
			return p, nil
		}
		if p.Path != "" {
			installed = append(installed, p)
		}
	}
	if len(installed) == 1 {
		p := installed[0]
		return p, []string{p.Name + " is taken for the endpoint's service because it is the only one of its kind here"}
	}
	return nil, nil
}

// hostReadings reads whether a machine is there at all.
func (v *view) hostReadings(w *wants, t *try) []Reading {
	if t.server != "" {
		f, a := v.addresses(t.server)
		for _, held := range a.Held {
			if held.Prefix.Addr() == t.target.Addr && !held.Up {
				return nil
			}
		}
		return []Reading{{Gate: Host, Because: factIDs(f), Vantage: t.server, Summary: v.host(t.server) + " has this address and is up"}}
	}
	if !slices.Contains([]Symptom{SilentTCP, UnreachableFrom}, t.symptom) {
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

// place adds to values where the server side is.
func (v *view) place(t *try, more values) values {
	if more["server"] == "" {
		more["server"] = v.host(t.server)
	}
	more["client"] = v.host(v.client)
	more["addr"], more["port"] = t.target.Addr.String(), fmt.Sprint(t.target.Port)
	more["name"] = t.target.Name
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
			slices.ContainsFunc(p.Processes, func(r fact.Process) bool { return r.PID == l.PID && l.PID != 0 })
	})
}
