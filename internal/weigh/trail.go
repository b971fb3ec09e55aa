package weigh

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// trail puts the tries together: what they have in common, what differs, and
// what it means for the client.
func (v *view) trail(tries []*try) trail.Trail {
	e := v.ask.Endpoint
	t := trail.Trail{
		Format: trail.Format, ID: id(v.ask), Began: v.ask.Began, Ended: v.set.Ended, Incomplete: v.set.Incomplete,
		Endpoint: trail.Endpoint{Input: e.Input, Scheme: e.Scheme, Host: e.Host, Port: e.Port, Transport: e.Transport, Security: e.Security},
		Causes:   []trail.Cause{}, Evidence: []trail.Evidence{}, Behind: []trail.Behind{}, Command: v.ask.Command,
	}
	if v.ask.Card != nil {
		t.Card = v.ask.Card.Name
	}
	for _, at := range v.set.Vantages {
		if at.Implied && !v.isServer(tries, at.ID) {
			continue
		}
		t.Vantages = append(t.Vantages, trail.Vantage{ID: at.ID, Role: at.Role, Host: at.Host, Means: at.Means})
	}
	s := v.sum(tries)
	t.Causes = v.causes(s)
	t.Reached, t.Outcome = s.reached(), s.outcome(t.Causes)
	for _, rung := range trail.Ladder {
		t.Rungs = append(t.Rungs, v.finding(rung, s, t.Causes))
	}
	if t.Outcome == trail.OutcomeUnsure {
		t.Tell = v.tellApart(s, t.Causes)
	}
	for _, f := range v.set.Facts {
		t.Evidence = append(t.Evidence, trail.Evidence{ID: f.ID, Vantage: f.Vantage, At: f.At, Source: f.Source, Saw: f.Saw, Data: f.Payload()})
	}
	return t
}

func (v *view) isServer(tries []*try, vantage string) bool {
	return slices.ContainsFunc(tries, func(t *try) bool { return t.server == vantage || t.last().server == vantage })
}

// sum is all tries of an endpoint, seen together.
type sum struct {
	tries  []*try
	good   []*try // those that got their answer as they are
	decide []*try // those that decide: the good ones, if there are any
	causes []*judged
}

// sum merges the tries. One good address saves the endpoint, and those that
// fail beside it are a doubt.
func (v *view) sum(tries []*try) sum {
	tries = v.usable(tries)
	s := sum{tries: tries}
	for _, t := range tries {
		if t.fine() {
			s.good = append(s.good, t)
		}
	}
	s.decide = s.good
	if len(s.good) == 0 {
		s.decide = tries
	}
	for _, t := range tries {
		saved := len(s.good) > 0 && !t.fine()
		for _, j := range t.causes() {
			if saved {
				j.blocking, j.Harmless = false, true
				if j.certainty == trail.Possible {
					continue
				}
			}
			s.causes = append(s.causes, j)
		}
	}
	if len(s.good) > 0 && len(s.good) < len(tries) {
		s.causes = append(s.causes, v.oneBad(s))
	}
	return s
}

// usable leaves out the tries of a family that the client does not have, if
// it has another.
func (v *view) usable(tries []*try) []*try {
	if len(tries) < 2 {
		return tries
	}
	list := slices.DeleteFunc(slices.Clone(tries), func(t *try) bool {
		a := t.target.Addr
		return a.IsValid() && !a.IsLoopback() && !v.hasFamily(a.Is6()) && t.symptom == NoRouteHere
	})
	if len(list) == 0 {
		return tries
	}
	return list
}

// fine reports whether the client itself got its answer at this address.
func (t *try) fine() bool {
	return t.instead == nil && t.symptom == Fine &&
		!slices.ContainsFunc(t.verdict.causes, func(j *judged) bool { return j.blocking })
}

// oneBad is the doubt of a name with an address that fails.
func (v *view) oneBad(s sum) *judged {
	var bad []string
	var because []string
	for _, t := range s.tries {
		if !t.fine() {
			bad = append(bad, fmt.Sprintf("%s (%s)", t.target.Addr, t.symptom))
			because = union(because, t.climb.ids())
		}
	}
	first := s.tries[0]
	text := fmt.Sprintf("%d of %d addresses fail: %s", len(bad), len(s.tries), strings.Join(bad, ", "))
	if !first.fine() {
		text += "; it is the first that clients try"
	}
	return &judged{Reading: Reading{Gate: Name, Cause: "names/one-bad-address", Harmless: true, Because: because, Vantage: v.client,
		Summary: text, Values: values{"name": first.target.Name, "client": v.host(v.client), "addr": firstBad(s).String()}},
		certainty: trail.Proven}
}

// firstBad is the first address that fails.
func firstBad(s sum) netip.Addr {
	return s.tries[slices.IndexFunc(s.tries, func(t *try) bool { return !t.fine() })].target.Addr
}

