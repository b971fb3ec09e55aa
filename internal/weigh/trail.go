package weigh

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/rules"
	"uakari/internal/weigh/scene"
)

// sum is all tries of an endpoint, seen together.
type sum struct {
	tries  []*scene.Try
	good   []*scene.Try // those that got their answer as they are
	decide []*scene.Try // those that decide: the good ones, if there are any
	causes []*gate.Judged
}

var followText = map[gate.Gate]string{
	gate.Intent: "the client was not told otherwise", gate.Name: "no address",
	gate.WayOut: "nothing leaves while that stands", gate.Way: "nothing passes while that stands",
	gate.Host:  "no host while that stands",
	gate.WayIn: "nothing comes in while that stands", gate.Listener: "nothing listens",
	gate.Room: "no room while that stands",
	gate.Door: "turned away while that stands", gate.WayBack: "no reply while that stands",
	gate.Session: "no session while that stands",
	gate.Account: "no login while that stands", gate.Answer: "no answer while that stands",
}

// trailOf puts the tries together: what they have in common, what differs, and
// what it means for the client.
func trailOf(v *scene.Scene, tries []*scene.Try) trail.Trail {
	e := v.Ask.Endpoint
	t := trail.Trail{
		Format: trail.Format, ID: id(v.Ask), Began: v.Ask.Began, Ended: v.Set.Ended, Incomplete: v.Set.Incomplete,
		Endpoint: trail.Endpoint{
			Input:     e.Input,
			Scheme:    e.Scheme,
			Host:      e.Host,
			Port:      e.Port,
			Transport: e.Transport,
			Security:  e.Security,
		},
		Causes: []trail.Cause{}, Evidence: []trail.Evidence{}, Behind: []trail.Behind{}, Command: v.Ask.Command,
	}
	if v.Ask.Card != nil {
		t.Card = v.Ask.Card.Name
	}
	for _, f := range v.Set.Facts {
		if f.Failed != nil && f.Failed.CutOff {
			t.CutOff = append(t.CutOff, v.Host(f.Vantage)+": "+f.Saw)
		}
	}
	for _, at := range v.Set.Vantages {
		if at.Implied && !isServer(v, tries, at.ID) {
			continue
		}
		t.Vantages = append(t.Vantages, trail.Vantage{ID: at.ID, Role: at.Role, Host: at.Host, Means: at.Means})
	}
	s := sumOf(v, tries)
	t.Causes = causesOf(v, s)
	for _, rung := range trail.Ladder {
		t.Rungs = append(t.Rungs, findingOf(v, rung, s, t.Causes))
	}
	t.Symptom, t.Account, t.Accepted = s.symptom(), v.Ask.Account, accepted(v)
	t.Answers = s.answers()
	t.Signs = signsOf(v, s)
	t.Untried = untried(v, s, t)
	t.Outcome, t.Reached = trail.Judge(s.reached(), len(t.Blocking()) > 0, len(t.Untried) > 0)
	t.Says = saysOf(v.Ask.Error, t)
	t.Way = v.Ask.Endpoint.Way
	known := func(id string) bool { _, ok := catalogue.Explain(id); return ok }
	if s, ok := t.Suspect(v.Ask.Suspect, known); ok {
		t.Suspected = &s
	}
	if t.Outcome == trail.OutcomeUnsure {
		t.Tell = tellApart(v, s, t.Causes)
	}
	t.Links = linksOf(v, s.decide, t.Causes)
	for _, f := range v.All {
		t.Evidence = append(
			t.Evidence,
			trail.Evidence{ID: f.ID, Vantage: f.Vantage, At: f.At, Source: f.Source, Saw: f.Saw, Data: f.Payload()},
		)
	}
	return t
}

// linksOf is what was seen on the links of the hosts, where a cause rests on it.
func linksOf(v *scene.Scene, tries []*scene.Try, causes []trail.Cause) []trail.Sighting {
	rests := slices.ContainsFunc(v.All, func(f *fact.Fact) bool {
		return f.Packets != nil && slices.ContainsFunc(causes, func(c trail.Cause) bool {
			return slices.Contains(c.Because, f.ID)
		})
	})
	for _, t := range tries {
		if list := rules.Sightings(v, t); rests && len(list) > 0 {
			return list
		}
	}
	return nil
}

func isServer(v *scene.Scene, tries []*scene.Try, vantage string) bool {
	return slices.ContainsFunc(
		tries,
		func(t *scene.Try) bool { return t.Server == vantage || t.Last().Server == vantage },
	)
}

