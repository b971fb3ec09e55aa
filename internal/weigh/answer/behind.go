package answer

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// gatewayStatuses are the statuses with which a gateway answers for a backend
// (RFC 9110 sections 15.6.3 to 15.6.5).
var gatewayStatuses = map[int]string{
	502: "its backend answers with nothing, or with nonsense", 503: "it has no backend that is well",
	504: "its backend does not answer in time",
	500: "something within it fails",
}

// mostFailing bounds how many backends are tried.
const mostFailing = 3

// hopReading reads a gateway that answers for a backend: which one, and how
// that stands, seen from the gateway itself.
func hopReading(v *scene.Scene, w *scene.Wants, t *scene.Try, r gate.Reading, reply fact.Reply) (gate.Reading, bool) {
	says, ok := gatewayStatuses[reply.Status]
	if !ok || reply.Status == 503 && reply.Program == "" && !gatewayAnswers(v, t, reply) {
		return r, false
	}
	own := r // a 500 is the application's own unless something behind it was seen to fail
	r.Cause, r.Strength = "answer/hop-fails", gate.Inferred
	r.Summary = fmt.Sprintf("%s answers %d: %s", cmp.Or(reply.Program, "a gateway"), reply.Status, says)
	r.Values = v.Place(t, catalogue.Values{"server": v.Answering(t), "gateway": v.Answering(t)})
	r.Lacks = []gate.Lack{
		{
			Guard: gate.AllRead,
			Why: "which backend it is, and how it stands, was not seen: --at server=USER@HOST, or a record made " +
				"there",
		},
	}
	if t.Server == "" {
		return r, reply.Status != 500
	}
	w.Add(
		scene.Want{
			Look:   fact.LookUpstreams,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Port: t.Target.Port},
			Gate:   gate.Answer,
		},
	)
	for _, f := range v.Facts(t.Server, fact.LookUpstreams) {
		if f.Upstreams == nil {
			continue
		}
		var failing []string
		backends := Backends(v, f)
		for i, up := range backends {
			if i == mostFailing {
				break
			}
			text, ids := v.Backend(w, t, up)
			if text != "" {
				if len(failing) == 0 && up.Socket == "" { // a socket is traced by nobody
					r.Values["hop"] = up.Scheme + "://" + endpoint.HostPort(up.Host, up.Port) + "/"
				}
				failing = append(failing, text)
				r.Because = gate.Union(append(r.Because, f.ID), ids)
			}
		}
		if len(failing) == 0 {
			continue
		}
		r.Summary = fmt.Sprintf(
			"%s on %s answers %d for its backend: %s",
			cmp.Or(reply.Program, "a gateway"),
			v.Host(t.Server),
			reply.Status,
			strings.Join(failing, "; "),
		)
		r.Values["backend"] = failing[0]
		r.Lacks, r.Strength = nil, gate.Read
		if reply.Status == 500 {
			r.Strength = gate.Inferred
			r.Lacks = []gate.Lack{{Guard: gate.OneMeaning, Why: "a 500 does not say that it is for what is behind it"}}
			own = r
		}
		if len(backends) > 1 {
			r.Lacks = []gate.Lack{
				{
					Guard: gate.AllRead,
					Why:   "its settings name several backends; which of them this request goes to was not worked out",
				},
			}
		}
	}
	if reply.Status == 500 {
		return own, own.Cause == r.Cause
	}
	return r, true
}

