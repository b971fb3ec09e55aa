package answer

import (
	"fmt"
	"maps"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// bareReading asks a bare port in the protocol of the program that holds it, where that
// is known: whether the application answers is then seen, and not only that the kernel
// takes connections. An answer that may come of the wrong security says nothing.
func bareReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if t.Symptom != gate.Connects || t.Server == "" || v.Ask.Card != nil && v.Ask.Card.Talk != nil {
		return gate.Reading{}, false
	}
	holder := v.ServedBy(t)
	p, known := v.Programs.Of(holder)
	scheme, ok := schemeOf(p.Serves, t.Target.Port)
	if !known || !ok {
		return gate.Reading{}, false
	}
	target := t.Target
	target.Scheme, target.Security = scheme.Name, scheme.Security
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: gate.Answer})
	c, seen := v.ClimbAt(v.Client, target)
	if !seen || c.Reply == nil {
		return gate.Reading{}, false
	}
	reply := *c.Reply.Reply
	r := gate.Reading{
		Gate: gate.Answer, Strength: gate.Read, Because: scene.FactIDs(c.Reply), Vantage: v.Client,
		Summary: fmt.Sprintf("asked as %s, since %s holds the port: %s", scheme.Name, holder, replyText(reply)),
	}
	switch c.Symptom(v.Own()) {
	case gate.Fine:
		return r, true
	case gate.ErrorAnswer:
		if protocol.Of(reply.Protocol).Web && reply.Status < 500 {
			return gate.Reading{}, false
		}
		r.Cause, r.Strength, r.Reach = "answer/error-status", gate.Inferred, gate.Further
		r.Values = v.Place(t, catalogue.Values{
			"status": scene.AnswerProblem(reply, scheme), "server": v.Answering(t), "owner": holder,
		})
		r.Lacks = []gate.Lack{{Guard: gate.OneMeaning, Why: "the endpoint does not say what is asked there"}}
		return r, true
	}
	return gate.Reading{}, false
}

// schemeOf is what a program serves on a port: the scheme whose port it is, else its only
// one over TCP.
func schemeOf(serves map[string]uint16, port uint16) (protocol.Scheme, bool) {
	var fit, all []protocol.Scheme
	for _, name := range slices.Sorted(maps.Keys(serves)) {
		s, known := protocol.Lookup(name)
		if !known || s.UDP || s.Wire == "" {
			continue
		}
		all = append(all, s)
		if serves[name] == port || s.Port == port {
			fit = append(fit, s)
		}
	}
	switch {
	case len(fit) == 1:
		return fit[0], true
	case len(all) == 1:
		return all[0], true
	}
	return protocol.Scheme{}, false
}
