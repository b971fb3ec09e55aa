package settings

import (
	"fmt"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// toldElsewhere reads where the client's own programs are sent by their
// settings, if that is another place than the endpoint, and tries it.
func toldElsewhere(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if !speaks(t.Target).Settings || t.OwnTry {
		return nil
	}
	target := fact.Target{Name: t.Target.Name, Addr: t.Target.Addr, Port: t.Target.Port, Scheme: t.Target.Scheme}
	w.Add(scene.Want{Look: fact.LookTold, At: fact.Client, Target: target, Gate: gate.Intent})
	for _, f := range v.Facts(v.Client, fact.LookTold) {
		if t.Symptom == gate.NotTried || f.Told == nil || f.Order.Target != target {
			continue
		}
		told := f.Told
		base := gate.Reading{Gate: gate.Intent,
			Strength: gate.Read, Reach: gate.Elsewhere, Because: scene.FactIDs(f), Vantage: v.Client,
			Values: catalogue.Values{
				"client":   v.Host(v.Client),
				"host":     t.Target.Name,
				"endpoint": v.Ask.Endpoint.Input,
				"right":    t.Target.Name,
				"server":   v.Answering(t),
			}}
		var list []gate.Reading
		if r, ok := throughJump(v, w, t, told, base); ok {
			list = append(list, r)
		}
		if r, ok := goesTo(v, w, t, told, base); ok {
			list = append(list, r)
		}
		return list
	}
	return nil
}

// throughJump reads a jump host that cannot be reached: what it is for cannot
// be either, though the straight way may be open.
func throughJump(
	v *scene.Scene,
	w *scene.Wants,
	t *scene.Try,
	told *fact.Told,
	base gate.Reading,
) (gate.Reading, bool) {
	if told.Jump == "" {
		return gate.Reading{}, false
	}
	e, err := endpoint.Parse("ssh://" + told.Jump)
	if err != nil {
		return gate.Reading{}, false
	}
	c, ok := tryAt(v, w, t, e.Host, e.Port)
	if !ok || c.Expected() {
		return gate.Reading{}, false
	}
	r := base
	r.Cause, r.Because = "settings/proxy-in-the-way", gate.Union(r.Because, c.IDs())
	r.Summary = fmt.Sprintf(
		"%s goes to %s through %s (%s), and there: %s",
		told.By,
		t.Target.Name,
		told.Jump,
		told.JumpAt,
		c.Symptom(v.Own()),
	)
	return r, true
}

// goesTo reads another host or port that the settings name. Where only one of
// the two places answers, the other is the wrong one.
func goesTo(v *scene.Scene, w *scene.Wants, t *scene.Try, told *fact.Told, base gate.Reading) (gate.Reading, bool) {
	host, port := t.Target.Name, t.Target.Port
	var at []string
	cause := "settings/wrong-port"
	if told.Port != 0 {
		port, at = told.Port, append(at, told.PortAt)
	}
	if told.Host != "" {
		cause, host, at = "settings/wrong-host", told.Host, append(at, told.HostAt)
	}
	if len(at) == 0 {
		return gate.Reading{}, false
	}
	r := base
	r.Cause = cause
	place := fmt.Sprintf("%s (%s)", endpoint.HostPort(host, port), strings.Join(at, ", "))
	if told.Only {
		r.Harmless = true
		r.Summary = fmt.Sprintf("%s that are not told a host go to %s", told.By, place)
		return r, true
	}
	c, ok := tryAt(v, w, t, host, port)
	switch {
	case !ok || c.Expected() == (t.Symptom.Good()):
		return gate.Reading{}, false // both answer, or none: the settings are not what differs
	case c.Expected():
		r.Harmless, r.Because = true, gate.Union(r.Because, c.IDs())
		r.Summary = fmt.Sprintf("%s goes to %s here, and that answers: trace that", told.By, place)
		return r, true
	}
	r.Because = gate.Union(r.Because, c.IDs())
	r.Summary = fmt.Sprintf(
		"%s goes to %s here, and there: %s; %s answers",
		told.By,
		place,
		c.Symptom(v.Own()),
		endpoint.HostPort(t.Target.Name, t.Target.Port),
	)
	switch _, list := v.Listeners(t.Server); {
	case t.Server == "" || list == nil:
		r.Lacks = []gate.Lack{{Guard: gate.AllRead, Why: "the server's own addresses and listeners were not read"}}
	case told.Host == "" && len(list.On(v.Ask.Endpoint.Transport, port)) > 0:
		r.Lacks = []gate.Lack{
			{Guard: gate.AllRead, Why: fmt.Sprintf("something on the server listens on port %d all the same", port)},
		}
	case told.Host != "" && v.ServerOf(c.Target.Addr) != "":
		r.Lacks = []gate.Lack{{Guard: gate.OneMeaning, Why: "the address in the settings is a server's too"}}
	}
	return r, true
}

// tryAt is a session at another host and port that the client's settings name.
func tryAt(v *scene.Scene, w *scene.Wants, t *scene.Try, host string, port uint16) (scene.Climb, bool) {
	found := v.LookUp(w, host)
	if len(found.Addrs) == 0 {
		return scene.Climb{}, false
	}
	target := fact.Target{
		Name:     host,
		Addr:     found.Addrs[0],
		Port:     port,
		Scheme:   t.Target.Scheme,
		Security: t.Target.Security,
		Apart:    true,
	}
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: gate.Intent})
	c, ok := v.ClimbAt(v.Client, target)
	return c, ok &&
		(c.Connect != nil && c.Connect.Connect.Outcome != fact.Connected || c.Symptom(v.Own()) != gate.NotTried)
}
