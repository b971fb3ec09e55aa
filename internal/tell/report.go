package tell

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// ReportFormat names the format of a [Report] in JSON.
const ReportFormat = "uakari.report/1"

// Report is one case to hand over: to a colleague, a network team, a supplier.
type Report struct {
	Format   string         `json:"format"`
	Case     int64          `json:"case"`
	Title    string         `json:"title"`
	State    string         `json:"state"` // "open" or "closed"; the outcome, where there is no case
	Made     time.Time      `json:"made"`
	Summary  []string       `json:"summary"` // three sentences
	Path     []ReportPlace  `json:"path"`
	Ladder   []ReportRung   `json:"ladder"`
	Signs    []trail.Sign   `json:"signs,omitempty"` // of the card, as the last trace has them
	Causes   []trail.Cause  `json:"causes"`          // of the first trace that failed
	Changes  []ReportChange `json:"changes"`
	Timeline []ReportMoment `json:"timeline"`
	Times    []ReportTime   `json:"times"`
	Widths   []ReportWidth  `json:"widths"`             // of requests side by side
	LimitMS  int64          `json:"limit_ms,omitempty"` // how long clients wait
	Since    *trail.Since   `json:"since,omitempty"`    // what changed since it worked
	Evidence []ReportSeen   `json:"evidence"`
	Unseen   []string       `json:"unseen"`
}

// ReportPlace is a host on the way.
type ReportPlace struct {
	Role   string `json:"role"`
	Host   string `json:"host"`
	Addr   string `json:"addr,omitempty"`   // as the client's try went
	Hops   int    `json:"hops,omitempty"`   // routers that answered before it
	Breaks string `json:"breaks,omitempty"` // the rung that breaks here
}

// ReportRung is a rung before and after.
type ReportRung struct {
	Name   trail.Rung  `json:"name"`
	Before trail.State `json:"before"`
	Now    trail.State `json:"now"`
	Says   string      `json:"says"`
}

// ReportChange is what was done.
type ReportChange struct {
	At    time.Time `json:"at"`
	What  string    `json:"what"`
	State string    `json:"state"` // "stays", "undone …" or "still to undo: …"
}

// ReportMoment is one line of the time line.
type ReportMoment struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind"`
	Text string    `json:"text"`
	// Works is that of a trace that reached the endpoint.
	Works bool `json:"works,omitempty"`
}

// ReportTime is how long one step took, in the last trace.
type ReportTime struct {
	Step string  `json:"step"`
	MS   float64 `json:"ms"`
}

// ReportSeen is one piece of evidence.
type ReportSeen struct {
	ID     string    `json:"id"`
	At     time.Time `json:"at"`
	Host   string    `json:"host"`
	Source string    `json:"source"`
	Saw    string    `json:"saw"`
	// Decides is that a cause rests on it.
	Decides bool `json:"decides,omitempty"`
}