// sumOf merges the tries. One good address saves the endpoint, and those that
// fail beside it are a doubt.
func sumOf(v *scene.Scene, tries []*scene.Try) sum {
	tries = usable(v, tries)
	s := sum{tries: tries}
	var turned []*scene.Try // at which the account was rejected
	for _, t := range tries {
		switch {
		case rejects(t):
			turned = append(turned, t)
		case fine(t):
			s.good = append(s.good, t)
		}
	}
	switch {
	case len(turned) > 0: // an account that is rejected is so, wherever other addresses lead
		s.good, s.decide = nil, turned
	case len(s.good) > 0:
		s.decide = s.good
	default:
		s.decide = tries
	}
	for _, t := range tries {
		causes := t.Causes()
		if (len(s.good) > 0 || len(turned) > 0) && !slices.Contains(s.decide, t) {
			causes = gate.Saved(causes)
		}
		s.causes = append(s.causes, causes...)
	}
	if len(s.good) > 0 && slices.ContainsFunc(tries, s.isBad) {
		s.causes = append(s.causes, oneBad(v, s))
	}
	// What blocks is no doubt beside itself.
	all := slices.Clone(s.causes)
	s.causes = slices.DeleteFunc(s.causes, func(j *gate.Judged) bool {
		return j.Harmless &&
			slices.ContainsFunc(
				all,
				func(o *gate.Judged) bool { return o.Blocking && o.Cause == j.Cause && o.Vantage == j.Vantage },
			)
	})
	return s
}

// isBad reports whether a try was made, and failed.
func (s sum) isBad(t *scene.Try) bool { return !s.isGood(t) && len(t.Climb.IDs()) > 0 }

// isGood reports whether a try is among those that got their answer.
func (s sum) isGood(t *scene.Try) bool { return slices.Contains(s.good, t) }

// usable leaves out the tries of a family that the client does not have, if
// it has another.
func usable(v *scene.Scene, tries []*scene.Try) []*scene.Try {
	if len(tries) < 2 {
		return tries
	}
	list := slices.DeleteFunc(slices.Clone(tries), func(t *scene.Try) bool {
		a := t.Target.Addr
		return a.IsValid() && !a.IsLoopback() && !v.HasFamily(a.Is6()) && t.Symptom == gate.NoRouteHere
	})
	if len(list) == 0 {
		return tries
	}
	return list
}

// fine reports whether the client itself got its answer at this address.
func fine(t *scene.Try) bool {
	return t.Instead == nil && t.Symptom.Good() &&
		!slices.ContainsFunc(t.Verdict.Causes, func(j *gate.Judged) bool { return j.Blocking })
}

// oneBad is the doubt of a name with an address that fails.
func oneBad(v *scene.Scene, s sum) *gate.Judged {
	var bad []string
	var because []string
	for _, t := range s.tries {
		if s.isBad(t) {
			bad = append(bad, fmt.Sprintf("%s (%s)", t.Target.Addr, t.Symptom))
			because = gate.Union(because, t.Climb.IDs())
		}
	}
	first := s.tries[0]
	text := fmt.Sprintf("%d of %d addresses fail: %s", len(bad), len(s.tries), strings.Join(bad, ", "))
	if s.isBad(first) {
		text += "; it is the first that clients try"
	}
	return gate.Judge(
		gate.Reading{
			Gate:     gate.Name,
			Cause:    "names/one-bad-address",
			Strength: gate.Read,
			Harmless: true,
			Because:  because,
			Vantage:  v.Client,
			Summary:  text,
			Values: catalogue.Values{
				"name":   first.Target.Name,
				"client": v.Host(v.Client),
				"addr":   firstBad(s).String(),
			},
		},
	)
}

// firstBad is the first address that fails.
func firstBad(s sum) netip.Addr {
	return s.tries[slices.IndexFunc(s.tries, s.isBad)].Target.Addr
}

// causesOf are the contract's causes: merged over addresses, put in order, and
// given keys.
func causesOf(v *scene.Scene, s sum) []trail.Cause {
	merged := mergeCauses(s.causes)
	slices.SortStableFunc(merged, func(a, b *gate.Judged) int {
		switch {
		case (len(a.MaskedBy) == 0) != (len(b.MaskedBy) == 0):
			return len(a.MaskedBy) - len(b.MaskedBy)
		case a.Blocking != b.Blocking && a.Certainty.Guess() == b.Certainty.Guess():
			return boolOrder(a.Blocking, b.Blocking)
		case catalogue.FixedAfter(a.Cause, b.Cause):
			return 1
		case catalogue.FixedAfter(b.Cause, a.Cause):
			return -1
		case a.Certainty.Guess() && b.Certainty.Guess():
			return 0 // the table's order: how often each is the reason
		}
		return int(a.Gate) - int(b.Gate)
	})
	keys := map[*gate.Judged]string{}
	for i, j := range merged {
		keys[j] = fmt.Sprintf("c%d", i+1)
	}
	for _, j := range s.causes {
		if keys[j] == "" {
			keys[j] = keys[merged[slices.IndexFunc(merged, func(m *gate.Judged) bool { return same(m, j) })]]
		}
	}
	list := []trail.Cause{}
	for _, j := range merged {
		masked := []string{}
		for _, by := range j.MaskedBy {
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
			Key: keys[j], ID: j.Cause, Rung: catalogue.RungOf(j.Cause), Certainty: j.Certainty, Blocking: j.Blocking,
			Vantage:  j.Vantage,
			MaskedBy: masked, Summary: j.Summary, Short: inWords(j.Lacks), Because: because,
			Remedies: remediesOf(v, j),
		})
	}
	return list
}

