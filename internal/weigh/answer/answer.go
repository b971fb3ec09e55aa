// Package answer judges the rung "answer": what the server says once a client is in, and
// what stands behind a gateway.
package answer

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// Readings reads the answer gate, the door where the application itself
// says why it turns somebody away, and who it is that answers.
func Readings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	var readings []gate.Reading
	if r, ok := bareReading(v, w, t); ok {
		return append(readings, r)
	}
	if r, ok := strangerReading(v, t); ok {
		readings = append(readings, r)
	}
	if r, ok := doorReading(v, t); ok {
		readings = append(readings, r)
		if c := t.Climb.Reply; c != nil && c.Reply.Code != "" {
			return readings // the one answer says one thing
		}
	}
	if r, ok := logReading(v, w, t); ok {
		readings = append(readings, r)
	}
	if r, ok := silentFront(v, w, t); ok {
		readings = append(readings, r)
	}
	c := t.Sessions
	if c.Reply == nil || c.Reply.Reply.Ending != fact.Done {
		return readings
	}
	reply := *c.Reply.Reply
	problem := scene.AnswerProblem(reply, v.Scheme)
	r := gate.Reading{
		Gate:     gate.Answer,
		Strength: gate.Read,
		Because:  scene.FactIDs(c.Reply),
		Vantage:  c.Reply.Vantage,
		Summary:  replyText(reply) + t.Seen(),
	}
	r.Values = v.Place(t, catalogue.Values{"status": problem, "server": v.Answering(t), "owner": reply.Program})
	if other, ok := expectedAnswer(v, r, reply); ok {
		return append(readings, other)
	}
	if problem == "" {
		if away, ok := redirectReading(v, w, t, reply); ok {
			readings = append(readings, away)
		}
		return append(readings, r)
	}
	r.Cause, r.Summary = "answer/error-status", problem+t.Seen()
	words := scene.OwnWords(reply)
	if words != "" && protocol.Of(reply.Protocol).Web {
		r.Summary = fmt.Sprintf("%s: %q%s", problem, words, t.Seen())
	}
	if known, ok := cardWords(v, t, r, reply); ok {
		return append(readings, known)
	}
	if early, ok := notReadyReading(v, t, r, reply); ok {
		return append(readings, early)
	}
	if reply.Status == 403 && differsForServer(v, w, t) {
		r.Cause = "answer/source-refused"
		r.Summary = fmt.Sprintf("it answers %s with 403, and its own host without", v.Host(v.Client))
	}
	if hop, ok := hopReading(v, w, t, r, reply); ok {
		return append(readings, hop)
	}
	if hop, ok := refusedBehind(v, w, t, r, reply); ok {
		return append(readings, hop)
	}
	if path, ok := pathReading(v, w, t, r, reply); ok {
		return append(readings, path)
	}
	if reply.Status == 403 && r.Cause == "answer/error-status" && !listsRead(v, t) {
		r.Lacks = append(r.Lacks, gate.Lack{
			Guard: gate.AllRead, Why: "a list of addresses may be why, and the server's lists were not read",
		})
	}
	if reply.Status == 403 && r.Cause == "answer/error-status" && passesOn(v, w, t) {
		r.Lacks = append(r.Lacks, gate.Lack{
			Guard: gate.OneMeaning,
			Why:   v.Answering(t) + " passes requests on: what stands behind it may refuse it, and not the client",
		})
	}
	r.Harmless = scene.OnlyMissing(reply, c.Target)
	return append(readings, r)
}

// listsRead reports whether the lists by which the server lets clients in were read.
func listsRead(v *scene.Scene, t *scene.Try) bool {
	return t.Server != "" && slices.ContainsFunc(v.Facts(t.Server, fact.LookAccess), func(f *fact.Fact) bool {
		return f.Access != nil && len(f.Access.Files) > 0
	})
}

// passesOn reports whether the server is a front, with servers behind it.
func passesOn(v *scene.Scene, w *scene.Wants, t *scene.Try) bool {
	if t.Server == "" {
		return false
	}
	w.Add(scene.Want{Look: fact.LookUpstreams, At: fact.Server, On: t.Server,
		Target: fact.Target{Port: t.Target.Port}, Gate: gate.Answer})
	return slices.ContainsFunc(v.Facts(t.Server, fact.LookUpstreams), func(f *fact.Fact) bool {
		return f.Upstreams != nil && len(f.Upstreams.List) > 0
	})
}

