package weigh

import (
	"cmp"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// finding is the judgement of one rung.
func (v *view) finding(rung trail.Rung, s sum, causes []trail.Cause) trail.Finding {
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
	if len(v.ask.Only) > 0 && !slices.Contains(v.ask.Only, string(rung)) {
		f.State, f.Summary, f.Needs = trail.Unseen, trail.NotAsked, "leave --only away"
		return f
	}
	if why := v.moot(rung, s); why != "" {
		f.State, f.Summary = trail.Moot, why
		return f
	}
	if by, what := v.consequence(rung, s); by != nil && keyOf(causes, by) != "" {
		f.State, f.Summary = trail.Follows, what
		f.Follows = []string{keyOf(causes, by)}
		return f
	}
	if text, ok := v.clear(rung, s); ok {
		f.State, f.Summary = trail.Clear, text
		return f
	}
	f.State = trail.Unseen
	f.Summary, f.Needs = v.unseen(rung, s, causes)
	return f
}

func keyOf(causes []trail.Cause, j *judged) string {
	for _, c := range causes {
		if c.ID == j.Cause && c.Vantage == j.Vantage {
			return c.Key
		}
	}
	return ""
}

// moot says why a rung does not apply; "" if it does.
func (v *view) moot(rung trail.Rung, s sum) string {
	e := v.ask.Endpoint
	_, literal := endpoint.Literal(e.Host)
	security := e.Security
	for _, t := range s.tries {
		security = t.last().target.Security
	}
	switch {
	case rung == trail.Names && literal:
		return "an address; no name to look up"
	case rung == trail.Certs && v.scheme.Wire == "ssh":
		return ""
	case rung == trail.Certs && security == fact.Plain:
		return "not encrypted"
	case rung == trail.Certs && security == fact.StartTLS && v.plainByChoice(s):
		return "the server offers no TLS, and the client does not insist"
	case rung == trail.Login && v.scheme.Wire == "":
		return "nobody logs in to a bare " + e.Scheme + " endpoint"
	case rung == trail.Login && v.scheme.Open:
		return "nobody signs in to " + strings.ToUpper(v.scheme.Wire)
	case rung == trail.Answer && v.scheme.Wire == "":
		return "a bare " + e.Scheme + " endpoint is not asked anything"
	}
	return ""
}

// plainByChoice reports whether sessions went on unencrypted because the
// upgrade was not offered, to a client that does not insist on it.
func (v *view) plainByChoice(s sum) bool {
	return !v.ask.Endpoint.Verify && slices.ContainsFunc(s.decide, func(t *try) bool {
		u := t.sessions.upgrade
		return u != nil && u.Upgrade.Ending == fact.Done && !u.Upgrade.Offered
	})
}

// consequence is the cause that a rung's failure follows from, and how the
// failure looks.
func (v *view) consequence(rung trail.Rung, s sum) (*judged, string) {
	for _, t := range s.decide {
		last := t.last()
		for _, g := range rungGates[rung].list() {
			if by := last.verdict.drop[g]; by != nil && rungOf(by.Cause) != rung && !last.verdict.open.has(g) {
				return by, followText[g]
			}
		}
		if rung != trail.Answer || last.sessions.reply != nil && last.sessions.reply.Reply.Ending == fact.Done {
			continue
		}
		for _, j := range t.causes() {
			if j.blocking && j.Gate < Answer {
				return j, "no answer while that stands"
			}
		}
	}
	return nil, ""
}

// clear tells a rung on which every gate is open, in all tries that decide.
func (v *view) clear(rung trail.Rung, s sum) (string, bool) {
	if len(s.decide) == 0 {
		return "", false
	}
	for _, t := range s.decide {
		last := t.last()
		open := last.verdict.open
		if rung == trail.Service && last.running != "" {
			open |= gates(Listener)
		}
		if rung == trail.Login && v.ask.Account == "" || rungGates[rung]&^open != 0 {
			return "", false
		}
	}
	return v.clearText(rung, s.decide[0].last()), true
}

// clearText tells what was found on a clear rung, in the words of the reading
// that says most.
func (v *view) clearText(rung trail.Rung, t *try) string {
	if rung == trail.Service && t.running != "" {
		return t.running
	}
	for _, g := range slices.Backward(rungGates[rung].list()) {
		if r := t.verdict.opened[g]; r != nil && g != Room && rung != trail.Rules {
			return r.Summary
		}
	}
	switch rung {
	case trail.Settings:
		return v.told(t.target)
	case trail.Service:
		return "it takes connections"
	case trail.Ports:
		return endpoint.HostPort(t.target.Addr.String(), t.target.Port) + " takes connections"
	case trail.Rules:
		return "the connection passes, and its reply"
	case trail.Names:
		return t.lookup.says(t.target.Addr)
	case trail.Certs:
		return "the session comes up"
	}
	return t.symptom.String()
}

// unseen says why a rung could not be seen, and what would show it.
func (v *view) unseen(rung trail.Rung, s sum, causes []trail.Cause) (why, needs string) {
	server := false
	for _, t := range s.tries {
		server = server || t.last().server != ""
	}
	behind := len(causes) > 0 && causes[0].Blocking
	switch rung {
	case trail.Login:
		if why := v.untriedLogin(); why != "" {
			return why, ""
		}
		if v.ask.Account != "" {
			return "the connection did not get so far", ""
		}
		for _, t := range s.tries {
			if r := t.last().sessions.reply; r != nil && len(r.Reply.Ways) > 0 {
				return "no account was tried; the server offers " + strings.Join(r.Reply.Ways, ", "), "--user NAME with --secret"
			}
		}
		return "no account was tried", "--user NAME with --secret"
	case trail.Certs, trail.Answer:
		if behind {
			return "hidden behind " + causes[0].ID, "mending that first"
		}
		if s.tookTrust() {
			return "the client's trust store could not be read", "--trust FILE"
		}
		return "the connection did not get so far", ""
	case trail.Rules:
		return v.unseenRules(s)
	case trail.Service, trail.Ports:
		if !server {
			return "the server was not seen", "a trace run there"
		}
		for _, t := range s.tries {
			if f := v.failed(t.last().server, fact.LookListeners); f != nil {
				return f.Failed.What + ": " + f.Failed.Why, f.Failed.Needs
			}
		}
		return "not told by what was seen on the server", ""
	case trail.Names:
		if !server {
			return s.gave() + "; whose address that is was not seen", "a trace run there"
		}
	case trail.Settings:
		if !server {
			return v.toldTo() + "; nothing confirms it", "a trace run on the server"
		}
		return v.toldTo() + "; nothing confirms it", ""
	}
	return "not enough was seen", ""
}

// unseenRules says which of the two ends' filters were not read, or why they
// do not decide.
func (v *view) unseenRules(s sum) (why, needs string) {
	var ends []string // vantages, a host each
	between := false
	for _, t := range s.tries {
		both := []string{v.client, t.last().server}
		if t.last().server == "" {
			return "the server's packet filters were not read", "a trace run there, as root"
		}
		if v.onSame(t.last()) {
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
		if v.tablesOf(at) != nil {
			continue
		}
		unread = append(unread, v.host(at))
		if f := v.failed(at, fact.LookTables); f != nil && f.Failed.Needs != "" {
			needs = f.Failed.Needs + " on " + v.host(at)
		}
	}
	if len(unread) > 0 {
		return "the packet filters of " + strings.Join(unread, " and ") + " were not read", cmp.Or(needs, "root")
	}
	for _, at := range ends {
		if why := v.beside(at, v.filterHost(at)); why != "" {
			return "the tables of " + v.host(at) + " do not tell all: " + why, ""
		}
	}
	if !between {
		return "nothing in the tables of " + v.host(v.client) + " stops it; only a connection proves the rest", "mending that first"
	}
	return "nothing in the tables of both ends stops it; the network between was not read", "the gateways, by --at gateway=USER@HOST or --record gateway=FILE"
}

func (v *view) toldTo() string {
	e := v.ask.Endpoint
	return v.told(fact.Target{Name: e.Host, Port: e.Port, Scheme: e.Scheme, Security: e.Security})
}

// gave is where the name led.
func (s sum) gave() string {
	for _, t := range s.tries {
		if t.lookup != nil && t.target.Addr.IsValid() {
			return t.lookup.says(t.target.Addr)
		}
	}
	return "no address"
}

// tookTrust reports whether a session came up whose chain nobody could judge.
func (s sum) tookTrust() bool {
	return slices.ContainsFunc(s.tries, func(t *try) bool {
		return t.sessions.handshake != nil && t.sessions.handshake.Handshake.Ending == fact.Done && t.sessions.trust == nil
	})
}
