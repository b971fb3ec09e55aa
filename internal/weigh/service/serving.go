package service

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/plain"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// serving is the program behind the endpoint, as it was seen on the server.
type serving struct {
	v       *scene.Scene
	t       *scene.Try
	f       *fact.Fact // that it was seen by
	manager string
	p       *fact.Program
	u       *fact.Unit  // nil: none is known
	short   []gate.Lack // guards that are missing for all that is said of it
}

// startSlack is how long before a unit's change of state its log may tell of it.
const startSlack = 10 * time.Second

// preparingTime is how long a program may take to begin with what it has opened.
const preparingTime = 10 * time.Second

// startingTime is how long a service may take to open its ports.
const startingTime = 2 * time.Minute

// sameEvent is how close a line of the kernel's log must be to a unit's change
// of state to be about it.
const sameEvent = time.Minute

// stamped is the time at the beginning of a line, as most servers write it.
var stamped = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^\[?(\d{4})[-/](\d\d)[-/](\d\d)[ T](\d\d:\d\d:\d\d)`)
})

// flappingTime is how lately a unit must have been started again for its
// restarts to be about now.
const flappingTime = 10 * time.Minute

// reading begins a reading of the service.
func (s serving) reading(g gate.Gate, cause, summary string) gate.Reading {
	r := gate.Reading{
		Gate: g, Cause: cause, Because: scene.FactIDs(s.f), Vantage: s.t.Server, Lacks: slices.Clone(s.short),
		Summary: summary,
		Values:  s.v.Place(s.t, catalogue.Values{"program": s.p.Name, "path": s.p.Path}),
	}
	if s.u != nil {
		r.Values["unit"] = s.u.Name
	}
	// Whoever else holds the port may have answered our own try.
	if len(s.v.Taking(s.t)) > 0 && len(s.v.Ours(s.t, s.v.Taking(s.t))) == 0 {
		r.Reach = gate.Further
	}
	return r
}

// fromLog says which cause the lines of a failed start point at, and by which
// line: the one that tells most, and of those the last.
func (s serving) fromLog(lines []fact.LogLine) (cause, line string) {
	best := -1
	if m, at, ok := s.v.Programs.Means(s.p.Name, texts(lines), "start"); ok {
		return m.Cause, lines[at].Text // its own words have no other meaning
	}
	for _, l := range lines {
		if m, rank, ok := program.DoesNotStart(l.Text); ok && (best < 0 || rank <= best) {
			best, cause, line = rank, m.Cause, l.Text
		}
	}
	return cause, line
}

// down reads a service that does not hold its port.
func (s serving) down() []gate.Reading {
	here := s.p.Here()
	alive := slices.ContainsFunc(here, func(r fact.Process) bool { return r.State != "Z" })
	switch {
	case !scene.Installed(s.p):
		return s.absent()
	case len(s.p.Processes) > 0 && len(here) == 0 && s.mayServeElsewhere():
		return nil // it runs in another network namespace: that is a matter of ports
	case len(here) > 0 && !alive:
		return []gate.Reading{
			s.reading(
				gate.Listener,
				"service/zombie",
				fmt.Sprintf("%s (pid %d) has ended, and its parent has not collected it: it is a zombie", s.p.Name,
					here[0].PID),
			),
		}
	}
	denied, ok := s.denied()
	if ok && !alive && len(denied.Lacks) == len(s.short) {
		return []gate.Reading{denied}
	}
	if s.u != nil {
		if r, ok := s.unitDown(alive); ok {
			return []gate.Reading{r} // what was refused at another time is another matter
		}
	}
	if ok && !alive {
		return []gate.Reading{denied}
	}
	if !alive {
		text := fmt.Sprintf("%s is installed and no process of it runs", s.p.Name)
		if len(s.p.Processes) > 0 {
			text += " here"
			s.short = append(slices.Clone(s.short), gate.Lack{
				Guard: gate.SameProcess, Why: "a process of it runs in another network namespace",
			})
		}
		return []gate.Reading{s.stopped(text)}
	}
	if since := here[0].Since; !since.IsZero() && s.v.Ask.Began.Sub(since) < startingTime && s.mute() {
		r := s.reading(
			gate.Listener,
			"service/starting",
			fmt.Sprintf(
				"%s started %s ago and has not opened the port yet%s",
				s.p.Name,
				plain.Span(s.v.Ask.Began.Sub(since)),
				s.stillClosed(),
			),
		)
		r.Strength = gate.Inferred
		if s.v.Named(s.p) {
			return []gate.Reading{r}
		}
	}
	return nil
}

// mayServeElsewhere reports whether processes of the program in other network
// namespaces may be the endpoint's own: one listens on its port there, or is of
// its unit, or nobody could see where it is. Else they are another copy of the
// same program, as of a container.
func (s serving) mayServeElsewhere() bool {
	if slices.ContainsFunc(s.p.Processes, func(r fact.Process) bool { return r.Unplaced }) {
		return true
	}
	if s.u != nil && (s.u.Active == "active" || s.u.Active == "reloading") {
		return true
	}
	_, list := s.v.Listeners(s.t.Server)
	return list == nil || slices.ContainsFunc(list.Elsewhere, func(l fact.Listener) bool {
		return scene.Serves(l, []fact.Program{*s.p})
	})
}

// resources is what the server may have run out of.
func (s serving) resources() (*fact.Fact, *fact.Resources) {
	for _, f := range s.v.Facts(s.t.Server, fact.LookResources) {
		if f.Resources != nil {
			return f, f.Resources
		}
	}
	return nil, nil
}

// denied reads a service that mandatory access control refused something, or
// that the kernel killed for memory, by lines that name it.
func (s serving) denied() (gate.Reading, bool) {
	f, res := s.resources()
	if res == nil {
		return gate.Reading{}, false
	}
	var other gate.Reading // of another time
	for _, row := range []struct {
		cause string
		lines []fact.LogLine
		words string
	}{{"service/policy-denied", res.Denials, "was refused by the system's policy"},
		{"service/starved", res.Kills, "was killed for want of memory"}} {
		for _, l := range slices.Backward(row.lines) {
			if s.isNamed(l.Text) && !s.ofOther(l.Text, row.lines) {
				r := s.reading(gate.Listener, row.cause, fmt.Sprintf("%s %s: \"%s\"", s.p.Name, row.words, l.Text))
				r.Because = gate.Union(r.Because, scene.FactIDs(f))
				asked := s.u != nil && s.u.Active == "inactive" &&
					s.u.Result == "success" // then it was stopped in order
				if s.u != nil && !asked && !l.At.IsZero() && l.At.Sub(s.u.Since).Abs() <= sameEvent {
					return r, true
				}
				if other.Cause == "" {
					r.Lacks = append(
						r.Lacks,
						gate.Lack{Guard: gate.OneMeaning, Why: "nothing shows that this is why it is down now"},
					)
					other = r
				}
			}
		}
	}
	return other, other.Cause != ""
}

// isNamed reports whether a line of the kernel's log is about the service: it
// names its program, one that its unit starts, its process or its control
// group.
func (s serving) isNamed(line string) bool {
	names := []string{s.p.Name}
	if s.u != nil {
		names = append(names, s.u.Runs...)
		if strings.Contains(line, "/"+s.u.Name+",") ||
			s.u.MainPID != 0 && strings.Contains(line, fmt.Sprintf("Killed process %d ", s.u.MainPID)) {
			return true
		}
	}
	return slices.ContainsFunc(names, func(name string) bool {
		return strings.Contains(line, `"`+name+`"`) || strings.Contains(line, "("+name+")")
	})
}

// ofOther reports whether a line about a killed process is about one of another
// unit, by the line in which the kernel gives its control group
// (mm/oom_kill.c, dump_oom_summary): programs of one name serve many.
func (s serving) ofOther(line string, all []fact.LogLine) bool {
	m := killedProcess().FindStringSubmatch(line)
	if m == nil || s.u == nil {
		return false
	}
	return slices.ContainsFunc(all, func(l fact.LogLine) bool {
		return strings.Contains(l.Text, "task_memcg=") && strings.Contains(l.Text, "pid="+m[1]+",") &&
			!strings.Contains(l.Text, "/"+s.u.Name+",")
	})
}

var killedProcess = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`Killed process (\d+) `) })

// fullDisk doubts a server with a full file system.
func (s serving) fullDisk() (gate.Reading, bool) {
	f, res := s.resources()
	if res == nil {
		return gate.Reading{}, false
	}
	for _, d := range res.Disks {
		if d.Full() {
			r := s.reading(
				gate.Room,
				"service/starved",
				fmt.Sprintf("the file system of %s on %s is full", d.Path, s.v.Host(s.t.Server)),
			)
			r.Harmless, r.Because = true, scene.FactIDs(f)
			return r, true
		}
	}
	return gate.Reading{}, false
}

// mute reports whether the program listens nowhere at all, or on some of the
// card's ports and not on others: one that has another port open, and not this
// one, is not on its way to open it.
func (s serving) mute() bool {
	_, list := s.v.Listeners(s.t.Server)
	if list == nil {
		return false
	}
	closed, all := s.closedPorts()
	return closed > 0 && closed < all ||
		!slices.ContainsFunc(list.All, func(l fact.Listener) bool { return scene.Serves(l, []fact.Program{*s.p}) })
}

// closedPorts is how many of the card's ports are not open, of how many.
func (s serving) closedPorts() (closed, all int) {
	_, list := s.v.Listeners(s.t.Server)
	if s.v.Ask.Card == nil || list == nil {
		return 0, 0
	}
	for _, port := range s.v.Ask.Card.Ports {
		if len(list.On(s.v.Ask.Endpoint.Transport, port)) == 0 {
			closed++
		}
	}
	return closed, len(s.v.Ask.Card.Ports)
}

// stillClosed tells how many of the card's ports are not open yet.
func (s serving) stillClosed() string {
	closed, all := s.closedPorts()
	if all == 0 {
		return ""
	}
	return fmt.Sprintf("; %d of the card's %d ports are still closed", closed, all)
}

// absent reads a service that is not there at all. Only where it was said
// which one it is can it be missed.
func (s serving) absent() []gate.Reading {
	if !s.v.Named(s.p) {
		return nil
	}
	what := "program " + s.p.Name
	if len(s.p.Units) > 0 {
		what += " and unit " + s.p.Units[0].Name
	}
	return []gate.Reading{s.reading(gate.Listener, "service/not-installed", what+" are not on "+s.v.Host(s.t.Server))}
}

// stopped reads a service that simply does not run.
func (s serving) stopped(summary string) gate.Reading {
	r := s.reading(gate.Listener, "service/stopped", summary)
	if s.u != nil && s.u.Enabled == "transient" {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameProcess,
			Why: s.u.Name + " was started for the moment: whether it should still run is not known"})
	}
	if port := s.instead(); port != 0 {
		r.Lacks = append(r.Lacks, gate.Lack{
			Guard: gate.SameProcess,
			Why: fmt.Sprintf("%s is switched off for good, and whoever listens on port %d may serve in its place",
				s.u.Name, port),
		})
	}
	if s.manager != "" && s.u == nil && !s.v.Named(s.p) {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameProcess, Why: s.manager + " knows no unit for it"})
	}
	return r
}

// instead is a port that no other kind of service is known by and that somebody else
// listens on, where the unit in question is switched off for good; 0 if there is none:
// then it may be the one all the same.
func (s serving) instead() uint16 {
	if s.u == nil || s.u.Enabled != "disabled" || s.p.Why == "card" || s.v.Named(s.p) {
		return 0
	}
	_, list := s.v.Listeners(s.t.Server)
	if list == nil {
		return 0
	}
	for _, l := range list.All {
		usual := protocol.UsualOn(l.Port)
		fits := len(usual) == 0 || slices.Contains(usual, s.t.Target.Scheme)
		open := l.Transport != "udp" && !l.Addr.IsLoopback() && l.Port < filter.Ephemeral.Low
		if fits && open && !scene.Serves(l, []fact.Program{*s.p}) {
			return l.Port
		}
	}
	return 0
}

// unitDown reads what the service manager says of a service without a port.
func (s serving) unitDown(alive bool) (gate.Reading, bool) {
	u := s.u
	ago := plain.Since(s.v.Ask.Began, u.Since)
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
		if cause, line := s.fromLog(s.lastTries()); cause != "" { // its log files tell of other times too
			return s.reading(gate.Listener, cause, fmt.Sprintf("%s does not start: \"%s\"", u.Name, line)), true
		}
	case broken, s.flapping(): // between two starts it is active for a moment
		if r, ok := s.failedStart(); ok {
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
			strings.TrimSpace(fmt.Sprintf("%s failed %s: %s", u.Name, ago, howEnded(u))),
		)
		return r, true
	case alive:
		return gate.Reading{}, false
	case u.Load == "masked":
		r := s.stopped(u.Name + " is masked and no process of it runs")
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
			return plain.Shortened(text)
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
	r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameProcess, Why: "whoever held the port does not hold it now"})
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
// before an administrator started it anew may have been mended since.
func (s serving) lastTries() []fact.LogLine {
	last := s.lastStarts(1)
	if cause, _ := s.fromLog(last); cause != "" || s.u.Restarts == 0 {
		return last
	}
	return s.lastStarts(2)
}

// lastStarts is the lines of as many starts. One begins where the one before
// it ended: the manager may write that it started something only after the
// first words of what it started.
func (s serving) lastStarts(count int) []fact.LogLine {
	lines, said := s.u.Log, false
	for i, l := range slices.Backward(lines) {
		switch {
		case s.says("Starting", l.Text):
			if count--; count == 0 {
				return slices.Clone(lines[i:])
			}
			said = false
		case !s.managers(l.Text), s.says("Started", l.Text):
			said = true
		case said && s.ends(l.Text):
			if count--; count == 0 {
				return slices.Clone(lines[i+1:])
			}
			said = false
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

// up reads a service that holds its port: whether it serves, and whether it
// will go on.
func (s serving) up() []gate.Reading {
	var readings []gate.Reading
	stuck := s.t.Symptom == gate.ServerFirstSilent || s.t.Symptom == gate.ClientFirstSilent || s.t.Symptom.Silent()
	for _, r := range s.p.Here() {
		if (stuck || s.t.Symptom == gate.ServerFirstClosed || s.t.Symptom == gate.ClientFirstClosed) && r.Limit > 0 &&
			r.Files >= r.Limit {
			starved := s.reading(
				gate.Room,
				"service/starved",
				fmt.Sprintf("%s (pid %d) has %d files open and may have no more", s.p.Name, r.PID, r.Files),
			)
			starved.Shows = []gate.Symptom{
				gate.SilentTCP,
				gate.ServerFirstSilent,
				gate.ClientFirstSilent,
				gate.ServerFirstClosed,
				gate.ClientFirstClosed,
			}
			readings = append(readings, starved)
		}
		if s.t.Symptom != gate.Fine && s.t.Symptom != gate.NotTried && r.State == "T" {
			halted := s.hung(fmt.Sprintf("%s (pid %d) is halted: its process is stopped by a signal", s.p.Name, r.PID))
			if !stuck && !gate.Symptoms[s.t.Symptom].Open.Has(gate.Room) {
				halted.Reach = gate.Further // ours did not get so far
			}
			readings = append(readings, halted)
		}
	}
	if r, ok := s.muteToItself(); ok && len(readings) == 0 {
		readings = append(readings, r)
	}
	if l, ok := s.unaccepted(); ok && stuck && s.t.Symptom != gate.SilentTCP && !s.t.Climb.Hasty() {
		what := fmt.Sprintf("%s takes no connections: %s waiting", scene.Owner(l), waiting(l.Queue))
		if l.Transport == "udp" {
			what = fmt.Sprintf("%s reads no datagrams: %d bytes wait", scene.Owner(l), l.Queue)
		}
		r := s.hung(what)
		// A socket of datagrams is there before its program begins to read; one that
		// takes connections has said that it does.
		if young, ok := s.young(); ok && l.Transport == "udp" {
			r.Cause, r.Strength = "service/starting", gate.Inferred
			r.Summary = fmt.Sprintf("%s started %s ago and does not serve yet: %s", s.p.Name, plain.Span(young), what)
		}
		readings = append(readings, r)
	}
	harmless := func(cause, summary string) {
		r := s.reading(gate.Listener, cause, summary)
		r.Harmless, r.Rests.Changing = true, true
		readings = append(readings, r)
	}
	for _, log := range s.p.Logs {
		fresh, err := time.ParseDuration(log.Stale)
		if age := s.f.At.Sub(log.Changed); err == nil && age > fresh {
			harmless(
				"service/stale-log",
				fmt.Sprintf(
					"%s was last written %s ago; the card wants it every %s",
					log.Path,
					plain.Span(age),
					plain.Span(fresh),
				),
			)
		}
	}
	u := s.u
	if u == nil || u.Active != "active" || strings.HasSuffix(u.Name, ".socket") {
		return readings
	}
	if s.flapping() {
		harmless("service/restarting", fmt.Sprintf("%s runs now, and ends again and again: %s", u.Name, restarts(u)))
	}
	if u.Enabled == "disabled" && len(u.Sockets) == 0 {
		harmless("service/not-enabled", u.Name+" runs now and will not start by itself after a reboot")
	}
	return readings
}

// young is how long ago a program was started that may still be preparing itself.
func (s serving) young() (time.Duration, bool) {
	here := s.p.Here()
	if len(here) == 0 || here[0].Since.IsZero() {
		return 0, false
	}
	age := s.v.Ask.Began.Sub(here[0].Since)
	return max(age, 0), age < preparingTime
}

// flapping reports whether a unit was restarted again and again, the last time
// a little while ago.
func (s serving) flapping() bool {
	return s.u.Active != "failed" && s.u.Restarts > 1 && s.v.Ask.Began.Sub(s.u.Since) < flappingTime
}

func waiting(n uint32) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

// hung is the reading of a service that lives and serves nobody.
func (s serving) hung(summary string) gate.Reading {
	r := s.reading(gate.Room, "service/hung", summary)
	r.Shows = []gate.Symptom{gate.ServerFirstSilent, gate.ClientFirstSilent, gate.SilentTCP}
	return r
}

// muteToItself reads a service that its own host connects to, and that says
// nothing there either.
func (s serving) muteToItself() (gate.Reading, bool) {
	own := s.t.Sessions
	sym := own.Symptom(nil)
	if !s.t.OwnTry || own.Hasty() || sym != gate.ServerFirstSilent && sym != gate.ClientFirstSilent {
		return gate.Reading{}, false
	}
	r := s.hung(fmt.Sprintf("%s takes a connection of its own host too, and says nothing", s.p.Name))
	r.Strength, r.Reach, r.Because = gate.Inferred, gate.Further, gate.Union(r.Because, own.IDs())
	return r, true
}

// unaccepted is the service's listener if connections wait in its queue, by a
// second look that was taken while ours went without an answer.
func (s serving) unaccepted() (fact.Listener, bool) {
	for _, l := range s.v.ListenersLater(s.t) {
		if takes, certain := l.Takes(s.t.Target.Addr); takes && certain && l.Queue > 0 {
			return l, true
		}
	}
	return fact.Listener{}, false
}
