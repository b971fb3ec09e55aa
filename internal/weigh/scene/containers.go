package scene

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
)

// reserving is those that only keep the port: what leads on is a translation.
var reserving = []string{"conmon"}

// Relay reports whether a listener holds its port for a container.
func Relay(l fact.Listener) bool { return slices.Contains(publishers, l.Program) }

// Keeps reports whether it only keeps the port, and answers nobody.
func Keeps(l fact.Listener) bool { return slices.Contains(reserving, l.Program) }

// Containers is the containers of a host; nil if nobody looked.
func (v *Scene) Containers(vantage string) (*fact.Fact, *fact.Containers) {
	for _, f := range v.Facts(vantage, fact.LookContainers) {
		if f.Containers != nil {
			return f, f.Containers
		}
	}
	return nil, nil
}

// WantContainers asks for them.
func (v *Scene) WantContainers(w *Wants, t *Try, g gate.Gate) {
	w.Add(
		Want{Look: fact.LookContainers, At: fact.Server, On: t.Server, Target: fact.Target{Port: t.Target.Port},
			Gate: g},
	)
}

// PublishedAt is the container that an engine says the port of a try leads into,
// the one that runs first.
func (v *Scene) PublishedAt(t *Try) (f *fact.Fact, c *fact.Container, p fact.Published) {
	f, all := v.Containers(t.Server)
	if all == nil {
		return nil, nil, p
	}
	for i := range all.List {
		each := &all.List[i]
		at := slices.IndexFunc(each.Published, func(p fact.Published) bool {
			return p.Port == t.Target.Port && p.Transport == v.Ask.Endpoint.Transport
		})
		if at >= 0 && (c == nil || c.State != "running" && each.State == "running") {
			c, p = each, each.Published[at]
		}
	}
	return f, c, p
}

// HeldBy is the container that has an address in its own network.
func (v *Scene) HeldBy(vantage string, addr netip.Addr) (*fact.Fact, *fact.Container) {
	f, all := v.Containers(vantage)
	if all == nil {
		return nil, nil
	}
	for i := range all.List {
		if all.List[i].Holds(addr) {
			return f, &all.List[i]
		}
	}
	return f, nil
}

// Commands fills in what remedies of a container are made of: engines with commands of
// their own are told with those, and a pod by the cluster's.
func Commands(values catalogue.Values, c *fact.Container) {
	switch {
	case c.Engine == "podman" || c.Engine == "docker":
		values["container"], values["engine"] = c.Called(), c.Engine
	case c.Engine != "" && c.Pod != "":
		values["pod"], values["podwords"] = c.Pod, foreign.ShellWord(c.Pod)
		if space, name, ok := strings.Cut(c.Pod, "/"); ok {
			values["podwords"] = foreign.ShellWord(name) + " -n " + foreign.ShellWord(space)
		}
	}
}

// container begins a reading of a container.
func (v *Scene) container(t *Try, f *fact.Fact, c *fact.Container, cause, summary string) gate.Reading {
	r := gate.Reading{
		Gate: gate.Listener, Cause: cause,
		Strength: gate.Read, Because: FactIDs(f), Vantage: t.Server, Reach: gate.Further,
		Summary: summary,
		Values:  v.Place(t, catalogue.Values{"program": c.Called()}),
	}
	Commands(r.Values, c)
	if !v.Confirmed(t) {
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.SameHost, Why: NotConfirmed})
	}
	return r
}

// asked is exit codes of a process that was told to end (128 and the number of
// SIGINT, SIGKILL and SIGTERM).
var asked = map[int]string{0: "", 130: " (interrupted)", 137: " (killed)", 143: " (told to end)"}

// ownCodes is exit codes with a meaning of their own: of shells and engines (125 to 127), and
// of signals that a process gets for what it does (128 and SIGABRT, SIGSEGV).
var ownCodes = map[int]string{125: " (the engine could not start it)", 126: " (its command may not be executed)",
	127: " (its command is not there)", 134: " (it aborted)", 139: " (it crashed: segmentation fault)"}

// podWaits says which container of a pod runs and listens nowhere, with nobody beside it
// but some that ended well: the pod's first ones, which run one after the other before the
// rest is made, look so.
func podWaits(all []fact.Container, c *fact.Container) string {
	if c.Pod == "" || c.Engine == "podman" || len(c.Listeners) > 0 { // podman's pods have no such
		return ""
	}
	done := 0
	for _, each := range all {
		if each.ID == c.ID || each.Pod != c.Pod || each.Engine != c.Engine {
			continue
		}
		if each.State != "exited" || each.ExitCode != 0 {
			return ""
		}
		done++
	}
	text := fmt.Sprintf("its container %s still runs", c.Called())
	if done > 0 {
		text += fmt.Sprintf(", after %d that ended well", done)
	}
	return text + "; if it is one that goes before the others (an init container), they are made when it ends"
}