// causes are the contract's causes: merged over addresses, put in order, and
// given keys.
func (v *view) causes(s sum) []trail.Cause {
	merged := mergeCauses(s.causes)
	slices.SortStableFunc(merged, func(a, b *judged) int {
		switch {
		case (len(a.maskedBy) == 0) != (len(b.maskedBy) == 0):
			return len(a.maskedBy) - len(b.maskedBy)
		case a.blocking != b.blocking && (a.certainty == trail.Possible) == (b.certainty == trail.Possible):
			return boolOrder(a.blocking, b.blocking)
		case a.certainty == trail.Possible && b.certainty == trail.Possible:
			return 0 // the table's order: how often each is the reason
		}
		return int(a.Gate) - int(b.Gate)
	})
	keys := map[*judged]string{}
	for i, j := range merged {
		keys[j] = fmt.Sprintf("c%d", i+1)
	}
	for _, j := range s.causes {
		if keys[j] == "" {
			keys[j] = keys[merged[slices.IndexFunc(merged, func(m *judged) bool { return same(m, j) })]]
		}
	}
	list := []trail.Cause{}
	for _, j := range merged {
		masked := []string{}
		for _, by := range j.maskedBy {
			if k := keys[by]; k != "" && k != keys[j] && !slices.Contains(masked, k) {
				masked = append(masked, k)
			}
		}
		slices.Sort(masked)
		because := j.Because
		if because == nil {
			because = []string{}
		}
		list = append(list, trail.Cause{
			Key: keys[j], ID: j.Cause, Rung: rungOf(j.Cause), Certainty: j.certainty, Blocking: j.blocking, Vantage: j.Vantage,
			MaskedBy: masked, Summary: j.Summary, Short: j.Short, Because: because, Remedies: v.remedies(j),
		})
	}
	return list
}

// remedies are offered for what is known to be there, not for candidates.
func (v *view) remedies(j *judged) []trail.Remedy {
	if j.certainty == trail.Possible {
		return []trail.Remedy{}
	}
	list := remediesFor(j.Cause, j.Values)
	if c := v.ask.Card; c != nil {
		for i := range list {
			for _, person := range c.Call {
				if person.Part == string(rungOf(j.Cause)) {
					list[i].Owner += "; call " + person.Who
				}
			}
			for _, page := range c.Links {
				if page.Part == string(rungOf(j.Cause)) {
					list[i].Owner += "; see " + page.URL
				}
			}
		}
	}
	return list
}

func boolOrder(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return -1
	}
	return 1
}

// same reports whether two addresses' causes are one: the same fault at the
// same place.
func same(a, b *judged) bool {
	return a.Cause == b.Cause && a.Vantage == b.Vantage && a.blocking == b.blocking && a.certainty == b.certainty
}

func mergeCauses(all []*judged) []*judged {
	var merged []*judged
	for _, j := range all {
		at := slices.IndexFunc(merged, func(m *judged) bool { return same(m, j) })
		if at < 0 {
			merged = append(merged, j)
			continue
		}
		merged[at].Because = union(merged[at].Because, j.Because)
	}
	return merged
}

func (s sum) reached() trail.Reached {
	if len(s.good) > 0 {
		return trail.Yes
	}
	for _, t := range s.tries {
		if t.symptom == NotTried && (t.instead == nil || !t.lookup.settled) {
			return trail.Unknown
		}
		// Silence of a service that may have nothing to say is no answer
		// either way, unless something was seen to stop what was sent.
		if t.symptom == Unasked && !slices.ContainsFunc(t.verdict.causes, func(j *judged) bool { return j.blocking }) {
			return trail.Unknown
		}
	}
	if len(s.tries) == 0 {
		return trail.Unknown
	}
	return trail.No
}

func (s sum) outcome(causes []trail.Cause) trail.Outcome {
	switch {
	case slices.ContainsFunc(causes, func(c trail.Cause) bool { return c.Blocking }):
		return trail.OutcomeFault
	case len(s.good) > 0:
		return trail.OutcomeClear
	}
	return trail.OutcomeUnsure
}

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
		f.State, f.Summary, f.Needs = trail.Unseen, "not asked for", "leave --only away"
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

var followText = map[Gate]string{Listener: "nothing listens", Name: "no address"}

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

// tellApart names the one look that would tell the possible causes apart.
func (v *view) tellApart(s sum, causes []trail.Cause) *trail.Tell {
	if len(s.tries) == 0 || len(causes) == 0 {
		return nil
	}
	t := s.tries[0].last()
	if t.server == "" {
		look := "at the server, over SSH, or through a record that uakari record --for makes there"
		if v.ask.Command == "" {
			return &trail.Tell{Look: look}
		}
		return &trail.Tell{Look: look, Command: v.ask.Command + " --at root@" + ShellWord(t.target.Name)}
	}
	return &trail.Tell{Look: "at the packet filters of both ends, as root", Command: "nft list ruleset"}
}
