package tell

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// incident is a case that failed, was mended and works again.
func incident() (casebook.Case, map[int64]trail.Trail) {
	at := time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	vantages := []trail.Vantage{
		{ID: "v1", Role: "client", Host: "gauge-07"},
		{ID: "v3", Role: "gateway", Host: "heron"},
		{ID: "v2", Role: "server", Host: "tidebook"},
	}
	rungs := func(state trail.State) []trail.Finding {
		return []trail.Finding{
			{Name: trail.Rules, State: state, Summary: "handle 31 drops it"},
			{Name: trail.Login, State: trail.Unseen, Summary: "no account was tried", Needs: "--user"},
		}
	}
	failed := trail.Trail{
		Format:   trail.Format,
		Outcome:  trail.OutcomeFault,
		Reached:  trail.No,
		Vantages: vantages,
		Rungs:    rungs(trail.Fault),
		Endpoint: trail.Endpoint{Host: "tidebook.varzea.example", Port: 443},
		Causes: []trail.Cause{
			{
				ID:        "rules/server-drop",
				Rung:      trail.Rules,
				Certainty: trail.Proven,
				Blocking:  true,
				Vantage:   "v2",
				Summary:   "a rule on tidebook drops it",
				Because:   []string{"e1"},
				Remedies: []trail.Remedy{
					{Do: "let it in", Command: "nft insert rule", Host: "tidebook", Risk: "none",
						Undo: "nft delete rule"},
				},
			},
		},
		Evidence: []trail.Evidence{
			{ID: "e1", Vantage: "v1", At: at, Source: "tcp connect", Saw: "no answer | in 4 s"},
			{ID: "e2", Vantage: "v1", At: at, Source: "routes", Saw: "3 routes"},
		},
	}
	works := trail.Trail{
		Format:   trail.Format,
		Outcome:  trail.OutcomeClear,
		Reached:  trail.Yes,
		Vantages: vantages,
		Rungs:    rungs(trail.Clear),
		Endpoint: failed.Endpoint,
	}
	set := &fact.Set{
		Facts: []fact.Fact{
			{Connect: &fact.Connect{TookMS: 2}},
			{Handshake: &fact.Handshake{TookMS: 20}},
			{Reply: &fact.Reply{SentMS: 1, FirstMS: 11}},
		},
	}
	return casebook.Case{
			ID:     7,
			Title:  "gauge-07 cannot reach tidebook.varzea.example:443",
			Opened: at,
			Closed: at.Add(23 * time.Minute),
			Entries: []casebook.Entry{
				{Number: 1, At: at, Kind: casebook.Trace, Set: set},
				{
					Number:    2,
					At:        at.Add(time.Minute),
					Kind:      casebook.Change,
					Text:      "let everybody in",
					Temporary: true,
					Undo:      "delete the rule",
					Undone:    at.Add(20 * time.Minute),
				},
				{Number: 3, At: at.Add(23 * time.Minute), Kind: casebook.Trace, Set: set},
			},
		}, map[int64]trail.Trail{
			1: failed,
			3: works,
		}
}

// TestReport is what a report says of an incident.
func TestReport(t *testing.T) {
	c, judged := incident()
	r := MakeReport(c, judged, c.Closed)
	want := []string{
		"2026-11-23 03:00:00 UTC: gauge-07 cannot reach tidebook.varzea.example:443.",
		"Because a rule on tidebook drops it (rules/server-drop, proven).",
		"It works again, confirmed 23m0s later.",
	}
	if strings.Join(r.Summary, "|") != strings.Join(want, "|") {
		t.Errorf("%q", r.Summary)
	}
	var way []string
	for _, p := range r.Path {
		way = append(way, strings.TrimSpace(p.Role+" "+p.Host+" "+p.Breaks))
	}
	if strings.Join(way, ", ") != "client gauge-07, gateway heron, server tidebook rules" {
		t.Errorf("%q", way)
	}
	if r.State != "closed" || r.Ladder[0].Before != trail.Fault || r.Ladder[0].Now != trail.Clear ||
		len(r.Unseen) != 1 ||
		r.Changes[0].State != "undone 2026-11-23 03:20:00" ||
		len(r.Times) != 3 ||
		len(r.Timeline) != 4 {
		t.Errorf("%+v", r)
	}
	text := r.Markdown()
	for _, each := range []string{"# Case 7:", "| rules/server-drop | proven |", `no answer \| in 4 s`,
		"**breaks here: rules**", "What could not be seen"} {
		if !strings.Contains(text, each) {
			t.Errorf("no %q in\n%s", each, text)
		}
	}
	page, err := r.HTML()
	if err != nil || !strings.Contains(page, "<title>Case 7:") || strings.Count(page, "<h2>") != 9 ||
		!strings.Contains(page, "<details><summary>Also seen on gauge-07 (1)</summary>") {
		t.Errorf("%v, %d sections", err, strings.Count(page, "<h2>"))
	}
	c.Closed, c.Entries[1].Undone = time.Time{}, time.Time{}
	if open := MakeReport(c, judged, c.Opened); open.State != "open" ||
		!strings.Contains(open.Summary[2], "still stands") ||
		open.Changes[0].State != "still to undo: delete the rule" {
		t.Errorf("%+v", open.Summary)
	}
	alone := TraceReport(*c.Entries[0].Set, judged[1])
	if page, err := alone.HTML(); err != nil || !strings.Contains(page, "<title>gauge-07 cannot reach") ||
		alone.State != "fault" ||
		len(alone.Summary) != 2 {
		t.Errorf("%v %+v", err, alone.Summary)
	}
	if empty := MakeReport(casebook.Case{ID: 8, Title: "x"}, nil, c.Opened); len(empty.Summary) != 1 {
		t.Errorf("%+v", empty)
	}
}

