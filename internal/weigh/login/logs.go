package login

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// logReadings looks for this try in the server's log, read after it.
func logReadings(v *scene.Scene, w *scene.Wants, t *scene.Try, f, account *fact.Fact) []gate.Reading {
	if t.Server == "" {
		return nil
	}
	after := fact.Target{Port: t.Target.Port, Scheme: t.Target.Scheme, Again: 1}
	w.Add(scene.Want{Look: fact.LookService, At: fact.Server, On: t.Server, Target: after, Gate: gate.Account})
	for _, s := range v.Facts(t.Server, fact.LookService) {
		if s.Service == nil || s.Order.Target.Again != 1 {
			continue
		}
		lines := linesOfTry(v, t, s, f)
		cause, line := v.CardReason(lines, "login")
		var lacks []gate.Lack
		for _, known := range v.Protocol.Log {
			at := slices.IndexFunc(lines, func(line string) bool { return strings.Contains(line, known.Text) })
			if cause != "" || at < 0 {
				continue
			}
			cause, line = known.Cause, lines[at]
			if plainWords[known.Text] && !accountIsWell(v, t, f, account) {
				lacks = []gate.Lack{
					{
						Guard: gate.SameAccount,
						Why: "an account that is locked or shut out is refused in the same words; its state was " +
							"not read",
					},
				}
			}
		}
		strength := gate.Logged
		if m, at, ok := v.Programs.Means(v.ServedBy(t), lines, "refusal"); ok && cause == "" {
			cause, line = m.Cause, lines[at]
		}
		for _, l := range lines {
			m, ok := program.Refuses(l)
			switch {
			case cause != "" || !ok:
			case m.Sure:
				cause, line = m.Cause, l
			case !program.OfAccount(l): // that an account was refused is known
				cause, line, strength = m.Cause, l, gate.Told
			}
		}
		if cause == "" {
			continue
		}
		if cause == vagueRefusal {
			lacks = append(lacks, gate.Lack{Guard: gate.OneMeaning, Why: "the log does not say why either"})
		}
		r := refusal(v, t, f, cause, strength)
		r.Summary = fmt.Sprintf(
			"%s is refused, and the log of %s says why: %q",
			f.Login.Account,
			v.Host(t.Server),
			foreign.Shortened(line),
		)
		r.Because, r.Lacks = append(r.Because, s.ID), lacks
		if lacks == nil && account != nil {
			r.Because = gate.Union(r.Because, scene.FactIDs(account))
		}
		return []gate.Reading{r}
	}
	return nil
}

// linesOfTry is the log lines that belong to a try: those that name its
// account, or follow one that does, and were written since it began. Lines of
// files have no time here: they belong to it if they were not there before.
func linesOfTry(v *scene.Scene, t *scene.Try, s, login *fact.Fact) []string {
	began := login.At.Add(-time.Duration(login.Login.TookMS)*time.Millisecond - 2*time.Second)
	var list []string
	near, before := 0, ""
	take := func(line string) {
		if strings.Contains(line, login.Login.Account) {
			if near == 0 && protocol.OfNext(before) {
				list = append(list, before)
			}
			near = 3
		}
		before = line
		if near > 0 {
			list = append(list, line)
			near--
		}
	}
	known := v.LinesBefore(t)
	for _, p := range s.Service.Programs {
		for _, u := range p.Units {
			for _, line := range u.Log {
				if !line.At.IsZero() && line.At.After(began) {
					take(line.Text)
				}
			}
		}
		for _, file := range p.Logs {
			for _, line := range file.Lines {
				if !slices.Contains(known, line) {
					take(line)
				}
			}
		}
	}
	return list
}

// readAfter reports whether the server's log was read after a try, as records cannot.
func readAfter(v *scene.Scene, t *scene.Try, login *fact.Fact) bool {
	return slices.ContainsFunc(v.Facts(t.Server, fact.LookService), func(f *fact.Fact) bool {
		return f.Service != nil && f.Order.Target.Again > 0 && f.At.After(login.At)
	})
}

// welcomes is words of logs that say of an account that it was let in.
var welcomes = []string{
	"Accepted ",
	"session opened for user",
	"Login: user=",
	"connection authorized: user",
	"logged in",
}

// earlier reads the last refusal of the account in the server's log: it was
// another try, and whatever it was may have been fixed. To one that is refused now,
// words that are said of any refusal add nothing.
func earlier(v *scene.Scene, t *scene.Try, refused bool) (gate.Reading, bool) {
	if t.Server == "" {
		return gate.Reading{}, false
	}
	f, s := v.Service(t.Server)
	if s == nil {
		return gate.Reading{}, false
	}
	var lines []string
	for _, p := range s.Programs {
		if chosen, _ := v.Chosen(s.Programs); chosen == nil || chosen.Name != p.Name {
			continue
		}
		for _, u := range p.Units {
			for _, l := range u.Log {
				lines = append(lines, l.Text)
			}
		}
		for _, file := range p.Logs {
			lines = append(lines, file.Lines...)
		}
	}
	cause, line, plainly := "", "", false
	for i, l := range lines {
		if !strings.Contains(l, v.Ask.Account) {
			continue
		}
		if i > 0 && protocol.OfNext(lines[i-1]) {
			l = lines[i-1]
		}
		if slices.ContainsFunc(welcomes, func(w string) bool { return strings.Contains(l, w) }) {
			cause = ""
			continue
		}
		says := func(known protocol.LogLine) bool { return strings.Contains(l, known.Text) }
		at := slices.IndexFunc(v.Protocol.Log, says)
		switch m, sure := program.Refuses(l); {
		case at >= 0 && plainWords[v.Protocol.Log[at].Text] && cause != "": // what was said before says more
		case at >= 0:
			cause, line, plainly = v.Protocol.Log[at].Cause, l, plainWords[v.Protocol.Log[at].Text]
		case sure && m.Sure:
			cause, line, plainly = m.Cause, l, false
		}
	}
	if cause == "" || plainly && refused {
		return gate.Reading{}, false
	}
	r := gate.Reading{
		Gate:     gate.Account,
		Cause:    cause,
		Reach:    gate.Further,
		Strength: gate.Logged,
		Because:  scene.FactIDs(f),
		Vantage:  t.Server,
		Summary: fmt.Sprintf(
			"%s was refused before, and the log of %s says why: %q",
			v.Ask.Account,
			v.Host(t.Server),
			foreign.Shortened(line),
		),
		Lacks: []gate.Lack{{Guard: gate.SameTime, Why: "that was an earlier try"}},
	}
	r.Values = v.Place(t, map[string]string{"account": v.Ask.Account, "server": v.Host(t.Server)})
	return r, true
}
