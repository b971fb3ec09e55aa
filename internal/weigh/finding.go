package weigh

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/protocol"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/login"
	"uakari/internal/weigh/rules"
	"uakari/internal/weigh/scene"
	"uakari/internal/weigh/settings"
)

// findingOf is the judgement of one rung.
func findingOf(v *scene.Scene, rung trail.Rung, s sum, causes []trail.Cause) trail.Finding {
	f := trail.Finding{Name: rung}
	for _, want := range []bool{true, false} {
		for _, c := range causes {
			if c.Rung == rung && c.Blocking == want {
				f.State, f.Summary = trail.Doubt, c.Summary
				if want {
					f.State = trail.Fault
				}
				return f
			}
		}
	}
	if len(v.Ask.Only) > 0 && !slices.Contains(v.Ask.Only, string(rung)) {
		f.State, f.Summary, f.Needs = trail.Unseen, trail.NotAsked, "leave --only away"
		return f
	}
	if why := moot(v, rung, s); why != "" {
		f.State, f.Summary = trail.Moot, why
		return f
	}
	if by, what := consequence(v, rung, s); by != nil && keyOf(causes, by) != "" {
		f.State, f.Summary = trail.Follows, what
		f.Follows = []string{keyOf(causes, by)}
		return f
	}
	if rung == trail.Answer && s.leftOut() {
		f.State, f.Summary = trail.Unseen, "it answers when it is asked without the parameters that hold a secret"
		f.Needs = "--in-the-clear, or a server that proves who it is"
		return f
	}
	if rung == trail.Answer && v.Scheme.Wire == "" && s.connects() {
		f.State, f.Summary = trail.Unseen, trail.OnlyConnects
		f.Needs = "the scheme of what is served there, or a card with talk:"
		return f
	}
	if rung == trail.Settings && len(s.decide) > 0 {
		last := s.decide[0].Last()
		if list := settings.NotRead(v, last); len(list) > 0 {
			f.State = trail.Unseen
			f.Summary = settings.Told(v, last.Target) + "; not read: " + strings.Join(list, ", ")
			f.Needs = "a trace that may read them there"
			return f
		}
	}
	if text, ok := clearOn(v, rung, s); ok {
		f.State, f.Summary = trail.Clear, text
		return f
	}
	f.State = trail.Unseen
	f.Summary, f.Needs = unseen(v, rung, s, causes)
	return f
}

// connects reports whether a bare port took the connection, and no more was asked.
func (s sum) connects() bool {
	return len(s.decide) > 0 && !slices.ContainsFunc(s.decide, func(t *scene.Try) bool {
		last := t.Last()
		asked := last.Climb.Reply != nil && last.Climb.Reply.Reply.Asked != fact.EmptyDatagram
		return !last.Symptom.Good() || asked || last.Verdict.Opened[gate.Answer] != nil
	})
}

// leftOut reports whether the question was not the whole one.
func (s sum) leftOut() bool {
	return slices.ContainsFunc(s.decide, func(t *scene.Try) bool {
		r := t.Last().Climb.Reply
		return r != nil && r.Reply.LeftOut
	})
}

func keyOf(causes []trail.Cause, j *gate.Judged) string {
	for _, c := range causes {
		if c.ID == j.Cause && c.Vantage == j.Vantage {
			return c.Key
		}
	}
	return ""
}

// moot says why a rung does not apply; "" if it does.
func moot(v *scene.Scene, rung trail.Rung, s sum) string {
	e := v.Ask.Endpoint
	_, literal := endpoint.Literal(e.Host)
	security := e.Security
	for _, t := range s.tries {
		security = t.Last().Target.Security
	}
	switch {
	case rung == trail.Names && literal:
		return "an address; no name to look up"
	case rung == trail.Certs && v.Protocol.HostKeys:
		return ""
	case rung == trail.Certs && security == fact.Plain:
		return "not encrypted"
	case rung == trail.Certs && security == fact.StartTLS && plainByChoice(v, s):
		return "the server offers no TLS, and the client does not insist"
	case rung == trail.Login && unshared(v):
		return ""
	case rung == trail.Login && v.Scheme.Wire == "" && (v.Ask.Card == nil || !v.Ask.Card.Talk.SignsIn()):
		return "nobody logs in to a bare " + e.Scheme + " endpoint"
	case rung == trail.Login && v.Scheme.Open:
		return "nobody signs in to " + strings.ToUpper(v.Scheme.Wire)
	}
	return ""
}

