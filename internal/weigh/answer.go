package weigh

import (
	"fmt"
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
	r.Values = v.place(t, values{"status": problem, "server": v.answering(t), "owner": reply.Program})
	if other, ok := v.expectedAnswer(r, reply); ok {
		return append(readings, other)
	}
	if problem == "" {
		if away, ok := v.redirectReading(w, t, reply); ok {
			readings = append(readings, away)
		}
		return append(readings, r)
	}
	r.Cause, r.Summary = "answer/error-status", problem+t.seen()
	if early, ok := v.notReadyReading(t, r, reply); ok {
		return append(readings, early)
	}
	if reply.Status == 403 && v.differsForServer(w, t) {
		r.Cause = "answer/source-refused"
		r.Summary = fmt.Sprintf("it answers %s with 403, and its own host without", v.host(v.client))
	}
	if hop, ok := v.hopReading(w, t, r, reply); ok {
		return append(readings, hop)
	}
	if path, ok := v.pathReading(w, t, r, reply); ok {
		return append(readings, path)
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

// doorCodes are refusals by which an application says outright why it turns a
// connection away before any account: errors of MariaDB and MySQL (their
// manuals), of Redis, of PostgreSQL (appendix A), replies of mail servers (RFC 5321), and what OpenSSH writes in place of its greeting.
var doorCodes = map[string][]struct{ code, text, cause, says string }{
	"mysql": {{"1130", "", "answer/source-refused", "it refuses this client's address"}, {"1129", "", "login/host-blocked", "it blocks this client's host after earlier errors"},
		{"1040", "", "login/too-many-sessions", "it has no session left"}, {"1053", "", "answer/not-ready", "it is stopping"}},
	"redis":    {{"DENIED", "", "answer/source-refused", "it refuses this client's address"}, {"ERR", "max number of clients", "login/too-many-sessions", "it has no session left"}, {"LOADING", "", "answer/not-ready", "it is still reading its data"}},
	"postgres": {{"53300", "", "login/too-many-sessions", "it has no session left"}, {"57P03", "", "answer/not-ready", "it is not ready"}, {"57P01", "", "answer/not-ready", "it is stopping"}},
	"smtp":     {{"421", "oo many", "login/too-many-sessions", "it has no session left for this client"}},
	"imap":     {{"", "Auth process broken", "login/directory-down", "what it checks accounts with does not run"}, {"", "oo many", "login/too-many-sessions", "it has no session left for this client"}, {"", "aximum number of connections", "login/too-many-sessions", "it has no session left for this client"}},
	"ssh":      {{"", "Exceeded MaxStartups", "login/too-many-sessions", "too many others are about to log in"}, {"", "Not allowed at this time", "login/host-blocked", "it blocks this client's host after earlier failures"}},
}

// doorReading reads an application that says why it turns the connection away.
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
	if from == nil {
		return Reading{}, false
	}
	for _, row := range doorCodes[v.scheme.Wire] {
		if row.code != "" && row.code != code || !strings.Contains(text, row.text) {
			continue
		}
		return Reading{
			Gate: Door, Cause: row.cause, Shows: []Symptom{ServerFirstRefused, ErrorAnswer}, Because: factIDs(from), Vantage: v.client,
			Summary: fmt.Sprintf("%s: %s", row.says, strings.TrimSpace(code+" "+text)),
			Values:  v.place(t, values{"server": v.answering(t), "account": orElse(v.ask.Account, "the account"), "client": v.host(v.client)}),
		}, true
	}
	return Reading{}, false
}
