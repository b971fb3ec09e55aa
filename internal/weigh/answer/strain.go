package answer

import (
	"fmt"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
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
	if !t.Symptom.Good() {
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
					Gate:     gate.Answer,
					Cause:    "answer/cut-when-idle",
					Strength: gate.Read,
					Reach:    gate.Further,
					Because:  scene.FactIDs(f),
					Vantage:  v.Client,
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
	if len(v.Ask.Widths) == 0 {
		return nil
	}
	kernel := fact.Target{}
	if t.Server != "" {
		w.Add(scene.Want{Look: fact.LookKernel, At: fact.Server, On: t.Server, Target: kernel, Gate: gate.Answer})
	}
	limit, _ := time.ParseDuration(cardLimit(v))
	var before, told []string
	alone, works := 0.0, 0
	for _, width := range v.Ask.Widths {
		target := t.Target
		target.Width = width
		w.Add(scene.Want{Look: fact.LookLoad, At: fact.Client, Target: target, Gate: gate.Answer})
		var l *fact.Load
		for _, f := range v.Facts(v.Client, fact.LookLoad) {
			if f.Load != nil && f.Order.Target == target {
				l = f.Load
				before = append(before, f.ID)
			}
		}
		if l == nil {
			return nil
		}
		if alone == 0 {
			alone = max(l.MedianMS, 1)
		}
		why := tooWide(l, alone, limit)
		if why == "" {
			works = width
			told = append(
				told,
				fmt.Sprintf("%d: half within %s, 95 of 100 within %s", width, took(l.MedianMS), took(l.Late95MS)),
			)
			continue
		}
		r := gate.Reading{
			Gate: gate.Answer, Cause: "answer/overloaded",
			Strength: gate.Read, Reach: gate.Further, Harmless: width > 1,
			Because: before, Vantage: v.Client,
			Summary: fmt.Sprintf("with %s side by side, %s", foreign.Plural(width, "request"), why),
			Values:  v.Place(t, catalogue.Values{"server": v.Answering(t), "width": fmt.Sprint(width)}),
		}
		if len(told) > 0 {
			r.Summary += "; with " + strings.Join(told, "; with ")
			r.Values["works"] = fmt.Sprint(works)
		}
		if text, id := turnedAway(v, w, t, kernel); text != "" {
			r.Summary += "; " + text
			r.Because = append(r.Because, id)
		}
		return []gate.Reading{r}
	}
	return nil
}

// tooWide is why a width is too wide; "" if it is not.
func tooWide(l *fact.Load, alone float64, limit time.Duration) string {
	late := limit > 0 && l.Late95MS > float64(limit.Milliseconds())
	switch {
	case l.Asked > 0 && l.Failed*100 > l.Asked:
		return fmt.Sprintf("%d of %d fail (%s)", l.Failed, l.Asked, l.Why)
	case late:
		return fmt.Sprintf("5 of 100 answers take longer than %s, and clients wait %s", took(l.Late95MS), limit)
	case l.MedianMS > slowFactor*alone:
		return fmt.Sprintf("half of the answers take longer than %s, and alone %s", took(l.MedianMS), took(alone))
	}
	return ""
}

func took(ms float64) string { return foreign.Took(time.Duration(ms * float64(time.Millisecond))) }

// cardLimit is how long clients wait, as the card says.
func cardLimit(v *scene.Scene) string {
	if v.Ask.Card == nil {
		return ""
	}
	return v.Ask.Card.Limit
}

// turnedAway is what the server's kernel says of its full queues while it was
// asked: by its counters before and after (ListenOverflows of netstat).
func turnedAway(v *scene.Scene, w *scene.Wants, t *scene.Try, first fact.Target) (text, id string) {
	if t.Server == "" {
		return "", ""
	}
	last := first
	last.Again = 2 // after the widths, whichever asked before
	w.Add(scene.Want{Look: fact.LookKernel, At: fact.Server, On: t.Server, Target: last, Gate: gate.Answer})
	var from, to *fact.Fact
	for _, f := range v.Facts(t.Server, fact.LookKernel) {
		switch {
		case f.Kernel == nil:
		case f.Order.Target == last:
			to = f
		case from == nil:
			from = f
		}
	}
	if from == nil || to == nil {
		return "", ""
	}
	many := to.Kernel.Counters["ListenOverflows"] - from.Kernel.Counters["ListenOverflows"]
	if to.Kernel.Counters["ListenOverflows"] <= from.Kernel.Counters["ListenOverflows"] {
		return fmt.Sprintf("no queue of %s was full meanwhile", v.Host(t.Server)), to.ID
	}
	return fmt.Sprintf(
		"%s turned %s away meanwhile, since a queue was full",
		v.Host(t.Server),
		foreign.Connections(uint32(many)),
	), to.ID
}
