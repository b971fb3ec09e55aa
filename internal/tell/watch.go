package tell

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// Watched is the line that a watch writes for one trace, without colour.
func Watched(p weigh.Pulse, changes []string) string {
	text := p.At.UTC().Format(time.TimeOnly) + " "
	switch {
	case p.Outcome == trail.OutcomeClear:
		text += fmt.Sprintf(
			"reached %s, connect %.1f ms, answer %.1f ms",
			foreign.Printable(p.Addr),
			p.ConnectMS,
			p.AnswerMS,
		)
	case p.Why != "":
		text += "FAULT " + foreign.Printable(p.Why)
	default:
		text += "not reached, and nothing proves why"
	}
	if len(changes) > 0 {
		text += "; changed since the last time: " + foreign.Printable(strings.Join(changes, "; "))
	}
	return text + "\n"
}

// Watching is the view of a watch that goes on.
func Watching(goal string, t weigh.Tally, every time.Duration, left string, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	state := p.as(green, "works")
	if t.Last.Outcome != trail.OutcomeClear {
		state = p.as(red, "FAULT")
	}
	fmt.Fprintf(&b, "%s  %s, %s in a row", p.as(bold, foreign.Printable(goal)), state, counted(t.Streak, "time"))
	fmt.Fprintf(&b, "\nevery %s%s; Ctrl-C ends it and tells the sum\n\n", every, left)
	b.WriteString(recent(t, p))
	b.WriteString(tallied(t, p))
	return b.String()
}

// recent is the last tries as marks, the newest last.
func recent(t weigh.Tally, p paint) string {
	const most = 60
	last := t.History[max(0, len(t.History)-most):]
	if len(last) < 2 {
		return ""
	}
	var b strings.Builder
	fmt.Fprintf(&b, "  the last %d  ", len(last))
	worked := make([]bool, 0, len(last))
	for _, try := range last {
		worked = append(worked, try.Works)
	}
	b.WriteString(strip(worked, p) + "\n\n")
	return b.String()
}

// Metrics is a watch for a collector, in the OpenMetrics text format (version
// 1.0).
func Metrics(input string, t weigh.Tally) string {
	var b strings.Builder
	last := t.Last
	label := fmt.Sprintf("endpoint=%q", foreign.Printable(input))
	family := func(name, kind, unit, help string) {
		fmt.Fprintf(&b, "# TYPE %s %s\n", name, kind)
		if unit != "" {
			fmt.Fprintf(&b, "# UNIT %s %s\n", name, unit)
		}
		fmt.Fprintf(&b, "# HELP %s %s\n", name, help)
	}
	up := 0
	if last.Outcome == trail.OutcomeClear {
		up = 1
	}
	family("uakari_up", "gauge", "", "Whether the last trace reached the endpoint and nothing was in the way.")
	fmt.Fprintf(&b, "uakari_up{%s} %d\n", label, up)
	family("uakari_rung_fails", "gauge", "", "Whether the first cause of the last trace is on that rung.")
	for _, rung := range trail.Ladder {
		fails := 0
		if rung == last.Rung {
			fails = 1
		}
		fmt.Fprintf(&b, "uakari_rung_fails{%s,rung=%q} %d\n", label, string(rung), fails)
	}
	family("uakari_step_seconds", "gauge", "seconds", "How long a step of the last trace took.")
	for _, step := range []struct {
		name string
		ms   float64
	}{{"connect", last.ConnectMS}, {"session", last.SessionMS}, {"answer", last.AnswerMS}} {
		if step.ms > 0 {
			fmt.Fprintf(&b, "uakari_step_seconds{%s,step=%q} %g\n", label, step.name, step.ms/1000)
		}
	}
	if !last.Ends.IsZero() {
		family("uakari_certificate_days_left", "gauge", "", "Days until the certificate that was shown ends.")
		fmt.Fprintf(&b, "uakari_certificate_days_left{%s} %.2f\n", label, last.Ends.Sub(last.At).Hours()/24)
	}
	family("uakari_tries", "counter", "", "Traces of this watch.")
	fmt.Fprintf(&b, "uakari_tries_total{%s} %d\n", label, t.Tries)
	family("uakari_failures", "counter", "", "Traces of this watch that were not clear.")
	fmt.Fprintf(&b, "uakari_failures_total{%s} %d\n", label, t.Failed)
	family("uakari_last_trace_timestamp_seconds", "gauge", "seconds", "When the last trace began.")
	fmt.Fprintf(&b, "uakari_last_trace_timestamp_seconds{%s} %d\n", label, last.At.Unix())
	b.WriteString("# EOF\n")
	return b.String()
}

