package service

import (
	"fmt"
	"slices"

	"uakari/internal/fact"
	"uakari/internal/weigh/gate"
)

// withNextStart adds to a unit that is down what its next start would fail at: before one
// that was stopped it comes first, since starting it alone would not help; of one that failed
// it is the reason.
func (s serving) withNextStart(r gate.Reading) []gate.Reading {
	blocks := s.nextStart()
	if len(blocks) == 0 {
		return []gate.Reading{r}
	}
	text := blocks[0].Text
	if n := len(blocks); n > 1 {
		text += fmt.Sprintf(" (and %d more)", n-1)
	}
	switch {
	case r.Cause == "service/stopped" && s.u.Load != "masked":
		next := r
		next.Cause, next.Lacks = "service/start-blocked", slices.Clone(r.Lacks)
		if first := blocks[0].After; first != "" {
			next.Lacks = append(next.Lacks, gate.Lack{Guard: gate.OneMeaning,
				Why: first + ", which is started before, may provide it"})
		}
		if blocks[0].Kind == "settings" {
			next.Lacks = append(next.Lacks, gate.Lack{Guard: gate.OneMeaning,
				Why: "its own program may read what could not be read here"})
		}
		next.Summary = fmt.Sprintf("%s would not start: %s", s.u.Name, text)
		next.Values = s.reading(r.Gate, "", "").Values
		next.Values["block"], next.Values["setting"], next.Values["missing"] = text, blocks[0].Setting, blocks[0].Path
		return []gate.Reading{next, r}
	case r.Cause == "service/failed", r.Cause == "service/restarting":
		r.Summary += "; its next start would fail too: " + text
	}
	return []gate.Reading{r}
}

// nextStart is what the next start would fail at: what the manager was seen to miss, and a
// port that the program may not listen on.
func (s serving) nextStart() []fact.StartBlock {
	blocks := slices.Clone(s.u.Blocked)
	if port := s.t.Target.Port; port != 0 && port < s.u.LeastPort && s.p.Written(port) {
		blocks = append(blocks, fact.StartBlock{Kind: "right", Setting: "AmbientCapabilities", Text: fmt.Sprintf(
			"its program may listen on ports from %d on only, and port %d is set: its unit gives it no right to lower ones",
			s.u.LeastPort, port)})
	}
	return blocks
}
