package weigh

import (
	"fmt"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// hasSettings is the schemes whose clients have settings of their own that
// are read.
var hasSettings = map[string]bool{"ssh": true, "postgres": true}

// toldElsewhere reads where the client's own programs are sent by their
// settings, if that is another place than the endpoint, and tries it.
func (v *view) toldElsewhere(w *wants, t *try) []Reading {
	if !hasSettings[t.target.Scheme] || t.ownTry {
		return nil
	}
	target := fact.Target{Name: t.target.Name, Addr: t.target.Addr, Port: t.target.Port, Scheme: t.target.Scheme}
	w.add(Want{Look: fact.LookTold, At: fact.Client, Target: target, Gate: Intent})
	for _, f := range v.facts(v.client, fact.LookTold) {
		if t.symptom == NotTried || f.Told == nil || f.Order.Target != target {
			continue
		}
		told := f.Told
		base := Reading{Gate: Intent, Apart: true, Because: factIDs(f), Vantage: v.client,
			Values: values{"client": v.host(v.client), "host": t.target.Name, "endpoint": v.ask.Endpoint.Input, "right": t.target.Name, "server": v.answering(t)}}
		var list []Reading
		if r, ok := v.throughJump(w, t, told, base); ok {
			list = append(list, r)
		}
		if r, ok := v.goesTo(w, t, told, base); ok {
			list = append(list, r)
		}
		return list
	}
	return nil
}

// throughJump reads a jump host that cannot be reached: what it is for cannot
// be either, though the straight way may be open.
func (v *view) throughJump(w *wants, t *try, told *fact.Told, base Reading) (Reading, bool) {
	if told.Jump == "" {
		return Reading{}, false
	}
	e, err := endpoint.Parse("ssh://" + told.Jump)
	if err != nil {
		return Reading{}, false
	}
	c, ok := v.tryAt(w, t, e.Host, e.Port)
	if !ok || c.expected() {
		return Reading{}, false
	}
	r := base
	r.Cause, r.Because = "settings/proxy-in-the-way", union(r.Because, c.ids())
	r.Summary = fmt.Sprintf("%s goes to %s through %s (%s), and there: %s", told.By, t.target.Name, told.Jump, told.JumpAt, c.symptom(v.own()))
	return r, true
}

// goesTo reads another host or port that the settings name. Where only one of
// the two places answers, the other is the wrong one.
func (v *view) goesTo(w *wants, t *try, told *fact.Told, base Reading) (Reading, bool) {
	host, port := t.target.Name, t.target.Port
	var at []string
	cause := "settings/wrong-port"
	if told.Port != 0 {
		port, at = told.Port, append(at, told.PortAt)
	}
	if told.Host != "" {
		cause, host, at = "settings/wrong-host", told.Host, append(at, told.HostAt)
	}
	if len(at) == 0 {
		return Reading{}, false
	}
	r := base
	r.Cause = cause
	place := fmt.Sprintf("%s (%s)", endpoint.HostPort(host, port), strings.Join(at, ", "))
	if told.Only {
		r.Harmless = true
		r.Summary = fmt.Sprintf("%s that are not told a host go to %s", told.By, place)
		return r, true
	}
	c, ok := v.tryAt(w, t, host, port)
	switch {
	case !ok || c.expected() == (t.symptom == Fine):
		return Reading{}, false // both answer, or none: the settings are not what differs
	case c.expected():
		r.Harmless, r.Because = true, union(r.Because, c.ids())
		r.Summary = fmt.Sprintf("%s goes to %s here, and that answers: trace that", told.By, place)
		return r, true
	}
	r.Because = union(r.Because, c.ids())
	r.Summary = fmt.Sprintf("%s goes to %s here, and there: %s; %s answers", told.By, place, c.symptom(v.own()), endpoint.HostPort(t.target.Name, t.target.Port))
	switch _, list := v.listeners(t.server); {
	case t.server == "" || list == nil:
		r.Short = []string{"the server's own addresses and listeners were not read"}
	case told.Host == "" && len(list.On(v.ask.Endpoint.Transport, port)) > 0:
		r.Short = []string{fmt.Sprintf("something on the server listens on port %d all the same", port)}
	case told.Host != "" && v.serverOf(c.target.Addr) != "":
		r.Short = []string{"the address in the settings is a server's too"}
	}
	return r, true
}

// tryAt is a session at another host and port that the client's settings name.
func (v *view) tryAt(w *wants, t *try, host string, port uint16) (climb, bool) {
	found := v.lookUp(w, host)
	if len(found.addrs) == 0 {
		return climb{}, false
	}
	target := fact.Target{Name: host, Addr: found.addrs[0], Port: port, Scheme: t.target.Scheme, Security: t.target.Security, Apart: true}
	w.add(Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: Intent})
	c, ok := v.climbs[seat{v.client, target}]
	return c, ok && (c.connect != nil && c.connect.Connect.Outcome != fact.Connected || c.symptom(v.own()) != NotTried)
}
