package weigh

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"sync"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
)

// redirectReading follows a redirect to another name, port or scheme, one
// connection, and reads one that leads nowhere.
func (v *view) redirectReading(w *wants, t *try, reply fact.Reply) (Reading, bool) {
	if reply.Protocol != "http" || reply.Location == "" || reply.Status < 300 || reply.Status > 399 || t.ownTry {
		return Reading{}, false
	}
	place, err := url.Parse(reply.Location)
	if err != nil || place.Host == "" {
		return Reading{}, false // a place on the same server
	}
	e, err := endpoint.Parse(place.String())
	if err != nil {
		return v.ledAway(t, reply, "which is no place that can be gone to: "+err.Error()), true
	}
	if e.Host == t.target.Name && e.Port == t.target.Port && e.Security == t.target.Security {
		if pathOf(e.Path) == pathOf(t.target.Path) {
			return v.ledAway(t, reply, "which is where it came from: a loop"), true
		}
		return Reading{}, false
	}
	l := v.lookUp(w, e.Host)
	if len(l.addrs) == 0 {
		if !l.settled {
			return Reading{}, false
		}
		return v.ledAway(t, reply, "and that name gives no address here", l.ends...), true
	}
	target := fact.Target{Name: e.Host, Addr: l.addrs[0], Port: e.Port, Scheme: e.Scheme, Security: e.Security, Path: e.Path}
	w.add(Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: Session})
	c, seen := v.climbs[seat{v.client, target}]
	if !seen {
		return Reading{}, false
	}
	if s := c.symptom(v.own()); s != Fine && s != NotTried && s != ErrorAnswer {
		r := v.ledAway(t, reply, fmt.Sprintf("and there: %s", s))
		r.Because = union(r.Because, c.ids())
		return r, true
	}
	return Reading{}, false
}

func pathOf(path string) string {
	if path == "" {
		return "/"
	}
	return path
}

func (v *view) ledAway(t *try, reply fact.Reply, why string, because ...*fact.Fact) Reading {
	return Reading{Gate: Answer, Cause: "answer/redirects-away", Apart: true, Because: factIDs(append(because, t.climb.reply)...), Vantage: v.client,
		Summary: fmt.Sprintf("it answers %d and sends the client to %s, %s", reply.Status, reply.Location, why),
		Values:  v.place(t, values{"server": v.answering(t), "location": reply.Location})}
}

// notReadyWords is how applications say that they are not ready yet, or not
// now.
var notReadyWords = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\b(?:maintenance|is starting|starting up|warming up|not (?:yet )?ready|still loading|is loading|shutting down)\b`)
})

// notReadyReading reads an application that says itself that it is not ready.
func (v *view) notReadyReading(t *try, r Reading, reply fact.Reply) (Reading, bool) {
	words := notReadyWords().FindString(reply.Reason + " " + reply.Text)
	if reply.Protocol != "http" || reply.Status != 503 && reply.Status != 500 || words == "" {
		return r, false
	}
	r.Cause = "answer/not-ready"
	r.Summary = fmt.Sprintf("it answers %d and speaks of %q itself%s", reply.Status, strings.ToLower(words), t.seen())
	return r, true
}

// expectedAnswer compares an answer with the one that the card calls right.
func (v *view) expectedAnswer(r Reading, reply fact.Reply) (Reading, bool) {
	if v.ask.Card == nil || v.ask.Card.Answer == nil {
		return r, false
	}
	want := v.ask.Card.Answer
	switch {
	case want.Program != "" && !strings.Contains(strings.ToLower(reply.Program), strings.ToLower(want.Program)):
		r.Cause = "answer/wrong-application"
		r.Summary = fmt.Sprintf("%s answers, and the card expects %s", orElse(reply.Program, "something without a name"), want.Program)
	case len(want.Status) > 0 && !contains(want.Status, reply.Status):
		r.Cause = "answer/error-status"
		r.Summary = fmt.Sprintf("it answers %d, and the card calls only %s right", reply.Status, numbers(want.Status))
	case want.Contains != "" && !strings.Contains(reply.Text, want.Contains):
		r.Cause = "answer/wrong-application"
		r.Summary = fmt.Sprintf("it answers %d, without %q, which the card expects in it", reply.Status, want.Contains)
		if !reply.Whole {
			r.Short = append(r.Short, "only the beginning of the answer was read")
		}
	default:
		return r, false
	}
	r.Apart = true
	r.Values["spoke"], r.Values["scheme"], r.Values["status"] = reply.Protocol, v.ask.Endpoint.Scheme, r.Summary
	return r, true
}

func contains(list []int, n int) bool {
	for _, each := range list {
		if each == n {
			return true
		}
	}
	return false
}