// endedBeside is a container that ended and shares the network of another, and whether it
// is the only one, and no task that was done: those end with 0.
func endedBeside(all []fact.Container, c *fact.Container) (ended *fact.Container, only bool) {
	count := 0
	for i := range all {
		each := &all[i]
		if each.State != "exited" && each.State != "restarting" && each.State != "dead" || !c.Together(*each) {
			continue
		}
		if count++; ended == nil || each.Ended.After(ended.Ended) {
			ended = each
		}
	}
	return ended, count == 1 && ended.ExitCode != 0
}

// NotRunning reads a container that should serve a port and does not run.
func (v *Scene) NotRunning(t *Try, f *fact.Fact, c *fact.Container) gate.Reading {
	return v.notRunning(t, f, c, fmt.Sprintf("container %s, which publishes %d,", c.Called(), t.Target.Port))
}

func (v *Scene) notRunning(t *Try, f *fact.Fact, c *fact.Container, which string) gate.Reading {
	ago := "before"
	if !c.Ended.IsZero() {
		ago = foreign.Span(max(0, v.Ask.Began.Sub(c.Ended))) + " ago"
	}
	how, told := asked[c.ExitCode]
	how = cmp.Or(how, ownCodes[c.ExitCode])
	ended := fmt.Sprintf("%s ended %s with %d%s", which, ago, c.ExitCode, how)
	words := make([]string, 0, len(c.Log))
	for _, l := range c.Log {
		words = append(words, l.Text)
	}
	if c.Error != "" {
		words = append(words, c.Error)
	}
	switch m, line, ok := startRefused(words); {
	case c.Starved:
		return v.container(t, f, c, "service/starved", ended+": it was killed for want of memory")
	case c.State == "restarting" || c.Restarts > 1 && v.Ask.Began.Sub(c.Started) < 2*time.Minute:
		text := fmt.Sprintf("%s ends and is started again and again, %d times", which, c.Restarts)
		if c.State != "running" {
			text += fmt.Sprintf(", the last time with %d%s", c.ExitCode, how)
		}
		if len(words) > 0 {
			text += fmt.Sprintf("; its last line: %q", words[len(words)-1])
		}
		r := v.container(t, f, c, "service/restarting", text)
		r.Rests.Changing = true
		return r
	case ok && (!told || c.Error != ""):
		r := v.container(t, f, c, m.Cause, fmt.Sprintf("%s does not start: %q", which, line))
		r.Strength = gate.Logged
		return r
	case c.State == "created" && ownCodes[c.ExitCode] != "":
		text := fmt.Sprintf("%s does not start: %d%s", which, c.ExitCode, how)
		if c.Error != "" {
			text += ": " + c.Error
		}
		return v.container(t, f, c, "service/failed", text)
	case c.State == "created":
		text := which + " was never started"
		if c.Error != "" {
			text += ": " + c.Error
		}
		return v.container(t, f, c, "service/stopped", text)
	case !told:
		if len(words) > 0 {
			ended += fmt.Sprintf("; its last line: %q", words[len(words)-1])
		}
		return v.container(t, f, c, "service/failed", ended)
	}
	return v.container(t, f, c, "service/stopped", ended)
}

// startRefused is the line that says why something does not start.
func startRefused(lines []string) (program.Meaning, string, bool) {
	best, meaning, line := -1, program.Meaning{}, ""
	for _, l := range lines {
		if m, rank, ok := program.DoesNotStart(l); ok && (best < 0 || rank <= best) {
			best, meaning, line = rank, m, l
		}
	}
	return meaning, line, best >= 0
}