// MakeReport puts a case together. Made is when.
func MakeReport(c casebook.Case, judged map[int64]trail.Trail, made time.Time) Report {
	r := Report{
		Format:   ReportFormat,
		Case:     c.ID,
		Title:    c.Title,
		State:    "open",
		Made:     made.UTC(),
		Causes:   []trail.Cause{},
		Changes:  []ReportChange{},
		Timeline: []ReportMoment{},
		Times:    []ReportTime{},
		Widths:   []ReportWidth{},
		Evidence: []ReportSeen{},
		Unseen:   []string{},
		Path:     []ReportPlace{},
		Ladder:   []ReportRung{},
	}
	if !c.Closed.IsZero() {
		r.State = "closed"
	}
	var first, last trail.Trail
	for _, e := range c.Traces() {
		t := judged[e.Number]
		if first.Format == "" || first.Outcome == trail.OutcomeClear && t.Outcome != trail.OutcomeClear {
			first = t
		}
		last = t
	}
	for _, e := range c.Entries {
		works := e.Kind == casebook.Trace && judged[e.Number].Outcome == trail.OutcomeClear
		r.Timeline = append(r.Timeline, ReportMoment{e.At.UTC(), e.Kind, entryText(e, judged), works})
		if e.Kind == casebook.Change {
			state := "stays"
			switch {
			case !e.Undone.IsZero():
				state = "undone " + e.Undone.UTC().Format(moments)
			case e.Temporary:
				state = "still to undo: " + e.Undo
			}
			r.Changes = append(r.Changes, ReportChange{e.At.UTC(), e.Text, state})
		}
	}
	if !c.Closed.IsZero() {
		r.Timeline = append(
			r.Timeline,
			ReportMoment{
				At:   c.Closed.UTC(),
				Kind: "closed",
				Text: "after " + c.Closed.Sub(c.Opened).Round(time.Second).String(),
			},
		)
	}
	if first.Format == "" {
		r.Summary = []string{"Nothing was traced in this case."}
		return r
	}
	r.Causes = allBlocking(first)
	r.Summary = summary(c, first, last)
	r.path(first, firstSet(c, judged))
	r.hops(first)
	if r.Since = first.Since; r.Since != nil {
		r.Timeline = append(
			[]ReportMoment{{At: r.Since.When.UTC(), Kind: lastGood, Text: "the endpoint was reached"}},
			r.Timeline...)
	}
	for i, rung := range first.Rungs {
		line := ReportRung{Name: rung.Name, Before: rung.State, Now: rung.State, Says: rung.Summary}
		if i < len(last.Rungs) {
			line.Now = last.Rungs[i].State
		}
		r.Ladder = append(r.Ladder, line)
		if rung.State == trail.Unseen {
			says := string(rung.Name) + ": " + rung.Summary
			if rung.Needs != "" {
				says += " (what would show it: " + rung.Needs + ")"
			}
			r.Unseen = append(r.Unseen, says)
		}
	}
	r.Signs = last.Signs
	for _, e := range first.Evidence {
		decides := slices.ContainsFunc(first.Causes, func(c trail.Cause) bool {
			return slices.Contains(c.Because, e.ID)
		})
		r.Evidence = append(r.Evidence,
			ReportSeen{e.ID, e.At.UTC(), first.Host(e.Vantage), e.Source, e.Saw, decides})
	}
	r.times(c)
	if set := c.Traces()[len(c.Traces())-1].Set; set != nil {
		r.Widths = widths(set)
		if set.Ask.Card != nil {
			if limit, err := time.ParseDuration(set.Ask.Card.Limit); err == nil {
				r.LimitMS = limit.Milliseconds()
			}
		}
	}
	return r
}

// firstSet is the facts of the trace that a report is about: the first that
// failed, or the first.
func firstSet(c casebook.Case, judged map[int64]trail.Trail) *fact.Set {
	traces := c.Traces()
	for _, e := range traces {
		if judged[e.Number].Outcome != trail.OutcomeClear {
			return e.Set
		}
	}
	return traces[0].Set
}

// TraceReport is a report of one trace that is in no case.
func TraceReport(set fact.Set, t trail.Trail) Report {
	c := casebook.Case{
		Title:   Title(t),
		Opened:  t.Began,
		Entries: []casebook.Entry{{Number: 1, At: t.Ended, Kind: casebook.Trace, Set: &set}},
	}
	r := MakeReport(c, map[int64]trail.Trail{1: t}, t.Ended)
	r.Summary, r.State = r.Summary[:len(r.Summary)-1], string(t.Outcome)
	return r
}

// heading is what a report is called.
func (r Report) heading() string {
	if r.Case == 0 {
		return r.Title
	}
	return fmt.Sprintf("Case %d: %s", r.Case, r.Title)
}

// summary is the case in three sentences: what failed, why, and how it stands.
func summary(c casebook.Case, first, last trail.Trail) []string {
	list := []string{fmt.Sprintf("%s UTC: %s.", c.Opened.UTC().Format(moments), c.Title)}
	if blocking := allBlocking(first); len(blocking) > 0 {
		text := fmt.Sprintf("Because %s (%s, %s)", blocking[0].Summary, blocking[0].ID, blocking[0].Certainty)
		if more := len(blocking) - 1; more > 0 {
			text += ", and for " + counted(more, "more reason")
		}
		list = append(list, text+".")
	} else if first.Outcome != trail.OutcomeClear {
		list = append(list, "Nothing that was seen proves why.")
	}
	switch {
	case !c.Closed.IsZero() && last.Outcome == trail.OutcomeClear:
		list = append(
			list,
			fmt.Sprintf("It works again, confirmed %s later.", c.Closed.Sub(c.Opened).Round(time.Second)),
		)
	case !c.Closed.IsZero():
		list = append(list, "The case was closed without being confirmed.")
	case len(c.Standing()) > 0:
		list = append(list, "The case is open: what was changed for now still stands.")
	default:
		list = append(list, "The case is open.")
	}
	return list
}

