// Package confirm decides whether an endpoint works again: which of the runs
// tries the account, what a row of them comes to, and what became of each cause.
// It looks at nothing itself.
package confirm

import (
	"cmp"
	"fmt"
	"slices"

	"uakari/internal/trail"
)

// Row is the runs of one confirmation. They must be clear several times in a
// row; the account is tried in the run that would complete the row and in no
// other, since accounts lock.
type Row struct {
	Wanted  int    // clear runs in a row
	Account string // that belongs to the case; "": none does
	Secret  bool   // what the account needs is at hand
	// Client is the host that the failure was seen from. From another host
	// nothing is confirmed.
	Client string

	good      int
	presented bool // the one login try was made
	now       trail.Trail
}

// TriesAccount reports whether the next run presents the account.
func (r *Row) TriesAccount() bool {
	return r.Account != "" && r.Secret && !r.presented && r.good == r.Wanted-1
}

// Add adds a run, and whether its account was put before the server. It reports
// whether more runs may still complete the row.
func (r *Row) Add(now trail.Trail, outcome trail.Outcome, presented bool) (more bool) {
	r.now = now
	r.presented = r.presented || presented
	if outcome == trail.OutcomeClear {
		r.good++
		return r.good < r.Wanted
	}
	r.good = 0
	// An account that was rejected once is not presented again.
	return now.Incomplete != "interrupted" && !presented && (r.Account == "" || !r.Secret || !r.presented)
}

// Good is the clear runs in a row up to now.
func (r *Row) Good() int { return r.good }

// Result is what the row comes to.
func (r *Row) Result(client string) trail.Confirmed {
	switch {
	case r.now.Incomplete == "interrupted":
		return trail.ConfirmInterrupted
	case r.good < r.Wanted:
		return trail.ConfirmNot
	case r.Client != "" && client != r.Client:
		return trail.ConfirmElsewhere
	case r.Account != "" && !r.now.Accepted:
		return trail.ConfirmNoLogin
	}
	return trail.ConfirmWorks
}

// Progress is what became of each cause that was in the way, and which are new,
// on the hops behind a gateway too.
func Progress(before, now trail.Trail) []trail.Became {
	was, is := stand(before), stand(now)
	var list []trail.Became
	for _, old := range was {
		at := slices.IndexFunc(is, func(s seen) bool { return s.matches(old) })
		switch {
		case at >= 0:
			list = append(list, is[at].step(trail.StillThere))
			is = slices.Delete(is, at, at+1)
		case gone(old, now):
			list = append(list, old.step(trail.Fixed))
		default:
			list = append(list, old.step(trail.NotSeen))
		}
	}
	for _, s := range is {
		list = append(list, s.step(trail.New))
	}
	slices.SortStableFunc(list, func(a, b trail.Became) int {
		return cmp.Compare(slices.Index(order, a.State), slices.Index(order, b.State))
	})
	return list
}

var order = []trail.Fate{trail.Fixed, trail.StillThere, trail.New, trail.NotSeen}

// seen is one cause that blocks, and the trail that it stands in.
type seen struct {
	endpoint, host string
	cause          trail.Cause
}

func (s seen) step(state trail.Fate) trail.Became {
	return trail.Became{State: state, ID: s.cause.ID, Endpoint: s.endpoint, Host: s.host, Summary: s.cause.Summary}
}

// matches reports whether two runs name one fault: the same cause, of the same
// endpoint, at the same host. Which line or rule it is may have another number.
func (s seen) matches(old seen) bool {
	return s.cause.ID == old.cause.ID && s.endpoint == old.endpoint && s.host == old.host
}

// hopFails is a gateway's word for what stands behind it: where the hop itself
// was traced, its own causes are counted in its place.
const hopFails = "answer/hop-fails"

// stand is every cause that blocks, of a trail and of the hops behind it.
func stand(t trail.Trail) []seen {
	var behind []seen
	for _, b := range t.Behind {
		behind = append(behind, stand(b.Trail)...)
	}
	var list []seen
	for _, c := range t.Blocking() {
		if c.ID == hopFails && len(behind) > 0 {
			continue
		}
		list = append(list, seen{t.Endpoint.Input, t.Host(c.Vantage), c})
	}
	return append(list, behind...)
}

// gone reports whether a cause that is no longer named was looked for: the
// trail of its endpoint is there, is clear, or has judged its rung. A gateway
// that answers well has no hop that fails.
func gone(old seen, now trail.Trail) bool {
	if now.Outcome == trail.OutcomeClear {
		return true
	}
	t, ok := of(now, old.endpoint)
	if !ok {
		return now.Verdict() != trail.Blocked && !hopStill(now)
	}
	for _, f := range t.Rungs {
		if f.Name == old.cause.Rung {
			return f.State == trail.Clear || f.State == trail.Fault || f.State == trail.Doubt
		}
	}
	return false
}

func hopStill(t trail.Trail) bool {
	return slices.ContainsFunc(t.Blocking(), func(c trail.Cause) bool { return c.ID == hopFails })
}

// of is the trail of an endpoint, among a trail and the hops behind it.
func of(t trail.Trail, endpoint string) (trail.Trail, bool) {
	if t.Endpoint.Input == endpoint {
		return t, true
	}
	for _, b := range t.Behind {
		if found, ok := of(b.Trail, endpoint); ok {
			return found, true
		}
	}
	return trail.Trail{}, false
}

// Said is the sentence behind "Not yet: E does not work": what is different from
// before, or that nothing is.
func Said(before, now trail.Trail, steps []trail.Became) string {
	count := map[trail.Fate]int{}
	for _, s := range steps {
		count[s.State]++
	}
	known := count[trail.Fixed] + count[trail.StillThere] + count[trail.NotSeen]
	text := ""
	if count[trail.Fixed] > 0 {
		text = fmt.Sprintf("; %d of %d fixed", count[trail.Fixed], known)
		if count[trail.New] > 0 {
			text += fmt.Sprintf(", %d new", count[trail.New])
		}
	}
	from, to := before.Symptom, now.Symptom
	switch {
	case from != "" && to != "" && from != to:
		text += fmt.Sprintf("; before: %s; now: %s", from, to)
	case text == "" && count[trail.New] == 0 && count[trail.NotSeen] == 0 && known > 0:
		return ", for the same reason as before"
	case text == "" && count[trail.New] > 0:
		text = fmt.Sprintf("; what is in the way is another thing now: %s", newest(steps))
	}
	return text
}

func newest(steps []trail.Became) string {
	at := slices.IndexFunc(steps, func(s trail.Became) bool { return s.State == trail.New })
	return steps[at].ID
}
