package service

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// unitDown reads what the service manager says of a service without a port.
func (s serving) unitDown(alive bool) (gate.Reading, bool) {
	u := s.u
	ago := foreign.Since(s.v.Ask.Began, u.Since)
	broken := u.Active == "failed" || u.Sub == "auto-restart" || u.Active == "activating"
	switch {
	case len(u.Down) > 0 && u.Active != "active" && !s.stoppedInOrder():
		r := s.reading(
			gate.Listener,
			"service/needs-down",
			fmt.Sprintf("%s needs %s", u.Name, strings.Join(u.Down, ", ")),
		)
		r.Values["needed"], _, _ = strings.Cut(u.Down[0], " ")
		return r, true
	case u.Active == "failed" && s.stoppedInOrder():
		return s.stopped(
			strings.TrimSpace(
				fmt.Sprintf("%s was stopped %s, and its program ended by it with %s", u.Name, ago, howEnded(u)),
			),
		), true
	case broken && u.Result == "oom-kill":
		return s.reading(gate.Listener, "service/starved", u.Name+" was killed for want of memory"), true
	case leftNothing(s.p, u):
		cause, line := s.fromLog(s.lastTries())
		var short []gate.Lack
		if cause == "" {
			cause, line = s.fromLog(s.startLines())
			short = []gate.Lack{{Guard: gate.SameTime, Why: "its log files tell of other times too"}}
		}
		if cause != "" {
			r := s.reading(gate.Listener, cause, fmt.Sprintf("%s does not start: \"%s\"", u.Name, line))
			r.Lacks = append(r.Lacks, short...)
			return r, true
		}
	case broken, s.flapping(): // between two starts it is active shortly
		if r, ok := s.failedStart(); ok {
			return r, true
		}
	case s.startedAgain():
		if r, ok := s.failedStart(); ok {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameTime, Why: "it was started again, and may come up"})
			return r, true
		}
	}
	switch {
	case u.Sub == "auto-restart" || u.Active == "activating" && u.Restarts > 1, s.flapping():
		r := s.reading(
			gate.Listener,
			"service/restarting",
			fmt.Sprintf("%s ends and is started again and again: %s", u.Name, restarts(u)),
		)
		r.Rests.Changing = true
		return r, true
	case u.Active == "activating":
		return s.reading(gate.Listener, "service/starting", u.Name+" is starting "+ago), true
	case u.Active == "failed":
		r := s.reading(
			gate.Listener,
			"service/failed",
			fmt.Sprintf("%s: %s", strings.TrimSpace(u.Name+" failed "+ago), howEnded(u)),
		)
		return r, true
	case alive:
		return gate.Reading{}, false
	case u.Load == "masked":
		r := s.stopped(u.Name + " is masked and not running")
		r.Values["masked"] = u.Name
		return r, true
	case u.Active == "inactive" && len(u.Failed) > 0:
		return s.stopped(fmt.Sprintf("%s was not started: its condition %s is not met", u.Name, u.Failed[0])), true
	case u.Active == "inactive":
		return s.stopped(strings.TrimSpace(fmt.Sprintf("%s is stopped %s", u.Name, ago))), true
	}
	r := s.stopped(fmt.Sprintf("no process of %s runs", s.p.Name))
	if said := lastWord(s.lastTries()); leftNothing(s.p, u) && said != "" {
		r.Summary += fmt.Sprintf(", and at its start it said %q", said)
	}
	r.Lacks = append(
		r.Lacks,
		gate.Lack{Guard: gate.SameProcess, Why: fmt.Sprintf("%s says it is %s", u.Name, u.Active)},
	)
	return r, true
}

// lastWord is the last line of a start that the service manager did not write.
func lastWord(lines []fact.LogLine) string {
	for _, l := range slices.Backward(lines) {
		text := strings.TrimSpace(l.Text)
		managers := slices.ContainsFunc([]string{"Starting ", "Started ", "Stopping ", "Stopped ", "Failed to start "},
			func(begin string) bool { return strings.HasPrefix(text, begin) })
		if !managers && strings.Count(text, " ") > 0 && !strings.HasSuffix(text, ".service.") {
			return foreign.Shortened(text)
		}
	}
	return ""
}

// stoppedInOrder reports whether a unit was stopped, and not started since:
// what it needs may have ended with it, and its program may have ended badly.
func (s serving) stoppedInOrder() bool {
	for _, l := range slices.Backward(s.u.Log) {
		switch {
		case s.says("Started", l.Text):
			return false
		case s.says("Stopping", l.Text):
			return s.u.Active == "inactive" || s.u.Active == "failed"
		case strings.HasPrefix(l.Text, "Dependency failed for "),
			s.says("Starting", l.Text),
			strings.HasPrefix(l.Text, "Failed to start "):
			return false
		case s.says("Stopped", l.Text) && s.u.Active == "inactive":
			return true
		}
	}
	return false
}

// startLines is what was said at the last start, by the unit and in the
// program's own log files.
func (s serving) startLines() []fact.LogLine {
	lines := s.lastTries()
	for _, file := range s.p.Logs {
		// A file without times speaks of this start only if it was written
		// since the unit changed its state.
		if !s.u.Since.IsZero() && !file.Changed.Before(s.u.Since.Add(-startSlack)) {
			for _, text := range newest(file.Lines) {
				lines = append(lines, fact.LogLine{Text: text})
			}
		}
	}
	return lines
}

