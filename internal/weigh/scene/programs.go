package scene

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
)

const NotConfirmed = "the name resolves to a loopback address, so this host may not be the server"

// idle reports whether a program is only installed: it does not run, none of
// its units is meant to, and none did since the host was started.
func idle(p *fact.Program) bool {
	if len(p.Processes) > 0 || len(p.Units) == 0 {
		return false
	}
	return !slices.ContainsFunc(p.Units, func(u fact.Unit) bool {
		return u.Active != "inactive" || u.Started || len(u.Log) > 0 || u.Load == "masked" ||
			slices.Contains(
				[]string{"enabled", "enabled-runtime", "static", "indirect", "generated", "masked"},
				u.Enabled,
			)
	})
}

// meantNow reports whether a program runs, or should.
func meantNow(p *fact.Program) bool {
	u := MainUnit(p)
	return len(p.Here()) > 0 || u != nil && (u.Enabled == "enabled" || u.Active == "failed" ||
		u.Active == "activating")
}

// Chosen is the program that stands behind the endpoint: the one that the
// card, the unit or its own settings name, else the only installed one of
// the scheme. On a port that is not the scheme's own, a guard is missing then:
// something else may be served there.
func (v *Scene) Chosen(programs []fact.Program) (*fact.Program, []gate.Lack) {
	var told, only []*fact.Program
	for i := range programs {
		p := &programs[i]
		switch {
		case v.Named(p):
			return p, nil
		case p.Why != "scheme" && Installed(p):
			told = append(told, p)
		case p.Path != "" && !idle(p):
			only = append(only, p)
		}
	}
	// What is only installed is nobody's service while something is meant to run.
	if meant := slices.DeleteFunc(slices.Clone(told), idle); len(meant)+len(only) > 0 {
		told = meant
	}
	// Nor is what nobody means to run now, where one other program of the kind
	// is meant to; unless it ran, and this very port is written for it.
	stopped := func(p *fact.Program) bool { return !meantNow(p) }
	theirs := func(p *fact.Program) bool { return meantNow(p) || v.wrote(p) }
	if now := slices.DeleteFunc(slices.Clone(only), stopped); len(now) == 1 && !slices.ContainsFunc(told, theirs) {
		told, only = nil, now
	}
	switch {
	case len(told) > 0:
		return likeliest(told, v.Ask.Endpoint.Port)
	case len(only) == 1 && v.ofKind(v.Ask.Endpoint.Port):
		return only[0], nil
	case len(only) == 1:
		return only[0], []gate.Lack{
			{
				Guard: gate.SameProcess,
				Why: only[0].Name +
					" is taken for the endpoint's service because it is the only one of its kind here",
			},
		}
	}
	// One that is gone, and whose settings still name the port.
	for i := range programs {
		p := &programs[i]
		if len(only) == 0 && p.Why == "settings" && !Installed(p) && p.Written(v.Ask.Endpoint.Port) {
			return p, nil
		}
	}
	return nil, nil
}

// ByNameAlone is what is missing where nothing that a program wrote or was given says that
// a port is its own, and only what services(5) or a comment calls its default.
func ByNameAlone(p *fact.Program, port uint16) []gate.Lack {
	if p.Why != "evidence" || p.Written(port) {
		return nil
	}
	return []gate.Lack{{
		Guard: gate.SameProcess,
		Why:   "that this port is " + p.Name + "'s is told by its name, a comment or an old line alone",
	}}
}

// ofKind reports whether whatever is the only program of the scheme here stands
// behind a port: one of the scheme's own. Beside its first port the web's are
// used by all kinds of programs.
func (v *Scene) ofKind(port uint16) bool {
	return v.Scheme.Usual(port) && (!v.Protocol.Web || port == v.Scheme.Port)
}