// allBlocking is the causes of a trail and of the hops behind it, the deepest
// first.
func allBlocking(t trail.Trail) []trail.Cause {
	var list []trail.Cause
	for _, b := range t.Behind {
		for _, c := range allBlocking(b.Trail) {
			c.Summary = fmt.Sprintf("seen from %s: %s", t.Host(b.From), c.Summary)
			list = append(list, c)
		}
	}
	return append(list, t.Blocking()...)
}

// hops puts the hops behind the server on the way.
func (r *Report) hops(t trail.Trail) {
	for _, b := range t.Behind {
		place := ReportPlace{Role: "server", Host: b.Trail.Endpoint.Host}
		if blocking := b.Trail.Blocking(); len(blocking) > 0 {
			place.Breaks = string(blocking[0].Rung)
		}
		r.Path = append(r.Path, place)
		r.hops(b.Trail)
	}
}

// path is the hosts from client to server, and where it breaks.
func (r *Report) path(t trail.Trail, set *fact.Set) {
	source, target, hops := placesSeen(set, clientID(t))
	breaks := map[string]string{}
	for _, c := range t.Blocking() {
		if at := brokenAt(t, c); breaks[at] == "" {
			breaks[at] = string(c.Rung)
		}
	}
	server := false
	for _, role := range []string{"client", "gateway", "server"} {
		for _, v := range t.Vantages {
			if string(v.Role) == role {
				place := ReportPlace{Role: role, Host: v.Host, Breaks: breaks[v.ID]}
				switch role {
				case "client":
					place.Addr = source
				case "server":
					place.Addr, place.Hops = target, hops
				}
				r.Path = append(r.Path, place)
				server = server || role == "server"
			}
		}
	}
	if !server {
		r.Path = append(r.Path, ReportPlace{Role: "server", Host: t.Endpoint.Host, Addr: target, Hops: hops})
	}
}

// brokenAt is the vantage of the host where a cause is fixed, which may be another
// than the one that it was seen from.
func brokenAt(t trail.Trail, c trail.Cause) string {
	if len(c.Remedies) == 0 || t.Host(c.Vantage) == c.Remedies[0].Host {
		return c.Vantage
	}
	for _, v := range t.Vantages {
		if v.Host == c.Remedies[0].Host {
			return v.ID
		}
	}
	return c.Vantage
}

// times is how long each step of the client's last connection took.
func (r *Report) times(c casebook.Case) {
	traces := c.Traces()
	for _, f := range traces[len(traces)-1].Set.Facts {
		switch {
		case f.Connect != nil && len(r.Times) == 0:
			r.Times = append(r.Times, ReportTime{"connect", f.Connect.TookMS})
		case f.Handshake != nil && len(r.Times) == 1:
			r.Times = append(r.Times, ReportTime{"secure session", f.Handshake.TookMS})
		case f.Reply != nil && len(r.Times) > 0 && !slices.ContainsFunc(r.Times,
			func(t ReportTime) bool { return t.Step == "answer" }):
			r.Times = append(r.Times, ReportTime{"answer", max(0, f.Reply.FirstMS-f.Reply.SentMS)})
		}
	}
}