// inWords is guards that do not hold, in words.
func inWords(lacks []gate.Lack) []string {
	var list []string
	for _, l := range lacks {
		list = append(list, l.Why)
	}
	return list
}

// remediesOf are offered for what is known to be there, not for candidates.
func remediesOf(v *scene.Scene, j *gate.Judged) []trail.Remedy {
	if j.Certainty.Guess() {
		return []trail.Remedy{}
	}
	list := catalogue.Remedies(j.Cause, j.Values, func(host string) string {
		if j.Vantage != "" && v.Host(j.Vantage) == host { // others may be called alike
			return v.Vantage(j.Vantage).System
		}
		return v.SystemOf(host)
	})
	if c := v.Ask.Card; c != nil {
		for i := range list {
			for _, person := range c.Call {
				if person.Part == string(catalogue.RungOf(j.Cause)) {
					list[i].Owner += "; call " + person.Who
				}
			}
			for _, page := range c.Links {
				if page.Part == string(catalogue.RungOf(j.Cause)) {
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
func same(a, b *gate.Judged) bool {
	return a.Cause == b.Cause && a.Vantage == b.Vantage && a.Which == b.Which && a.Blocking == b.Blocking &&
		a.Certainty == b.Certainty
}

func mergeCauses(all []*gate.Judged) []*gate.Judged {
	var merged []*gate.Judged
	for _, j := range all {
		at := slices.IndexFunc(merged, func(m *gate.Judged) bool { return same(m, j) })
		if at < 0 {
			merged = append(merged, j)
			continue
		}
		merged[at].Because = gate.Union(merged[at].Because, j.Because)
	}
	return merged
}

func (s sum) reached() trail.Reached {
	if len(s.good) > 0 {
		return trail.Yes
	}
	for _, t := range s.tries {
		if t.Symptom == gate.NotTried && (t.Instead == nil || !t.Lookup.Settled) {
			return trail.Unknown
		}
		// Silence of a service that may have nothing to say is no answer
		// either way, unless something was seen to stop what was sent; nor is
		// a session that this program cannot make and the client's can.
		if (t.Symptom == gate.Unasked || t.Symptom == gate.SessionFailed) &&
			!slices.ContainsFunc(t.Verdict.Causes, func(j *gate.Judged) bool { return j.Blocking }) {
			return trail.Unknown
		}
	}
	if len(s.tries) == 0 {
		return trail.Unknown
	}
	return trail.No
}

// tellApart names the one look that would tell the possible causes apart.
func tellApart(v *scene.Scene, s sum, causes []trail.Cause) *trail.Tell {
	if len(s.tries) == 0 || len(causes) == 0 {
		return nil
	}
	t := s.tries[0].Last()
	if t.Symptom == gate.SessionFailed && s.reached() == trail.Unknown {
		return &trail.Tell{Look: "with the client's own program, whose library speaks what this one does not"}
	}
	if t.Server == "" {
		look := "at the server, over SSH, or through a record that uakari record --for makes there"
		if v.Ask.Command == "" {
			return &trail.Tell{Look: look}
		}
		return &trail.Tell{Look: look, Command: v.Ask.Command + " --at root@" + foreign.ShellWord(t.Target.Name)}
	}
	if rules.TablesOf(v, v.Client) != nil && rules.TablesOf(v, t.Server) != nil {
		if v.Ask.Command == "" || v.Vantage(t.Server).Means != fact.Record {
			return nil // both filters were read: they tell nothing more
		}
		return &trail.Tell{
			Look:    "at the server while the client tries; its record is of another moment",
			Command: v.Ask.Command + " --at root@" + foreign.ShellWord(t.Target.Name),
		}
	}
	look := catalogue.Remedy{Do: "at the packet filters of both ends, as root", Command: "nft list ruleset"}
	look = look.On(v.Vantage(v.Client).System)
	return &trail.Tell{Look: look.Do, Command: look.Command}
}
