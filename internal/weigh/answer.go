package weigh

import (
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// answerReadings reads the answer gate, the door where the application itself
// says why it turns somebody away, and who it is that answers.
func (v *view) answerReadings(w *wants, t *try) []Reading {
	var readings []Reading
	if r, ok := v.strangerReading(t); ok {
		readings = append(readings, r)
	}
	if r, ok := v.doorReading(t); ok {
		readings = append(readings, r)
	}
	c := t.sessions
	if c.reply == nil || c.reply.Reply.Ending != fact.Done {
		return readings
	}
	reply := *c.reply.Reply
	problem := answerProblem(reply, v.scheme)
	r := Reading{Gate: Answer, Because: factIDs(c.reply), Vantage: c.reply.Vantage, Summary: replyText(reply) + t.seen()}
	if problem == "" {
		return append(readings, r)
	}
	r.Cause, r.Summary = "answer/error-status", problem+t.seen()
	r.Values = v.place(t, values{"status": problem, "server": v.answering(t), "owner": reply.Program})
	if reply.Status == 403 && v.differsForServer(w, t) {
		r.Cause = "answer/source-refused"
		r.Summary = fmt.Sprintf("it answers %s with 403, and its own host without", v.host(v.client))
	}
	if hop, ok := v.hopReading(w, t, r, reply); ok {
		return append(readings, hop)
	}
	r.Harmless = onlyMissing(reply, c.target)
	return append(readings, r)
}

// answering is the name of the host that answers, as far as it is known.
func (v *view) answering(t *try) string {
	if t.server != "" {
		return v.host(t.server)
	}
	return t.target.Name
}

// seen says that something was seen by the server's own try.
func (t *try) seen() string {
	if t.ownTry {
		return " (seen on the server)"
	}
	return ""
}

// differsForServer compares a refusal with what the server's own try gets.
func (v *view) differsForServer(w *wants, t *try) bool {
	if t.server == "" || v.onSame(t) {
		return false
	}
	w.add(Want{Look: fact.LookSession, At: fact.Server, On: t.server, Target: t.target, Gate: Door})
	own, ok := v.climbs[seat{t.server, t.target}]
	return ok && own.reply != nil && own.reply.Reply.Ending == fact.Done && own.reply.Reply.Status != 403
}

// answerProblem is what is wrong with a complete reply; "" if nothing is. A
// server that wants an account first is well.
func answerProblem(r fact.Reply, scheme endpoint.Scheme) string {
	switch {
	case r.Refused:
		return ""
	case r.Protocol == "http" && r.Status >= 400:
		return strings.TrimSpace(fmt.Sprintf("%d %s", r.Status, r.Reason))
	case r.Protocol != "http" && r.Code != "":
		return strings.TrimSpace(r.Code + " " + r.Text)
	}
	return ""
}

func replyText(r fact.Reply) string {
	took := fmt.Sprintf(" in %.0f ms", max(1, r.FirstMS-r.SentMS))
	switch {
	case r.Refused:
		return "it wants an account first" + took
	case r.Protocol == "http" && r.Location != "":
		return fmt.Sprintf("%d to %s%s", r.Status, r.Location, took)
	case r.Protocol == "http":
		return fmt.Sprint(r.Status) + took
	}
	return r.Protocol + " answers" + took
}

// strangerReading reads another protocol than the endpoint's.
func (v *view) strangerReading(t *try) (Reading, bool) {
	if t.symptom != OtherProtocol {
		return Reading{}, false
	}
	spoke, from := t.climb.spoke()
	if spoke == "" || spoke == v.scheme.Wire || spoke == "tls" {
		return Reading{}, false
	}
	return Reading{
		Gate: Listener, Cause: "answer/wrong-application", Because: factIDs(from), Vantage: v.client,
		Summary: fmt.Sprintf("port %d speaks %s, not %s", t.target.Port, strings.ToUpper(spoke), strings.ToUpper(v.ask.Endpoint.Scheme)),
		Values:  v.place(t, values{"spoke": spoke, "server": v.answering(t), "scheme": v.ask.Endpoint.Scheme}),
	}, true
}

// spoke is the protocol that was recognised instead of the endpoint's.
func (c climb) spoke() (string, *fact.Fact) {
	switch {
	case c.reply != nil && c.reply.Reply.Spoke != "":
		return c.reply.Reply.Spoke, c.reply
	case c.handshake != nil && c.handshake.Handshake.Spoke != "":
		return c.handshake.Handshake.Spoke, c.handshake
	case c.greeting != nil:
		return c.greeting.Greeting.Protocol, c.greeting
	}
	return "", nil
}

// doorCodes are refusals by which an application says outright that it is
// the source which it does not want: MariaDB's ER_HOST_NOT_PRIVILEGED, and
// Redis' protected mode.
var doorCodes = map[string][]string{"mysql": {"1130"}, "redis": {"DENIED"}}

// doorReading reads an application that names this client's address as the
// reason.
func (v *view) doorReading(t *try) (Reading, bool) {
	code, text, from := "", "", (*fact.Fact)(nil)
	switch {
	case t.climb.greeting != nil && t.climb.greeting.Greeting.Refusal != "":
		from = t.climb.greeting
		code, text = from.Greeting.Code, from.Greeting.Refusal
	case t.climb.reply != nil && t.climb.reply.Reply.Code != "":
		from = t.climb.reply
		code, text = from.Reply.Code, from.Reply.Text
	}
	if from == nil || !slices.Contains(doorCodes[v.scheme.Wire], code) {
		return Reading{}, false
	}
	return Reading{
		Gate: Door, Cause: "answer/source-refused", Shows: []Symptom{ServerFirstRefused, ErrorAnswer}, Because: factIDs(from), Vantage: v.client,
		Summary: fmt.Sprintf("it refuses this client's address: %s", text),
		Values:  v.place(t, values{"server": v.answering(t)}),
	}, true
}