// failedStart reads why a start failed.
func (s serving) failedStart() (gate.Reading, bool) {
	lines := s.startLines()
	cause, line := s.v.CardReason(texts(lines), "service")
	if cause == "" {
		cause, line = s.fromLog(lines)
	}
	if cause == "" {
		return gate.Reading{}, false
	}
	r := s.reading(gate.Listener, cause, fmt.Sprintf("%s does not start: \"%s\"", s.u.Name, line))
	if cause != "service/port-taken" {
		return r, true
	}
	for _, l := range s.v.Taking(s.t) {
		if !scene.Serves(l, []fact.Program{*s.p}) {
			r.Summary = fmt.Sprintf("%s does not start: %s holds port %d", s.u.Name, scene.Owner(l), l.Port)
			r.Values["other"], r.Values["other-unit"] = scene.Owner(l), l.Unit
			return r, true
		}
	}
	r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameProcess,
		Why: "the process that held the port does not hold it now"})
	return r, true
}

// texts is lines of a log without their times.
func texts(lines []fact.LogLine) []string {
	var list []string
	for _, l := range lines {
		list = append(list, l.Text)
	}
	return list
}

// newest is the lines of a file that were written around the time of its last
// one, where lines have times: what is older speaks of another start.
func newest(lines []string) []string {
	at := func(line string) (time.Time, bool) {
		m := stamped().FindStringSubmatch(line)
		if m == nil {
			return time.Time{}, false
		}
		when, err := time.Parse("2006-01-02 15:04:05", m[1]+"-"+m[2]+"-"+m[3]+" "+m[4])
		return when, err == nil
	}
	for i, last := len(lines)-1, (time.Time{}); i >= 0; i-- {
		when, ok := at(lines[i])
		switch {
		case !ok:
		case last.IsZero():
			last = when
		case last.Sub(when) > startSlack:
			return lines[i+1:]
		}
	}
	return lines
}

// lastTries is the lines of a unit's last start or, where that is under way
// after others that failed and has not said why, of the last two. What it said
// before an administrator started it anew may have been fixed since.
func (s serving) lastTries() []fact.LogLine {
	last := s.lastStarts(1)
	if cause, _ := s.fromLog(last); cause != "" || s.u.Restarts == 0 {
		return last
	}
	return s.lastStarts(2)
}

// lastStarts is the lines of as many starts. One begins where the one before
// it ended: the manager may write that it started something only after the
// first words of what it started. Words after an end are parting ones, unless
// something was started since.
func (s serving) lastStarts(count int) []fact.LogLine {
	lines, said, begun := s.u.Log, false, s.u.Active == "active"
	for i, l := range slices.Backward(lines) {
		switch {
		case s.says("Starting", l.Text):
			if count--; count == 0 {
				return slices.Clone(lines[i:])
			}
			said, begun = false, false
		case s.says("Started", l.Text):
			said, begun = true, true
		case !s.managers(l.Text):
			said = true
		case said && begun && s.ends(l.Text):
			if count--; count == 0 {
				return slices.Clone(lines[i+1:])
			}
			said, begun = false, false
		}
	}
	return slices.Clone(lines)
}

// says reports whether a line is of the manager, about the unit: "Starting
// UNIT - …", or with the unit's description before systemd 249. Programs begin
// lines of their own with the same words.
func (s serving) says(verb, line string) bool {
	return strings.HasPrefix(line, verb+" ") &&
		(strings.Contains(line, s.u.Name) || strings.HasSuffix(line, "...") || strings.HasSuffix(verb, "ed") &&
			strings.HasSuffix(line, "."))
}

// managers reports whether a line is of the manager, which says that something
// went wrong and not what.
func (s serving) managers(line string) bool {
	return strings.HasPrefix(line, s.u.Name+": ") || s.says("Started", line) || s.says("Stopping", line) ||
		s.ends(line)
}

// ends reports whether a line of the manager says that a unit has ended.
func (s serving) ends(line string) bool {
	return s.says("Stopped", line) || strings.HasPrefix(line, "Failed to start ") ||
		strings.HasPrefix(line, s.u.Name+": Failed with result") ||
		strings.HasPrefix(line, s.u.Name+": Deactivated successfully")
}

// howEnded is how a unit's main process ended.
func howEnded(u *fact.Unit) string {
	text := u.Result
	switch {
	case u.Signal:
		text = fmt.Sprintf("killed by signal %d", u.Status)
	case u.Status != 0:
		text = fmt.Sprintf("exit status %d", u.Status)
	}
	for _, l := range slices.Backward(u.Log) {
		if u.Restarts == 0 && (strings.HasPrefix(l.Text, "Stopped ") ||
			strings.HasSuffix(l.Text, ": Deactivated successfully.")) {
			break // what was said before was of another time
		}
		// The manager's own lines say that it failed, not why.
		if l.Unit == u.Name && !strings.HasPrefix(l.Text, u.Name) && !strings.HasPrefix(l.Text, "Failed to start") &&
			!strings.HasPrefix(l.Text, "Start") &&
			!strings.HasPrefix(l.Text, "Stopp") {
			return text + fmt.Sprintf(", its log ends in \"%s\"", l.Text)
		}
	}
	return text
}

func restarts(u *fact.Unit) string {
	n := max(u.Restarts, u.Starts)
	if n == 1 {
		return "once so far"
	}
	return fmt.Sprintf("%d times so far", n)
}