// cardWords reads an error answer in which the card's reasons find a code of
// the application's own.
func cardWords(v *scene.Scene, t *scene.Try, r gate.Reading, reply fact.Reply) (gate.Reading, bool) {
	for _, rung := range trail.Ladder {
		cause, line := v.CardReason([]string{reply.Text}, string(rung))
		if cause == "" {
			continue
		}
		says, _, named := strings.Cut(line, ": "+reply.Text)
		if !named {
			says = "it says what the card knows"
		}
		r.Cause, r.Strength, r.Gate = cause, gate.Coded, gate.Door
		if rung == trail.Answer {
			r.Gate = gate.Answer
		}
		r.Shows = []gate.Symptom{gate.ErrorAnswer}
		r.Summary = fmt.Sprintf("%s: %s", says, r.Summary)
		r.Values = gate.Join(
			r.Values,
			catalogue.Values{"account": cmp.Or(v.Ask.Account, "the account"), "client": v.Host(v.Client)},
		)
		return r, true
	}
	return r, false
}

// differsForServer compares a refusal with what the server's own try gets.
func differsForServer(v *scene.Scene, w *scene.Wants, t *scene.Try) bool {
	if t.Server == "" || v.OnSame(t) {
		return false
	}
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Server, On: t.Server, Target: t.Target, Gate: gate.Door})
	own, ok := v.ClimbAt(t.Server, t.Target)
	return ok && own.Reply != nil && own.Reply.Reply.Ending == fact.Done && own.Reply.Reply.Status != 403
}

func replyText(r fact.Reply) string {
	took := fmt.Sprintf(" in %.0f ms", max(1, r.FirstMS-r.SentMS))
	switch {
	case r.Refused:
		if len(r.Ways) > 0 {
			return fmt.Sprintf("it asks for a login (%s)%s", strings.Join(r.Ways, " or "), took)
		}
		return "it asks for a login" + took
	case protocol.Of(r.Protocol).Web && r.Location != "":
		return fmt.Sprintf("%d to %s%s", r.Status, r.Location, took)
	case protocol.Of(r.Protocol).Web:
		return fmt.Sprint(r.Status) + took
	case r.Protocol == "talk":
		return "it answers as the card says" + took
	case strings.HasPrefix(r.Text, "it says "):
		return r.Protocol + " answers" + took + ": " + r.Text
	}
	return r.Protocol + " answers" + took
}

// strangerReading reads another protocol than the endpoint's.
func strangerReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	if t.Symptom != gate.OtherProtocol {
		return gate.Reading{}, false
	}
	spoke, from := spoke(t.Climb)
	if spoke == "" {
		return unknownReading(v, t)
	}
	if spoke == v.Scheme.Wire || spoke == "tls" {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate: gate.Listener, Cause: "answer/wrong-application",
		Strength: gate.Read, Because: scene.FactIDs(from), Vantage: v.Client,
		Summary: fmt.Sprintf(
			"port %d speaks %s, not %s",
			t.Target.Port,
			strings.ToUpper(spoke),
			strings.ToUpper(v.Ask.Endpoint.Scheme),
		),
		Values: v.Place(
			t,
			catalogue.Values{"spoke": spoke, "server": v.Answering(t), "scheme": v.Ask.Endpoint.Scheme},
		),
	}, true
}

// unknownReading reads a program that holds the port on the server and speaks what nobody
// recognises, in place of the endpoint's protocol.
func unknownReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	from, holders := cmp.Or(t.Climb.Reply, t.Climb.Handshake), v.Taking(t)
	if from == nil || t.Server == "" || len(holders) == 0 || holders[0].Program == "" {
		return gate.Reading{}, false
	}
	return gate.Reading{
		Gate: gate.Listener, Cause: "answer/wrong-application",
		Strength: gate.Read, Because: scene.FactIDs(from), Vantage: v.Client,
		Summary: fmt.Sprintf("%s holds port %d, and does not speak %s", scene.Owner(holders[0]), t.Target.Port,
			strings.ToUpper(v.Ask.Endpoint.Scheme)),
		Lacks: []gate.Lack{{Guard: gate.OneMeaning, Why: "what it speaks instead is not known"}},
		Values: v.Place(
			t,
			catalogue.Values{"spoke": "something else", "server": v.Answering(t), "scheme": v.Ask.Endpoint.Scheme},
		),
	}, true
}

