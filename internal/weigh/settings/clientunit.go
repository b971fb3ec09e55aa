package settings

import (
	"fmt"
	"path"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// clientService reads the client's own service that the card names. A try by
// hand may get through all the same: nothing is sent while it does not run.
func clientService(v *scene.Scene, w *scene.Wants) (gate.Reading, bool) {
	if v.Ask.Card == nil || v.Ask.Card.ClientUnit == "" && v.Ask.Card.ClientLog == "" {
		return gate.Reading{}, false
	}
	target := fact.Target{Name: "client"}
	w.Add(scene.Want{Look: fact.LookService, At: fact.Client, Target: target, Gate: gate.Intent})
	for _, f := range v.Facts(v.Client, fact.LookService) {
		if f.Service == nil || f.Order.Target != target || len(f.Service.Programs) == 0 {
			continue
		}
		p := &f.Service.Programs[0]
		r := gate.Reading{
			Gate: gate.Intent, Cause: "settings/client-stopped",
			Strength: gate.Read, Reach: gate.Elsewhere, Shows: ofNoTry,
			Because: scene.FactIDs(f), Vantage: v.Client,
			Values: catalogue.Values{"client": v.Host(v.Client)},
		}
		if v.Ask.Card.ClientUnit == "" {
			return withoutUnit(v, p, r)
		}
		u := scene.MainUnit(p)
		if u == nil && len(p.Units) > 0 {
			u = &p.Units[0] // one that is not there
		}
		if f.Service.Manager == "" || u == nil {
			return gate.Reading{}, false // nobody there knows of services
		}
		name := v.Ask.Card.ClientUnit
		ago := foreign.Since(v.Ask.Began, u.Since)
		switch {
		case u.Load == "not-found" || u.Load == "" && u.Active == "":
			r.Summary = fmt.Sprintf("%s, which makes the connection, is not on %s", name, v.Host(v.Client))
			r.Values["missing"] = name
		case u.Active == "failed":
			r.Summary = strings.TrimSpace(fmt.Sprintf("%s, which makes the connection, failed %s", name, ago))
			if line := lastLine(u); line != "" {
				r.Summary += fmt.Sprintf(": %q", line)
			}
			r.Values["failed"] = name
		case u.Active == "inactive":
			r.Summary = strings.TrimSpace(fmt.Sprintf("%s, which makes the connection, is stopped %s", name, ago))
			r.Values["unit"] = name
		case u.Active == "activating" && u.Restarts > 1:
			r.Summary = fmt.Sprintf("%s, which makes the connection, ends and is started again and again", name)
			r.Values["failed"] = name
		case allIn(p, "T"):
			r.Summary = fmt.Sprintf("%s, which makes the connection, was halted by a signal", name)
			r.Values["unit"] = name
		case allIn(p, "D"):
			r.Summary = fmt.Sprintf("%s, which makes the connection, hangs in the kernel: it waits for a disk or a "+
				"file system", name)
			r.Values["stale"] = name
		default:
			if old, stale := staleLog(v, p, r, name); stale {
				return old, true
			}
			return oldSettings(v, p, r, name)
		}
		return r, true
	}
	return gate.Reading{}, false
}

// withoutUnit reads a client program that no service manager starts: that it
// does not run says something only beside a log that stands still.
func withoutUnit(v *scene.Scene, p *fact.Program, r gate.Reading) (gate.Reading, bool) {
	name := path.Base(v.Ask.Card.ClientProgram)
	old, stale := staleLog(v, p, r, name)
	switch {
	case !stale:
		return r, false
	case len(p.Processes) > 0 || v.Ask.Card.ClientProgram == "":
		return old, true
	}
	r.Summary = fmt.Sprintf(
		"%s, which makes the connection, does not run, and its log %s is older than the %s that the card allows",
		name,
		v.Ask.Card.ClientLog,
		v.Ask.Card.Fresh,
	)
	r.Values["agent"] = name
	return r, true
}

// allIn reports whether every process of a program is in a state (proc(5)): "T"
// is halted, "D" waits in the kernel and takes no signal.
func allIn(p *fact.Program, state string) bool {
	for _, r := range p.Processes {
		if r.State != state {
			return false
		}
	}
	return len(p.Processes) > 0
}

// oldSettings doubts a service that runs since before one of the card's settings
// was changed: most programs read them when they start.
func oldSettings(v *scene.Scene, p *fact.Program, r gate.Reading, name string) (gate.Reading, bool) {
	var since time.Time
	for _, each := range p.Processes {
		if since.IsZero() || each.Since.Before(since) {
			since = each.Since
		}
	}
	f, s := side(v, v.Client, "client")
	if s == nil || since.IsZero() {
		return r, false
	}
	for _, seen := range s.List {
		if seen.Changed.After(since) {
			r.Summary = fmt.Sprintf("%s runs since %s, and %s was changed after that: it may go by what was there "+
				"before",
				name, since.UTC().Format("2006-01-02 15:04"), seen.At.File)
			r.Because = gate.Union(r.Because, scene.FactIDs(f))
			r.Values["restart"], r.Harmless, r.Strength = name, true, gate.Told
			return r, true
		}
	}
	return r, false
}

func lastLine(u *fact.Unit) string {
	if len(u.Log) == 0 {
		return ""
	}
	return foreign.Shortened(u.Log[len(u.Log)-1].Text)
}

// staleLog doubts a service that runs, and whose log has stood still for longer
// than the card allows.
func staleLog(v *scene.Scene, p *fact.Program, r gate.Reading, name string) (gate.Reading, bool) {
	fresh, err := time.ParseDuration(v.Ask.Card.Fresh)
	if err != nil {
		return r, false
	}
	for _, l := range p.Logs {
		if age := v.Ask.Began.Sub(l.Changed); l.Path == v.Ask.Card.ClientLog && age > fresh {
			old := r
			old.Summary = fmt.Sprintf(
				"%s runs, and its log %s is %s old; the card allows %s",
				name,
				l.Path,
				foreign.Span(age),
				v.Ask.Card.Fresh,
			)
			old.Values = gate.Join(r.Values, catalogue.Values{"stale": name})
			old.Harmless, old.Strength = true, gate.Told
			return old, true
		}
	}
	return r, false
}
