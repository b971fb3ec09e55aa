package answer

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// webPorts are the usual ones of the protocol that knows redirects.
var webPorts = []uint16{80, 443}

// notReadyWords is how applications say that they are not ready yet, or not
// now.
var notReadyWords = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?i)\b(?:maintenance|is starting|starting up|warming up|not (?:yet )?ready|still loading|is loading|` +
			`shutting down)\b`,
	)
})

// redirectReading follows a redirect to another name, port or scheme by one
// connection on which nothing is said, and reads one that leads nowhere.
func redirectReading(v *scene.Scene, w *scene.Wants, t *scene.Try, reply fact.Reply) (gate.Reading, bool) {
	if !protocol.Of(reply.Protocol).Web || reply.Location == "" || reply.Status < 300 || reply.Status > 399 {
		return gate.Reading{}, false
	}
	place, err := url.Parse(reply.Location)
	if err != nil || place.Host == "" {
		return gate.Reading{}, false // a place on the same server
	}
	e, err := endpoint.Parse(place.String())
	if scheme, _ := protocol.Lookup(e.Scheme); err == nil && scheme.Wire != v.Scheme.Wire {
		return ledAway(v, t, reply, "which is not of this protocol"), true
	}
	if err != nil {
		return ledAway(v, t, reply, "which is no place that can be gone to: "+err.Error()), true
	}
	if e.Host == t.Target.Name && e.Port == t.Target.Port && e.Security == t.Target.Security {
		if pathOf(e.Path) == pathOf(t.Target.Path) {
			return ledAway(v, t, reply, "which is where it came from: a loop"), true
		}
		return gate.Reading{}, false
	}
	l := v.LookUp(w, e.Host)
	if len(l.Addrs) == 0 {
		if !l.Settled {
			return gate.Reading{}, false
		}
		denied := func(f *fact.Fact) bool {
			return f.Answer.Outcome == fact.NoSuchName || f.Answer.Outcome == fact.NoData
		}
		if t.OwnTry && !slices.ContainsFunc(l.Ends, denied) {
			return gate.Reading{}, false // a resolver that does not answer is the client's own trouble
		}
		return ledAway(v, t, reply, "and that name does not resolve here", l.Ends...), true
	}
	if t.OwnTry {
		return gate.Reading{}, false // what stands in this client's way may stand in the way there too
	}
	if e.Host != t.Target.Name && !slices.Contains(webPorts, e.Port) {
		return gate.Reading{}, false // told in the answer; a server's word opens no connection to any port of any host
	}
	target := fact.Target{Name: e.Host, Addr: l.Addrs[0], Port: e.Port, Scheme: "tcp", Security: fact.Plain}
	w.Add(scene.Want{Look: fact.LookSession, At: fact.Client, Target: target, Gate: gate.Session})
	c, seen := v.ClimbAt(v.Client, target)
	if !seen {
		return gate.Reading{}, false
	}
	if s := c.Symptom(v.Own()); !s.Good() && s != gate.NotTried && s != gate.ErrorAnswer {
		r := ledAway(v, t, reply, fmt.Sprintf("and there: %s", s))
		r.Because = gate.Union(r.Because, c.IDs())
		return r, true
	}
	return gate.Reading{}, false
}

func pathOf(path string) string {
	if path == "" {
		return "/"
	}
	return path
}

func ledAway(v *scene.Scene, t *scene.Try, reply fact.Reply, why string, because ...*fact.Fact) gate.Reading {
	return gate.Reading{
		Gate:     gate.Answer,
		Cause:    "answer/redirects-away",
		Strength: gate.Read,
		Reach:    gate.Further,
		Because:  scene.FactIDs(append(because, t.Sessions.Reply)...),
		Vantage:  t.Sessions.Reply.Vantage,
		Summary: fmt.Sprintf("it answers %d and sends the client to %s, %s%s", reply.Status, reply.Location, why,
			t.Seen()),
		Values: v.Place(t, catalogue.Values{"server": v.Answering(t), "location": reply.Location}),
	}
}

// notReadyReading reads an application that says itself that it is not ready.
func notReadyReading(v *scene.Scene, t *scene.Try, r gate.Reading, reply fact.Reply) (gate.Reading, bool) {
	words := notReadyWords().FindString(reply.Reason + " " + reply.Text)
	if !protocol.Of(reply.Protocol).Web || reply.Status != 503 && reply.Status != 500 || words == "" {
		return r, false
	}
	r.Cause = "answer/not-ready"
	r.Summary = fmt.Sprintf("it answers %d and speaks of %q itself%s", reply.Status, strings.ToLower(words), t.Seen())
	return r, true
}

// expectedAnswer compares an answer with the one that the card calls right.
func expectedAnswer(v *scene.Scene, r gate.Reading, reply fact.Reply) (gate.Reading, bool) {
	if v.Ask.Card == nil || v.Ask.Card.Answer == nil {
		return r, false
	}
	want := v.Ask.Card.Answer
	switch {
	case want.Program != "" && !strings.Contains(strings.ToLower(reply.Program), strings.ToLower(want.Program)):
		r.Cause = "answer/wrong-application"
		r.Summary = fmt.Sprintf(
			"%s answers, and the card expects %s",
			cmp.Or(reply.Program, "something without a name"),
			want.Program,
		)
	case len(want.Status) > 0 && !contains(want.Status, reply.Status):
		r.Cause = "answer/error-status"
		r.Summary = fmt.Sprintf(
			"it answers %d, and the card calls only %s right",
			reply.Status,
			foreign.Numbers(want.Status),
		)
	case want.Contains != "" && !strings.Contains(reply.Text, want.Contains):
		r.Cause = "answer/wrong-application"
		r.Summary = fmt.Sprintf("it answers %d, without %q, which the card expects in it", reply.Status, want.Contains)
		if !reply.Whole {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead, Why: "only the beginning of the answer was read"})
		}
	default:
		return r, false
	}
	r.Reach = gate.Further
	r.Values["spoke"], r.Values["scheme"], r.Values["status"] = reply.Protocol, v.Ask.Endpoint.Scheme, r.Summary
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