// unshared reports an endpoint that answers only who shares a secret with it, and none was
// given.
func unshared(v *scene.Scene) bool {
	return protocol.Spoken(v.Ask.Endpoint.Scheme).Shared && !v.Ask.Shared
}

// plainByChoice reports whether sessions went on unencrypted because the
// upgrade was not offered, to a client that does not insist on it.
func plainByChoice(v *scene.Scene, s sum) bool {
	return !v.Ask.Endpoint.Verify && slices.ContainsFunc(s.decide, func(t *scene.Try) bool {
		u := t.Sessions.Upgrade
		return u != nil && u.Upgrade.Ending == fact.Done && !u.Upgrade.Offered
	})
}

// consequence is the cause that a rung's failure follows from, and how the
// failure looks.
func consequence(v *scene.Scene, rung trail.Rung, s sum) (*gate.Judged, string) {
	for _, t := range s.decide {
		last := t.Last()
		for _, g := range gate.RungGates[rung].List() {
			if by := last.Verdict.Drop[g]; by != nil && catalogue.RungOf(by.Cause) != rung &&
				!last.Verdict.Open.Has(g) {
				return by, followText[g]
			}
		}
		if rung != trail.Answer || last.Sessions.Reply != nil && last.Sessions.Reply.Reply.Ending == fact.Done {
			continue
		}
		for _, j := range t.Causes() {
			// What the client's own program goes by does not bear on a try that was answered.
			apart := last.Symptom.Good() && j.Reach == gate.Elsewhere
			if j.Blocking && j.Gate < gate.Answer && !apart {
				return j, followText[gate.Answer]
			}
		}
	}
	return nil, ""
}

// clearOn tells a rung on which every gate is open, in all tries that decide.
func clearOn(v *scene.Scene, rung trail.Rung, s sum) (string, bool) {
	if len(s.decide) == 0 {
		return "", false
	}
	for _, t := range s.decide {
		last := t.Last()
		open := last.Verdict.Open
		if rung == trail.Service && last.Running != "" {
			open |= gate.Of(gate.Listener)
		}
		if rung == trail.Login && v.Ask.Account == "" || gate.RungGates[rung]&^open != 0 {
			return "", false
		}
	}
	return clearText(v, rung, s.decide[0].Last()), true
}

// clearText tells what was found on a clear rung, in the words of the reading
// that says most.
func clearText(v *scene.Scene, rung trail.Rung, t *scene.Try) string {
	if rung == trail.Service && t.Running != "" {
		return t.Running
	}
	for _, g := range slices.Backward(gate.RungGates[rung].List()) {
		if r := t.Verdict.Opened[g]; r != nil && g != gate.Room && rung != trail.Rules {
			return r.Summary
		}
	}
	switch rung {
	case trail.Settings:
		return settings.Told(v, t.Target)
	case trail.Service:
		return "it takes connections"
	case trail.Ports:
		return endpoint.HostPort(t.Target.Addr.String(), t.Target.Port) + " takes connections"
	case trail.Rules:
		return "the connection passes, and its reply"
	case trail.Names:
		return t.Lookup.Says(t.Target.Addr)
	case trail.Certs:
		return "the session comes up"
	}
	return t.Symptom.String()
}

