package answer

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// wordless is the symptoms of a server that turns a client away without
// telling it why: its log may.
var wordless = []gate.Symptom{
	gate.ServerFirstClosed,
	gate.ClientFirstClosed,
	gate.ServerFirstSilent,
	gate.ClientFirstSilent,
	gate.SilentUDP,
	gate.Connects,
}

// logReading reads from the server's log why it says nothing to the client.
func logReading(v *scene.Scene, w *scene.Wants, t *scene.Try) (gate.Reading, bool) {
	if t.Server == "" || t.Climb.Connect == nil || !slices.Contains(wordless, t.Symptom) {
		return gate.Reading{}, false
	}
	w.Add(
		scene.Want{
			Look:   fact.LookService,
			At:     fact.Server,
			On:     t.Server,
			Gate:   gate.Door,
			Target: fact.Target{Port: t.Target.Port, Scheme: t.Target.Scheme, Again: 1},
		},
	)
	holder, source := v.ServedBy(t), v.LocalAddress(t)
	for _, s := range v.Facts(t.Server, fact.LookService) {
		if s.Service == nil || holder == "" {
			continue
		}
		lines, lacks := linesSince(v, t, s), []gate.Lack(nil)
		if s.Order.Target.Again == 0 && t.Symptom == gate.Connects {
			continue // an earlier refusal says nothing against a connection that is taken now
		}
		if s.Order.Target.Again == 0 {
			// An earlier try of this client's, of which a record tells.
			lines = slices.DeleteFunc(
				logOf(s, v.Taking(t), time.Time{}),
				func(l string) bool { return !source.IsValid() || !strings.Contains(l, source.String()) },
			)
			lacks = []gate.Lack{{Guard: gate.SameTime, Why: "that was an earlier try"}}
		}
		cause, line, strength := saidBy(v, holder, source.String(), lines, ofStart(s))
		if cause == "" {
			continue
		}
		return gate.Reading{
			Gate: gate.Door, Cause: cause, Shows: wordless, Because: scene.FactIDs(s), Vantage: t.Server,
			Strength: strength, Lacks: lacks,
			Summary: fmt.Sprintf("the log of %s says why: %q", v.Host(t.Server), foreign.Shortened(line)),
			Values: v.Place(
				t,
				catalogue.Values{
					"server":  v.Answering(t),
					"program": holder,
					"account": cmp.Or(v.Ask.Account, "the account"),
					"client":  v.Host(v.Client),
					"source":  source.String(),
				},
			),
		}, true
	}
	return gate.Reading{}, false
}

// saidBy is the cause that lines of a log give for a client that was turned
// away: in the program's own words, or in those that all use. What does not
// name the client counts only if it has one meaning.
func saidBy(
	v *scene.Scene,
	holder, source string,
	lines, ofStart []string,
) (cause, line string, s gate.Strength) {
	if m, at, ok := v.Programs.Means(holder, lines, "refusal"); ok {
		return m.Cause, lines[at], gate.Logged
	}
	for _, l := range slices.Backward(lines) {
		m, ok := program.Refuses(l)
		switch {
		case ok && m.Sure:
			return m.Cause, l, gate.Logged
		case ok && strings.Contains(l, source):
			return m.Cause, l, gate.Told
		}
		if m, _, ok := program.DoesNotStart(l); ok && m.Cause == "service/settings-rejected" &&
			!slices.Contains(ofStart, l) {
			return m.Cause, l, gate.Told
		}
	}
	return "", "", gate.Read
}

// atOnce is how long after its start a program still speaks of it.
const atOnce = time.Second

// ofStart is what programs that run said when they were started: it did not keep them
// from running, whatever they complained of.
func ofStart(s *fact.Fact) (list []string) {
	for _, p := range s.Service.Programs {
		for _, u := range p.Units {
			for _, l := range u.Log {
				if u.Active == "active" && l.At.Before(u.Since.Add(atOnce)) {
					list = append(list, l.Text)
				}
			}
		}
	}
	return list
}

// linesSince is what a program wrote since a try began: by the times of its
// lines or, in files that have none, what was not there before.
func linesSince(v *scene.Scene, t *scene.Try, s *fact.Fact) []string {
	began := t.Climb.Connect.At.Add(-2*time.Second - time.Duration(t.Climb.Connect.Connect.TookMS)*time.Millisecond)
	before := v.LinesBefore(t)
	return slices.DeleteFunc(logOf(s, v.Taking(t), began), func(l string) bool { return slices.Contains(before, l) })
}

// logOf is what the log of those who hold a port holds since a time, and all of its
// files.
func logOf(s *fact.Fact, held []fact.Listener, since time.Time) []string {
	var list []string
	for _, p := range s.Service.Programs {
		if !slices.ContainsFunc(held, func(l fact.Listener) bool { return scene.Serves(l, []fact.Program{p}) }) {
			continue
		}
		for _, u := range p.Units {
			for _, l := range u.Log {
				if l.At.After(since) {
					list = append(list, l.Text)
				}
			}
		}
		for _, file := range p.Logs {
			list = append(list, file.Lines...)
		}
	}
	return list
}