// WatchEnded is the sum of a watch.
func WatchEnded(goal string, t weigh.Tally, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	head := fmt.Sprintf("%s: %s, %s failed", foreign.Printable(goal), counted(t.Tries, "try"), counted(t.Failed, ""))
	if t.Worst > 1 {
		head += fmt.Sprintf(", at most %d in a row", t.Worst)
	}
	for _, line := range wrap(head+".", width) {
		fmt.Fprintln(&b, p.as(bold, line))
	}
	if t.Tries > 0 {
		fmt.Fprintf(&b, "From %s to %s UTC.\n\n", t.First.At.UTC().Format(moments), t.Last.At.UTC().Format(moments))
	}
	b.WriteString(tallied(t, p))
	return b.String()
}

// tallied is the addresses with their times, and the turns.
func tallied(t weigh.Tally, p paint) string {
	var b strings.Builder
	wide := len("address")
	for addr := range t.ByAddr {
		wide = max(wide, len(addr))
	}
	columns := len("last tries")
	for _, a := range t.ByAddr {
		columns = max(columns, len(a.Last))
	}
	if len(t.ByAddr) > 0 {
		fmt.Fprintf(&b, "  %-*s %6s %6s  %-*s  %9s %9s %9s\n", wide, "address", "tries", "failed",
			columns, "last tries", "median", "95th pct", "longest")
	}
	for _, addr := range slices.Sorted(maps.Keys(t.ByAddr)) {
		a := t.ByAddr[addr]
		failed := fmt.Sprintf("%6d", a.Failed)
		if a.Failed > 0 {
			failed = p.as(red, failed)
		}
		times := fmt.Sprintf("%9s %9s %9s", "-", "-", "-")
		if a.Tries > a.Failed {
			ms := func(v float64) string { return fmt.Sprintf("%.1f ms", v) }
			times = fmt.Sprintf("%9s %9s %9s", ms(a.Within(0.5)), ms(a.Within(0.95)), ms(a.MostMS))
		}
		fmt.Fprintf(&b, "  %-*s %6d %s  %s%s  %s\n", wide, foreign.Printable(addr), a.Tries, failed,
			strip(a.Last, p), strings.Repeat(" ", columns-len(a.Last)), times)
	}
	const most = 8
	turns := t.Turns[max(0, len(t.Turns)-most):]
	if len(turns) > 0 {
		b.WriteString("\nWhen it turned:\n")
	}
	for _, turn := range turns {
		block(&b, "  ", "           ", strings.TrimSuffix(Watched(turn.Pulse, turn.Changes), "\n"), width)
	}
	return b.String()
}

// strip is some tries as marks, the newest last.
func strip(worked []bool, p paint) string {
	var b strings.Builder
	for _, works := range worked {
		if works {
			b.WriteString(p.as(green, "."))
		} else {
			b.WriteString(p.as(red, "F"))
		}
	}
	return b.String()
}

func counted(n int, word string) string {
	switch {
	case word == "":
		return fmt.Sprint(n)
	case n == 1:
		return "1 " + word
	case strings.HasSuffix(word, "y"):
		return fmt.Sprintf("%d %sies", n, strings.TrimSuffix(word, "y"))
	}
	return fmt.Sprintf("%d %ss", n, word)
}