// unseen says why a rung could not be seen, and what would show it.
func unseen(v *scene.Scene, rung trail.Rung, s sum, causes []trail.Cause) (why, needs string) {
	server := false
	for _, t := range s.tries {
		server = server || t.Last().Server != ""
	}
	behind := len(causes) > 0 && causes[0].Blocking
	switch rung {
	case trail.Login:
		if unshared(v) {
			return "the server answers none that shares no secret with it, and none was given", "--shared-secret"
		}
		if why, needs := login.Untried(v, s.tries); v.Ask.Account != "" && why != "" {
			return why, needs
		}
		if v.Ask.Account != "" {
			return "the connection did not get so far", ""
		}
		for _, t := range s.tries {
			if r := t.Last().Sessions.Reply; r != nil && len(r.Reply.Ways) > 0 {
				return "not tried; the server offers " + strings.Join(
					r.Reply.Ways,
					", ",
				), "--user NAME with --secret"
			}
		}
		return "not tried", "--user NAME with --secret"
	case trail.Certs, trail.Answer:
		if behind {
			return "hidden behind " + causes[0].ID, "that fixed first"
		}
		if s.tookTrust() {
			return "the client's trust store could not be read", "--trust FILE"
		}
		return "the connection did not get so far", ""
	case trail.Rules:
		return unseenRules(v, s)
	case trail.Service, trail.Ports:
		if !server {
			if says := machineSays(v, s); says != "" {
				return "the server was not seen; " + says, "a trace run there"
			}
			return "the server was not seen", "a trace run there"
		}
		for _, t := range s.tries {
			if f := v.Failed(t.Last().Server, fact.LookListeners); f != nil {
				return f.Failed.What + ": " + f.Failed.Why, f.Failed.Needs
			}
		}
		return "nothing seen on the server shows it", ""
	case trail.Names:
		if !server {
			return s.gave() + "; whose address that is was not seen", "a trace run there"
		}
	case trail.Settings:
		if !server {
			return toldTo(v) + "; nothing confirms it", "a trace run on the server"
		}
		return toldTo(v) + "; nothing confirms it", ""
	}
	return "not enough was seen", ""
}

// machineSays is what the sheets say of the machine of an address: its power, its
// checks, where its screen is to be seen, and when that was so.
func machineSays(v *scene.Scene, s sum) string {
	for _, t := range s.tries {
		for _, sheet := range v.Ask.Sheets {
			for _, m := range sheet.Machines {
				if m.Address != t.Target.Addr.Unmap().String() {
					continue
				}
				text := fmt.Sprintf("%s is %s", cmp.Or(m.Name, m.Address), m.Power)
				if m.Checks != "" {
					text += ", its checks " + m.Checks
				}
				text += fmt.Sprintf(" %s ago, says sheet %s", foreign.Span(max(0, v.Ask.Began.Sub(m.At))), sheet.Name)
				if m.Console != "" {
					text += "; its console: " + m.Console
				}
				return text
			}
		}
	}
	return ""
}

// unseenRules says which of the two ends' filters were not read, or why they
// do not decide.
func unseenRules(v *scene.Scene, s sum) (why, needs string) {
	var ends []string // vantages, a host each
	between := false
	for _, t := range s.tries {
		both := []string{v.Client, t.Last().Server}
		if t.Last().Server == "" {
			return "the server's packet filters were not read", "a trace run there, as root"
		}
		if v.OnSame(t.Last()) {
			both = both[:1]
		} else {
			between = true
		}
		for _, at := range both {
			if !slices.Contains(ends, at) {
				ends = append(ends, at)
			}
		}
	}
	var unread []string
	for _, at := range ends {
		if rules.TablesOf(v, at) != nil {
			continue
		}
		unread = append(unread, v.Host(at))
		if f := v.Failed(at, fact.LookTables); f != nil && f.Failed.Needs != "" {
			needs = f.Failed.Needs + " on " + v.Host(at)
		}
	}
	if len(unread) > 0 {
		return "the packet filters of " + strings.Join(unread, " and ") + " were not read", cmp.Or(needs, "root")
	}
	for _, at := range ends {
		if why := rules.Beside(v, at, rules.FilterHost(v, at)); why != "" {
			return "the tables of " + v.Host(at) + " do not tell all: " + why, ""
		}
	}
	if !between {
		return "nothing in the tables of " + v.Host(
			v.Client,
		) + " stops it; only a connection proves the rest", "that fixed first"
	}
	return "nothing in the tables of both ends stops it; the network between was not read",
		"the gateways, by --at gateway=USER@HOST or --record gateway=FILE"
}

func toldTo(v *scene.Scene) string {
	e := v.Ask.Endpoint
	return settings.Told(v, fact.Target{Name: e.Host, Port: e.Port, Scheme: e.Scheme, Security: e.Security})
}

// gave is where the name led.
func (s sum) gave() string {
	for _, t := range s.tries {
		if t.Lookup != nil && t.Target.Addr.IsValid() {
			return t.Lookup.Says(t.Target.Addr)
		}
	}
	return "no address"
}

// tookTrust reports whether a session came up whose chain nobody could judge.
func (s sum) tookTrust() bool {
	return slices.ContainsFunc(s.tries, func(t *scene.Try) bool {
		return t.Sessions.Handshake != nil && t.Sessions.Handshake.Handshake.Ending == fact.Done &&
			t.Sessions.Trust == nil
	})
}