// TestBrokenAt is where the way breaks: where it is mended, if that is a host of the
// way, else where it was seen.
func TestBrokenAt(t *testing.T) {
	judged := trail.Trail{Vantages: []trail.Vantage{
		{ID: "v1", Role: "client", Host: "gauge-07"}, {ID: "v2", Role: "server", Host: "tidebook"},
	}}
	for host, want := range map[string]string{"tidebook": "v2", "gauge-07": "v1", "the owner of the names": "v1",
		"": "v1"} {
		c := trail.Cause{Vantage: "v1"}
		if host != "" {
			c.Remedies = []trail.Remedy{{Host: host}}
		}
		if got := brokenAt(judged, c); got != want {
			t.Errorf("%q: %s, want %s", host, got, want)
		}
	}
}

// TestFigures is what is drawn of an incident: the way with its addresses, the
// moments in rows that do not meet, and times against width.
func TestFigures(t *testing.T) {
	c, judged := incident()
	last := c.Entries[2].Set
	last.Facts = append(
		last.Facts,
		fact.Fact{Load: &fact.Load{Width: 1, Asked: 90, MedianMS: 10, Late95MS: 20}},
		fact.Fact{Load: &fact.Load{Width: 16, Asked: 64, Failed: 3, MedianMS: 80, Late95MS: 1200}},
	)
	last.Ask.Card = &fact.Card{Limit: "500ms"}
	failed := judged[1]
	failed.Since = &trail.Since{
		When: c.Opened.Add(-time.Hour),
		Changed: []trail.Changed{{Host: "tidebook", What: "packet filters", Now: "a drop",
			Explains: "rules/server-drop"}},
	}
	judged[1] = failed
	c.Entries[0].Set.Facts = append(
		c.Entries[0].Set.Facts,
		fact.Fact{Vantage: "v1", Route: &fact.Route{Outcome: "found", Source: netip.MustParseAddr("10.20.7.31")}},
		fact.Fact{
			Vantage: "v1",
			Order:   fact.Order{Target: fact.Target{Addr: netip.MustParseAddr("10.20.0.14")}},
			Connect: &fact.Connect{},
		},
		fact.Fact{
			Vantage: "v1",
			Hops: &fact.Hops{Routers: []netip.Addr{netip.MustParseAddr("10.20.7.1"),
				netip.MustParseAddr("10.20.0.14")}},
		},
	)
	r := MakeReport(c, judged, c.Closed)
	if client, server := r.Path[0], r.Path[2]; client.Addr != "10.20.7.31" || server.Addr != "10.20.0.14" ||
		server.Hops != 2 {
		t.Errorf("%+v %+v", client, server)
	}
	if r.Timeline[0].Kind != lastGood || len(r.Widths) != 2 || r.LimitMS != 500 {
		t.Errorf("%+v, %+v, %d", r.Timeline[0], r.Widths, r.LimitMS)
	}
	marks := r.marks()
	for i, m := range marks {
		for _, o := range marks[:i] {
			if o.Row == m.Row && o.Anchor == "start" && m.Anchor == "start" && m.Text < o.Text+8*len([]rune(o.Says)) {
				t.Errorf("%+v meets %+v", m, o)
			}
		}
		if m.X < 0 || m.X > figureWide {
			t.Errorf("outside: %+v", m)
		}
	}
	p := r.plot()
	if len(p.Dots) != 2 || p.Dots[1].Failed != "3 of 64 fail" || p.Limit <= p.Dots[1].Late ||
		p.Limit >= p.Dots[0].Late {
		t.Errorf("%+v", p)
	}
	page, err := r.HTML()
	for _, want := range []string{"clients wait 500 ms", "3 of 64 fail", "10.20.7.31", "1 hop<",
		"What changed since it worked", "last good run"} {
		if err != nil || !strings.Contains(page, want) {
			t.Errorf("%v: no %q", err, want)
		}
	}
	if strings.Contains(page, "<script") || strings.Contains(page, "http://") || strings.Contains(page, "https://") {
		t.Error("the page needs something else")
	}
	if one := (Report{Timeline: r.Timeline[:1]}).marks(); one != nil {
		t.Errorf("a line of one moment: %+v", one)
	}
}

