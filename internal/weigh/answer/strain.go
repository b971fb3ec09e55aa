package answer

import (
	"fmt"
	"uakari/internal/fact"
	"uakari/internal/plain"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// slowFactor is by how much the middle answer may take longer than alone before a
// width counts as too wide.
const slowFactor = 5

// StrainReadings reads what was asked for beyond one answer: a connection that
// is left idle, and many requests at once.
func StrainReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	if t.Symptom != gate.Fine {
		return nil
	}
	var readings []gate.Reading
	if v.Ask.IdleS > 0 {
		target := t.Target
		target.IdleS = v.Ask.IdleS
		w.Add(scene.Want{Look: fact.LookIdle, At: fact.Client, Target: target, Gate: gate.Way})
		for _, f := range v.Facts(v.Client, fact.LookIdle) {
			if f.Idle == nil || f.Order.Target != target ||
				f.Idle.Ending != fact.ResetMid && f.Idle.Ending != fact.Stalled {
				continue
			}
			how := "reset when it is used again"
			if f.Idle.Ending == fact.Stalled {
				how = "dead, and nobody says so"
			}
			readings = append(
				readings,
				gate.Reading{
					Gate:    gate.Answer,
					Cause:   "answer/cut-when-idle",
					Reach:   gate.Further,
					Because: scene.FactIDs(f),
					Vantage: v.Client,
					Summary: fmt.Sprintf(
						"a connection that is idle for %d s is %s",
						v.Ask.IdleS,
						how,
					),
					Values: v.Place(t, catalogue.Values{"idle": fmt.Sprintf("%d s", v.Ask.IdleS)}),
				},
			)
		}
	}
	return append(readings, loadReadings(v, w, t)...)
}

// loadReadings asks for one width after the other, until one is too wide.
func loadReadings(v *scene.Scene, w *scene.Wants, t *scene.Try) []gate.Reading {
	var before []string
	alone := 0.0
	for _, width := range v.Ask.Widths {
		target := t.Target
		target.Width = width
		w.Add(scene.Want{Look: fact.LookLoad, At: fact.Client, Target: target, Gate: gate.Answer})
		var l *fact.Load
		var from *fact.Fact
		for _, f := range v.Facts(v.Client, fact.LookLoad) {
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
		case l.MedianMS > slowFactor*alone:
			why = fmt.Sprintf("half of the answers take longer than %.0f ms, and alone %.0f", l.MedianMS, alone)
		default:
			continue
		}
		return []gate.Reading{
			{
				Gate:     gate.Answer,
				Cause:    "answer/overloaded",
				Reach:    gate.Further,
				Harmless: width > 1,
				Because:  before,
				Vantage:  v.Client,
				Summary: fmt.Sprintf(
					"with %s side by side, %s",
					plain.Plural(width, "request"),
					why,
				),
				Values: v.Place(t, catalogue.Values{"server": v.Answering(t), "width": fmt.Sprint(width)}),
			},
		}
	}
	return nil
}
