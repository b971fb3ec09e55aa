package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

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
		// either way, unless something was seen to stop what was sent; nor is
		// a session that this program cannot make and the client's can.
		if (t.symptom == Unasked || t.symptom == SessionFailed) && !slices.ContainsFunc(t.verdict.causes, func(j *judged) bool { return j.blocking }) {
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

var followText = map[Gate]string{Listener: "nothing listens", Name: "no address"}

// tellApart names the one look that would tell the possible causes apart.
func (v *view) tellApart(s sum, causes []trail.Cause) *trail.Tell {
	if len(s.tries) == 0 || len(causes) == 0 {
		return nil
	}
	t := s.tries[0].last()
	if t.symptom == SessionFailed && s.reached() == trail.Unknown {
		return &trail.Tell{Look: "with the client's own program, whose library speaks what this one does not"}
	}
	if t.server == "" {
		look := "at the server, over SSH, or through a record that uakari record --for makes there"
		if v.ask.Command == "" {
			return &trail.Tell{Look: look}
		}
		return &trail.Tell{Look: look, Command: v.ask.Command + " --at root@" + ShellWord(t.target.Name)}
	}
	return &trail.Tell{Look: "at the packet filters of both ends, as root", Command: "nft list ruleset"}
}
