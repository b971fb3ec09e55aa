package weigh

import (
	"fmt"
	"strings"

	"uakari/internal/fact"
)

// strainReadings reads what was asked for beyond one answer: a connection that
// is left idle, and many requests at once.
func (v *view) strainReadings(w *wants, t *try) []Reading {
	if t.symptom != Fine {
		return nil
	}
	var readings []Reading
	if v.ask.IdleS > 0 {
		target := t.target
		target.Again = v.ask.IdleS
		w.add(Want{Look: fact.LookIdle, At: fact.Client, Target: target, Gate: Way})
		for _, f := range v.facts(v.client, fact.LookIdle) {
			if f.Idle == nil || f.Order.Target != target || f.Idle.Ending != fact.ResetMid && f.Idle.Ending != fact.Stalled {
				continue
			}
			how := "reset when it is used again"
			if f.Idle.Ending == fact.Stalled {
				how = "dead, and nobody says so"
			}
			readings = append(readings, Reading{Gate: Answer, Cause: "answer/cut-when-idle", Apart: true, Because: factIDs(f), Vantage: v.client,
				Summary: fmt.Sprintf("a connection that is idle for %d s is %s", v.ask.IdleS, how), Values: v.place(t, values{"idle": fmt.Sprintf("%d s", v.ask.IdleS)})})
		}
	}
	return append(readings, v.loadReadings(w, t)...)
}

// slower is by how much the middle answer may take longer than alone before a
// width counts as too wide.
const slower = 5

// loadReadings asks for one width after the other, until one is too wide.
func (v *view) loadReadings(w *wants, t *try) []Reading {
	var before []string
	alone := 0.0
	for _, width := range v.ask.Widths {
		target := t.target
		target.Again = width
		w.add(Want{Look: fact.LookLoad, At: fact.Client, Target: target, Gate: Answer})
		var l *fact.Load
		var from *fact.Fact
		for _, f := range v.facts(v.client, fact.LookLoad) {
			if f.Load != nil && f.Order.Target == target {
				l, from = f.Load, f
			}
		}
		if l == nil {
			return nil
		}
		before = append(before, from.ID)
		if alone == 0 {
			alone = max(l.MedianMS, 1)
		}
		why := ""
		switch {
		case l.Asked > 0 && l.Failed*100 > l.Asked:
			why = fmt.Sprintf("%d of %d fail (%s)", l.Failed, l.Asked, l.Why)
		case l.MedianMS > slower*alone:
			why = fmt.Sprintf("half of the answers take longer than %.0f ms, and alone %.0f", l.MedianMS, alone)
		default:
			continue
		}
		return []Reading{{Gate: Answer, Cause: "answer/overloaded", Apart: true, Harmless: width > 1, Because: before, Vantage: v.client,
			Summary: fmt.Sprintf("with %s side by side, %s", plural(width, "request"), why), Values: v.place(t, values{"server": v.answering(t), "width": fmt.Sprint(width)})}}
	}
	return nil
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, strings.TrimSuffix(word, "s"))
}