// Inside reads a container that the port of a try leads into, at a port of its
// own network.
func (v *Scene) Inside(t *Try, f *fact.Fact, c *fact.Container, inside uint16) gate.Reading {
	name := "container " + c.Called()
	switch {
	case c.State == "paused":
		return v.container(t, f, c, "service/hung", name+" is paused")
	case c.State != "" && c.State != "running",
		c.Restarts > 1 && v.Ask.Began.Sub(c.Started) < time.Minute && len(c.Listeners) == 0:
		return v.NotRunning(t, f, c)
	case !c.Seen:
		r := v.container(
			t,
			f,
			c,
			"ports/none-listening",
			fmt.Sprintf("port %d leads to %d of %s", t.Target.Port, inside, name),
		)
		r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.AllRead, Why: "who listens in it is for root alone to see"})
		return r
	}
	lead := ""
	if inside != t.Target.Port {
		lead = fmt.Sprintf("; port %d leads there", t.Target.Port)
	}
	at := c.Own()
	var loopback, others []fact.Listener
	for _, l := range c.Listeners {
		same := (l.Transport == "udp") == (v.Ask.Endpoint.Transport == "udp")
		takes := !l.Addr.IsLoopback() && (!at.IsValid() || taken(l, at))
		switch {
		case !same:
		case l.Port == inside && takes:
			text := fmt.Sprintf("%s holds port %d (%s)%s", name, inside, cmp.Or(l.Program, "a process of its own"),
				lead)
			r := v.container(t, f, c, "", text)
			if c.Health == "unhealthy" {
				r.Cause, r.Gate, r.Harmless = "answer/not-ready", gate.Answer, t.Symptom.Good()
				r.Summary = fmt.Sprintf("%s is unhealthy by its own check", name)
				if c.Checked != "" {
					r.Summary += fmt.Sprintf(": %q", c.Checked)
				}
			}
			return r
		case l.Port == inside:
			loopback = append(loopback, l)
		case takes:
			others = append(others, l)
		}
	}
	where := fmt.Sprintf("port %d of it is published to %s", t.Target.Port, placeOf(at, inside))
	var all []fact.Container // of the same host
	if f != nil && f.Containers != nil {
		all = f.Containers.List
	}
	if waits := podWaits(all, c); waits != "" {
		r := v.container(t, f, c, "service/starting", fmt.Sprintf("nothing in pod %s listens: %s", c.Pod, waits))
		r.Strength = gate.Inferred
		return r
	}
	beside, only := endedBeside(all, c)
	switch {
	case beside != nil && len(loopback) == 0:
		r := v.notRunning(t, f, beside,
			fmt.Sprintf("container %s, which shares the network of %s, to which port %d leads,",
				beside.Called(), c.Called(), t.Target.Port))
		if !only {
			r.Lacks = append(r.Lacks, gate.Lack{Guard: gate.OneMeaning,
				Why: "whether it is the one that should listen there is not known"})
		}
		return r
	case len(loopback) > 0:
		l := loopback[0]
		r := v.container(t, f, c, "ports/loopback-only", fmt.Sprintf("%s in %s listens on %s:%d only; %s",
			cmp.Or(l.Program, "the program"), name, l.Addr, inside, where))
		r.Values["program"], r.Values["listen"], r.Values["inside"] = cmp.Or(
			l.Program,
			"the program",
		), l.Addr.String(), fmt.Sprint(
			inside,
		)
		if at.IsValid() {
			r.Values["addr"] = at.String()
		}
		return r
	case len(others) > 0:
		var ports []string
		for _, l := range others {
			if number := fmt.Sprint(l.Port); !slices.Contains(ports, number) {
				ports = append(ports, number)
			}
		}
		r := v.container(
			t,
			f,
			c,
			"settings/wrong-port",
			fmt.Sprintf("nothing in %s listens on %d, and %s listens there on %s; %s",
				name, inside, cmp.Or(others[0].Program, "it"), strings.Join(ports, ", "), where),
		)
		r.Values["inside"] = ports[0]
		if len(ports) > 1 {
			r.Lacks = append(
				r.Lacks,
				gate.Lack{Guard: gate.OneMeaning,
					Why: "several ports are open in it, and which of them is meant is not known"},
			)
		}
		return r
	}
	if since := v.Ask.Began.Sub(c.Started); !c.Started.IsZero() && since < 2*time.Minute {
		r := v.container(
			t,
			f,
			c,
			"service/starting",
			fmt.Sprintf("%s started %s ago, and nothing in it listens on %d yet", name, foreign.Span(since), inside),
		)
		r.Strength = gate.Inferred
		return r
	}
	return v.container(
		t,
		f,
		c,
		"ports/none-listening",
		fmt.Sprintf("nothing in %s listens on %d; %s", name, inside, where),
	)
}

func taken(l fact.Listener, addr netip.Addr) bool {
	takes, _ := l.Takes(addr)
	return takes
}

func placeOf(addr netip.Addr, port uint16) string {
	if !addr.IsValid() {
		return fmt.Sprintf("port %d inside", port)
	}
	return netip.AddrPortFrom(addr, port).String()
}