// spoke is the protocol that was recognised instead of the endpoint's.
func spoke(c scene.Climb) (string, *fact.Fact) {
	switch {
	case c.Reply != nil && c.Reply.Reply.Spoke != "":
		return c.Reply.Reply.Spoke, c.Reply
	case c.Handshake != nil && c.Handshake.Handshake.Spoke != "":
		return c.Handshake.Handshake.Spoke, c.Handshake
	case c.Greeting != nil:
		return c.Greeting.Greeting.Protocol, c.Greeting
	}
	return "", nil
}

// doorReading reads an application that says why it turns the connection away.
func doorReading(v *scene.Scene, t *scene.Try) (gate.Reading, bool) {
	code, text, from := "", "", (*fact.Fact)(nil)
	switch {
	case t.Climb.Greeting != nil && t.Climb.Greeting.Greeting.Refusal != "":
		from = t.Climb.Greeting
		code, text = from.Greeting.Code, from.Greeting.Refusal
	case t.Climb.Reply != nil && t.Climb.Reply.Reply.Code != "":
		from = t.Climb.Reply
		code, text = from.Reply.Code, from.Reply.Text
	}
	if from == nil {
		return gate.Reading{}, false
	}
	if m, ok := v.TalkMeans(text); ok && from.Reply != nil && from.Reply.Protocol == "talk" {
		return gate.Reading{
			Gate: gate.Door, Cause: m.Cause, Shows: []gate.Symptom{gate.ErrorAnswer}, Because: scene.FactIDs(from),
			Vantage: v.Client, Strength: gate.Coded,
			Summary: fmt.Sprintf("%s: %q", cmp.Or(m.Says, "it says what the card knows"), text),
			Values: v.Place(
				t,
				catalogue.Values{
					"server":  v.Answering(t),
					"account": cmp.Or(v.Ask.Account, "the account"),
					"client":  v.Host(v.Client),
					"source":  v.LocalAddress(t).String(),
				},
			),
		}, true
	}
	for _, row := range v.Protocol.Door {
		if row.Code != "" && row.Code != code || !strings.Contains(text, row.Text) {
			continue
		}
		return gate.Reading{
			Gate:     gate.Door,
			Cause:    row.Cause,
			Strength: gate.Read,
			Shows:    []gate.Symptom{gate.ServerFirstRefused, gate.ErrorAnswer},
			Because:  scene.FactIDs(from),
			Vantage:  v.Client,
			Summary:  fmt.Sprintf("%s: %s", row.Says, strings.TrimSpace(code+" "+text)),
			Values: v.Place(
				t,
				catalogue.Values{
					"server":  v.Answering(t),
					"account": cmp.Or(v.Ask.Account, "the account"),
					"client":  v.Host(v.Client),
				},
			),
		}, true
	}
	return ownWords(v, t, from, strings.TrimSpace(code+" "+text))
}

// ownWords reads a refusal by what servers of all kinds say.
func ownWords(v *scene.Scene, t *scene.Try, from *fact.Fact, text string) (gate.Reading, bool) {
	m, ok := program.Refuses(text)
	if !ok {
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate:     gate.Door,
		Cause:    m.Cause,
		Shows:    []gate.Symptom{gate.ServerFirstRefused, gate.ErrorAnswer},
		Because:  scene.FactIDs(from),
		Vantage:  v.Client,
		Strength: gate.Coded,
		Summary:  fmt.Sprintf("%s: %q", m.Says, text),
		Values: v.Place(
			t,
			catalogue.Values{
				"server":  v.Answering(t),
				"account": cmp.Or(v.Ask.Account, "the account"),
				"client":  v.Host(v.Client),
				"source":  v.LocalAddress(t).String(),
			},
		),
	}
	if !m.Sure {
		r.Strength = gate.Told
	}
	return r, true
}
