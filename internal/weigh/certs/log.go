package certs

import (
	"fmt"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// logReading reads the server's log where no secure session comes up, by the lines to which
// the card gives a meaning. A line may be old, and of another session: it is no proof.
func logReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	h := t.Sessions.Handshake
	if v.Ask.Card == nil || len(v.Ask.Card.Reasons) == 0 || t.Server == "" || t.Target.Security == fact.Plain ||
		t.Symptom.Good() || h != nil && h.Handshake.Ending == fact.Done {
		return gate.Reading{}, false
	}
	after := fact.Target{Port: t.Target.Port, Scheme: t.Target.Scheme, Again: 1}
	w.Add(scene.Want{Look: fact.LookService, At: fact.Server, On: t.Server, Target: after, Gate: gate.Session})
	for _, s := range v.Facts(t.Server, fact.LookService) {
		if s.Service == nil {
			continue
		}
		cause, line := v.CardReason(linesOf(s.Service.Programs), "certs")
		if cause == "" {
			continue
		}
		r := gate.Reading{
			Gate: gate.Session, Cause: cause, Strength: gate.Told, Because: append(scene.FactIDs(s), t.Climb.IDs()...),
			Vantage: t.Server,
			Shows: []gate.Symptom{gate.ClientFirstClosed, gate.ClientFirstSilent, gate.SessionFailed,
				gate.ServerFirstClosed, gate.ServerFirstSilent},
			Summary: fmt.Sprintf("no secure session comes up, and the log of %s says why: \"%s\"", v.Host(t.Server),
				foreign.Shortened(line)),
			Values: v.Place(t, catalogue.Values{"server": v.Host(t.Server), "text": line}),
		}
		if !v.Confirmed(t) {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: scene.NotConfirmed})
		}
		return r, true
	}
	return gate.Reading{}, false
}

// linesOf is the lines of the logs of programs, of units and of files.
func linesOf(programs []fact.Program) []string {
	var list []string
	for _, p := range programs {
		for _, u := range p.Units {
			for _, line := range u.Log {
				list = append(list, line.Text)
			}
		}
		for _, file := range p.Logs {
			list = append(list, file.Lines...)
		}
	}
	return list
}