// wrote reports whether a program ran since the host was started, and its own
// settings or log, not its defaults, name the endpoint's port.
func (v *Scene) wrote(p *fact.Program) bool {
	u := MainUnit(p)
	return u != nil && u.Started && p.Written(v.Ask.Endpoint.Port)
}

// Named reports whether the administrator said that a program serves the
// endpoint: by a card, which a record may have been made without, or by a unit.
func (v *Scene) Named(p *fact.Program) bool {
	c := v.Ask.Card
	return p.Why == "card" || p.Why == "unit" || c != nil && (c.Program != "" && path.Base(c.Program) == p.Name ||
		c.Unit != "" && slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Name == c.Unit }))
}

// likeliest is which of several programs, whose settings all name the port,
// serves it: the one that runs or, failing that, the one that should, or whose settings
// name the port where others have it by default. A guard is missing where that does not
// tell.
func likeliest(told []*fact.Program, port uint16) (*fact.Program, []gate.Lack) {
	signs := []func(*fact.Program) bool{
		func(p *fact.Program) bool { return len(p.Here()) > 0 },
		meantNow,
		func(p *fact.Program) bool { return p.Written(port) },
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
	return left[0], []gate.Lack{
		{Guard: gate.SameProcess, Why: "any of " + strings.Join(names, ", ") + " could serve it"},
	}
}

// Installed reports whether a program or a unit of it is there at all.
func Installed(p *fact.Program) bool {
	return p.Path != "" || len(p.Processes) > 0 || MainUnit(p) != nil
}

// MainUnit is the unit that runs a program: one that is there, a service
// before a socket, one that is up before one that is not.
func MainUnit(p *fact.Program) *fact.Unit {
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

// Place adds to values where the server side is.
func (v *Scene) Place(t *Try, more catalogue.Values) catalogue.Values {
	if more["server"] == "" {
		more["server"] = v.Host(t.Server)
	}
	more["client"] = v.Host(v.Client)
	more["addr"], more["port"] = t.Target.Addr.String(), fmt.Sprint(t.Target.Port)
	if more["name"] == "" {
		more["name"] = t.Target.Name
	}
	return more
}

// Serves reports whether a listener's owner is one of the endpoint's
// programs.
func Serves(l fact.Listener, programs []fact.Program) bool {
	return slices.ContainsFunc(programs, func(p fact.Program) bool {
		name := path.Base(p.Name)
		return l.Program == name || strings.HasPrefix(l.Program, name+":") ||
			l.Unit != "" && slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Name == l.Unit }) ||
			slices.ContainsFunc(p.Processes, func(r fact.Process) bool { return r.PID == l.PID && l.PID != 0 })
	})
}

// TalkMeans is the cause that the card gives to words of its application's own
// protocol.
func (v *Scene) TalkMeans(text string) (fact.TalkMeaning, bool) {
	if v.Ask.Card == nil || v.Ask.Card.Talk == nil {
		return fact.TalkMeaning{}, false
	}
	for _, m := range v.Ask.Card.Talk.Means {
		if words, err := regexp.Compile(m.Words); err == nil && words.MatchString(text) {
			return m, true
		}
	}
	return fact.TalkMeaning{}, false
}

// CardReason is the cause that the card gives to a line of the application's
// log, of those of a rung, and the newest such line.
func (v *Scene) CardReason(lines []string, rung string) (cause, line string) {
	if v.Ask.Card == nil {
		return "", ""
	}
	for _, reason := range v.Ask.Card.Reasons {
		if _, known := catalogue.Explain(reason.Cause); !known || !strings.HasPrefix(reason.Cause, rung+"/") {
			continue
		}
		pattern, err := regexp.Compile(reason.Log)
		if err != nil {
			continue // a kept card, from before it was checked
		}
		for _, each := range slices.Backward(lines) {
			if pattern.MatchString(each) {
				if reason.Says != "" {
					each = reason.Says + ": " + each
				}
				return reason.Cause, each
			}
		}
	}
	return "", ""
}