// refusedBehind reads a front that passes on the refusal of a backend: asked from the front
// itself, the backend refuses as well. Whom it lets in is looked at behind.
func refusedBehind(
	v *scene.Scene, w *scene.Wants, t *scene.Try, r gate.Reading, reply fact.Reply,
) (gate.Reading, bool) {
	if reply.Status != 403 || !passesOn(v, w, t) {
		return r, false
	}
	for _, f := range v.Facts(t.Server, fact.LookUpstreams) {
		backends := Backends(v, f)
		for _, up := range backends[:min(len(backends), mostFailing)] {
			text, ids := v.Backend(w, t, up)
			if text == "" || !v.Refuses(t, up, reply.Status) {
				continue
			}
			r.Cause, r.Strength, r.Lacks = "answer/hop-fails", gate.Read, nil
			r.Summary = fmt.Sprintf("%s answers %d as its backend does: %s", v.Answering(t), reply.Status, text)
			r.Because = gate.Union(append(slices.Clone(r.Because), f.ID), ids)
			r.Values = v.Place(t, catalogue.Values{"server": v.Answering(t), "gateway": v.Answering(t),
				"backend": text, "hop": up.Scheme + "://" + endpoint.HostPort(up.Host, up.Port) + "/"})
			if straight := v.Straight(t, up); straight != nil {
				// It is not the request that is refused, but the address that it comes from.
				r.Cause, r.Because = "answer/source-refused", gate.Union(r.Because, scene.FactIDs(straight))
				r.Summary += fmt.Sprintf("; straight from %s it answers %d", v.Host(v.Client), straight.Reply.Status)
			}
			if len(backends) > 1 {
				r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead,
					Why: "its settings name several backends; which of them this request goes to was not worked out"})
			}
			if up.Host != t.Target.Name {
				r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.OneMeaning, Why: fmt.Sprintf(
					"it was asked there as %s; under the name of the request it may answer otherwise", up.Host)})
			}
			return r, true
		}
	}
	return r, false
}

// gatewayAnswers reports whether an answer without a name is a gateway's own:
// by who holds the port, or by words that one writes when no backend is left.
func gatewayAnswers(v *scene.Scene, t *scene.Try, reply fact.Reply) bool {
	return strings.Contains(reply.Text, "No server is available to handle this request") ||
		slices.ContainsFunc(v.Taking(t), func(l fact.Listener) bool { return l.Program == program.HAProxy })
}

// frontSymptoms is how a front looks that passes connections on as they come,
// when what is behind it does not take them.
var frontSymptoms = []gate.Symptom{
	gate.ClientFirstSilent,
	gate.ClientFirstClosed,
	gate.ServerFirstClosed,
	gate.ServerFirstSilent,
	gate.SessionFailed,
}

// silentFront reads a front that has no words of its own for a backend that
// fails: how that stands is seen from the front itself.
func silentFront(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if t.Server == "" || !slices.Contains(frontSymptoms, t.Symptom) {
		return gate.Reading{}, false
	}
	w.Add(
		scene.Want{
			Look:   fact.LookUpstreams,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Port: t.Target.Port},
			Gate:   gate.Door,
		},
	)
	for _, f := range v.Facts(t.Server, fact.LookUpstreams) {
		if f.Upstreams == nil {
			continue
		}
		for i, up := range Backends(v, f) {
			if i == mostFailing {
				break
			}
			text, ids := v.Backend(w, t, up)
			if text == "" {
				continue
			}
			strength := gate.Read
			if v.Slow(t, up) {
				strength = gate.Hinted // what is slow may still answer
			}
			return gate.Reading{
				Strength: strength,
				Gate:     gate.Door,
				Cause:    "answer/hop-fails",
				Shows:    frontSymptoms,
				Because:  gate.Union(scene.FactIDs(f), ids),
				Vantage:  t.Server,
				Summary: fmt.Sprintf(
					"%s passes connections on, and does not get through itself: %s",
					v.Answering(t),
					text,
				),
				Values: v.Place(
					t,
					catalogue.Values{"server": v.Answering(t), "gateway": v.Answering(t), "backend": text,
						"hop": up.Scheme + "://" + endpoint.HostPort(up.Host, up.Port) + "/"},
				),
			}, true
		}
	}
	return gate.Reading{}, false
}

// Backends is what a gateway needs: the hops of the card or, where it names
// none, what the gateway's settings name.
func Backends(v *scene.Scene, f *fact.Fact) []fact.Upstream {
	var list []fact.Upstream
	if v.Ask.Card != nil {
		for _, input := range v.Ask.Card.Hops {
			if e, err := endpoint.Parse(input); err == nil {
				list = append(
					list,
					fact.Upstream{Scheme: e.Scheme, Host: e.Host, Port: e.Port, Path: "the card " + v.Ask.Card.Name},
				)
			}
		}
	}
	if len(list) > 0 || f.Upstreams == nil {
		return list
	}
	return f.Upstreams.List
}