// Markdown is a report as text that other programs lay out.
func (r Report) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n", mark(r.heading()), mark(strings.Join(r.Summary, " ")))
	b.WriteString("\n## The way\n\n")
	var places []string
	for _, p := range r.Path {
		text := fmt.Sprintf("%s (%s)", mark(p.Host), p.Role)
		if p.Breaks != "" {
			text += ", **breaks here: " + p.Breaks + "**"
		}
		places = append(places, text)
	}
	b.WriteString(strings.Join(places, " → ") + "\n")
	table := func(title string, heads []string, rows [][]string) {
		if len(rows) == 0 {
			return
		}
		fmt.Fprintf(
			&b,
			"\n## %s\n\n| %s |\n|%s\n",
			title,
			strings.Join(heads, " | "),
			strings.Repeat("---|", len(heads)),
		)
		for _, row := range rows {
			for i := range row {
				row[i] = mark(row[i])
			}
			fmt.Fprintf(&b, "| %s |\n", strings.Join(row, " | "))
		}
	}
	for _, section := range r.sections() {
		table(section.Title, section.Heads, section.Rows)
	}
	if len(r.Unseen) > 0 {
		b.WriteString("\n## What could not be seen\n\n")
		for _, text := range r.Unseen {
			fmt.Fprintf(&b, "- %s\n", mark(text))
		}
	}
	return b.String()
}

// section is one table of a report.
type section struct {
	Title string
	Heads []string
	Rows  [][]string
	// Folded is that it is opened by who wants it.
	Folded bool
}

func (r Report) sections() []section {
	var why, ladder, signs, changes, line, seen, since [][]string
	if r.Since != nil {
		for _, c := range r.Since.Changed[:min(len(r.Since.Changed), mostSince)] {
			at := ""
			if !c.At.IsZero() {
				at = c.At.UTC().Format(moments)
			}
			since = append(since, []string{c.Host, c.What, c.Was, c.Now, at, c.Explains})
		}
	}
	for _, c := range r.Causes {
		todo := ""
		for _, m := range c.Remedies {
			todo = m.Do
			if m.Command != "" {
				todo += ": " + m.Command
			}
			todo += fmt.Sprintf(" (on %s; risk: %s; undo: %s)", m.Host, m.Risk, m.Undo)
			break
		}
		why = append(why, []string{c.ID, string(c.Certainty), c.Summary, todo})
	}
	for _, g := range r.Ladder {
		ladder = append(ladder, []string{string(g.Name), string(g.Before), string(g.Now), g.Says})
	}
	for _, s := range r.Signs {
		signs = append(signs, []string{s.Host, s.What, string(s.State), s.Saw})
	}
	for _, c := range r.Changes {
		changes = append(changes, []string{c.At.Format(moments), c.What, c.State})
	}
	for _, m := range r.Timeline {
		line = append(line, []string{m.At.Format(moments), m.Kind, m.Text})
	}
	var hosts []string
	also := map[string][][]string{}
	for _, e := range r.Evidence {
		row := []string{e.ID, e.At.Format(moments), e.Host, e.Source, e.Saw}
		if e.Decides {
			seen = append(seen, row)
			continue
		}
		if also[e.Host] == nil {
			hosts = append(hosts, e.Host)
		}
		also[e.Host] = append(also[e.Host], row)
	}
	list := []section{
		{Title: "Why", Heads: []string{"cause", "certainty", "what", "the fix"}, Rows: why},
		{Title: "What changed since it worked",
			Heads: []string{"host", "what", "was", "is", "since (UTC)", "explains"}, Rows: since},
		{Title: "The ladder, before and now",
			Heads: []string{"rung", "before", "now", "what was seen first"}, Rows: ladder},
		{Title: "Signs of health, now", Heads: []string{"host", "sign", "state", "what was seen"}, Rows: signs},
		{Title: "What was changed", Heads: []string{"time (UTC)", "what", "state"}, Rows: changes},
		{Title: "Time line", Heads: []string{"time (UTC)", "", "what"}, Rows: line},
		{Title: "What it rests on", Heads: evidenceHeads, Rows: seen},
	}
	for _, host := range hosts {
		list = append(list,
			section{Title: "Also seen on " + host, Heads: evidenceHeads, Rows: also[host], Folded: true})
	}
	return list
}

var evidenceHeads = []string{"", "time (UTC)", "host", "what was done", "what came of it"}

// mark makes text harmless within a line of Markdown.
func mark(text string) string {
	return strings.NewReplacer("\\", "\\\\", "|", "\\|", "<", "&lt;", "*", "\\*", "`", "'", "[", "\\[").
		Replace(foreign.Printable(text))
}