// TestReportBehind puts the hop that fails first, and on the way.
func TestReportBehind(t *testing.T) {
	c, judged := incident()
	failed := judged[1]
	failed.Behind = []trail.Behind{
		{From: "v2", Trail: trail.Trail{Outcome: trail.OutcomeFault, Endpoint: trail.Endpoint{Host: "ledger"},
			Causes: []trail.Cause{
				{ID: "service/stopped", Rung: trail.Service, Certainty: trail.Proven, Blocking: true,
					Summary: "ledger is stopped"},
			}}},
	}
	judged[1] = failed
	r := MakeReport(c, judged, c.Closed)
	if last := r.Path[len(r.Path)-1]; last.Host != "ledger" || last.Breaks != "service" {
		t.Errorf("%+v", r.Path)
	}
	if r.Causes[0].ID != "service/stopped" ||
		!strings.HasPrefix(
			r.Summary[1],
			"Because seen from tidebook: ledger is stopped (service/stopped, proven), and for 1 more reason",
		) {
		t.Errorf("%q", r.Summary)
	}
}

// TestCaseText is a case as its list and its page tell it.
func TestCaseText(t *testing.T) {
	c, judged := incident()
	text := Case(c, judged, false)
	for _, each := range []string{"Closed after 23m0s.", "2: let everybody in, for now, undone 2026-11-23 03:20:00",
		"(rules/server-drop, proven)"} {
		if !strings.Contains(strings.Join(strings.Fields(text), " "), each) {
			t.Errorf("no %q in\n%s", each, text)
		}
	}
	c.Closed, c.Entries[1].Undone = time.Time{}, time.Time{}
	text = strings.Join(strings.Fields(Case(c, judged, false)), " ")
	if !strings.Contains(
		text,
		"Still to undo: let everybody in. How: delete the rule. Then: uakari case change 7 --undone 2",
	) ||
		!strings.HasSuffix(text, "Then: uakari confirm 7") {
		t.Error(text)
	}
	for _, line := range strings.Split(Cases([]casebook.Case{c}, false, false), "\n") {
		if len([]rune(line)) > width {
			t.Errorf("%d columns: %s", len([]rune(line)), line)
		}
	}
}

// TestWatchText is a watch while it goes on, and its end.
func TestWatchText(t *testing.T) {
	var tally weigh.Tally
	at := time.Date(2026, 11, 23, 3, 0, 0, 0, time.UTC)
	for i := range 5 {
		p := weigh.Pulse{
			At:        at.Add(time.Duration(i) * time.Minute),
			Outcome:   trail.OutcomeClear,
			Addr:      "10.20.0.14",
			ConnectMS: 2,
			AnswerMS:  10,
			Marks:     map[string]string{"unit": "up"},
		}
		if i == 3 {
			p.Outcome, p.Why, p.Marks = trail.OutcomeFault, "refused (service/stopped, proven)", map[string]string{
				"unit": "down",
			}
		}
		tally.Add(p)
	}
	end := WatchEnded("https://tidebook.varzea.example/", tally, false)
	for _, each := range []string{"5 tries, 1 failed.", "10.20.0.14      5      1",
		"03:03:00 FAULT refused (service/stopped, proven); changed since the last time: unit: down, was up",
		"03:04:00 reached 10.20.0.14"} {
		if !strings.Contains(strings.Join(strings.Fields(end), " "), strings.Join(strings.Fields(each), " ")) {
			t.Errorf("no %q in\n%s", each, end)
		}
	}
	if live := Watching("x", tally, 10*time.Second, ", until fault", false); !strings.Contains(
		live,
		"works, 1 time in a row",
	) ||
		!strings.Contains(live, "every 10s, until fault;") {
		t.Error(live)
	}
	for _, line := range strings.Split(end, "\n") {
		if len([]rune(line)) > width {
			t.Errorf("%d columns: %s", len([]rune(line)), line)
		}
	}
}
