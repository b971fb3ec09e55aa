package weigh

import (
	"crypto/x509"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// carded is a client that reaches a server of which a card speaks.
func carded(t *testing.T, card fact.Card, steps ...step) *scenario {
	if len(steps) == 0 {
		steps = []step{connected, replied(200)}
	}
	s := newScene(
		t,
		web,
	).holds("v1", gauge).
		holds("v2", tidebook).
		named(tidebook).
		client(tidebook, steps...).
		listening(listener("0.0.0.0", 80, "nginx"), listener("0.0.0.0", 8090, "nginx"))
	card.Name = "tidebook"
	s.set.Ask.Card = &card
	s.ask = s.set.Ask
	return s
}

func (s *scenario) side(vantage, side string, list ...fact.SettingSeen) *scenario {
	return s.add(
		vantage,
		fact.LookSettings,
		fact.Target{Name: side},
		func(f *fact.Fact) { f.Settings = &fact.Settings{Side: side, List: list} },
	)
}

// TestSettingRules is one setting of the client each, with what is wrong.
func TestSettingRules(t *testing.T) {
	at := fact.SettingAt{File: "/etc/gauge.ini", Format: "ini", Key: "portal"}
	for name, c := range map[string]struct {
		is, value string
		want      []string
	}{
		"the right host":          {"host", "tidebook.varzea.example", nil},
		"in capitals, with a dot": {"host", "TIDEBOOK.varzea.example.", nil},
		"an alias of the card":    {"host", "readings.varzea.example", nil},
		"not looked up yet":       {"host", "tidebok.varzea.example", []string{"settings/wrong-host likely"}},
		"no name at all":          {"host", "tide book", []string{"settings/wrong-host proven"}},
		"the server's address":    {"host", tidebook, nil},
		"another address":         {"host", "10.20.0.99", []string{"settings/stale-address proven"}},
		"the right port":          {"port", "80", nil},
		"another port":            {"port", "8080", []string{"settings/wrong-port proven"}},
		"no port at all":          {"port", "eighty", []string{"settings/wrong-port proven"}},
		"the right address":       {"address", tidebook, nil},
		"an old address":          {"address", "10.20.0.99", []string{"settings/stale-address proven"}},
		"a port that listens too": {"port", "8090", nil},
		"no address":              {"address", "tidebook", []string{"settings/wrong-host likely"}},
		"the right URL":           {"url", "http://tidebook.varzea.example/", nil},
		"a URL of another port": {"url", "http://tidebook.varzea.example:8080/",
			[]string{"settings/wrong-port proven"}},
		"a URL of another security": {"url", "https://tidebook.varzea.example:80/",
			[]string{"settings/wrong-security proven"}},
		"a URL of another host": {"url", "http://tidebok.varzea.example/", []string{"settings/wrong-host likely"}},
		"no URL":                {"url", "http://", []string{"settings/wrong-host proven"}},
	} {
		t.Run(name, func(t *testing.T) {
			card := fact.Card{
				Aliases:  []string{"readings.varzea.example"},
				Settings: []fact.SettingRule{{Name: "portal", Is: c.is, Client: &at}},
			}
			got := carded(t, card).side("v1", "client", fact.SettingSeen{At: at, Value: c.value, Line: 3}).weigh()
			expect(t, got, c.want...)
		})
	}
	// Where the other name leads decides.
	host := fact.Card{Settings: []fact.SettingRule{{Name: "portal", Is: "host", Client: &at}}}
	for addr, want := range map[string][]string{tidebook: nil, "10.20.0.77": {"settings/wrong-host proven"}} {
		s := carded(t, host).side("v1", "client", fact.SettingSeen{At: at, Value: "ledger.varzea.example"})
		s.add("v1", fact.LookNames, fact.Target{Name: "ledger.varzea.example"}, func(f *fact.Fact) {
			f.HostsFile = &fact.HostsFile{
				Path:  "/etc/hosts",
				Name:  "ledger.varzea.example",
				Line:  2,
				Addrs: []netip.Addr{netip.MustParseAddr(addr)},
			}
		})
		expect(t, s.weigh(), want...)
	}
	// An endpoint that does not work may be the one that is wrong.
	port := fact.Card{Settings: []fact.SettingRule{{Name: "portal", Is: "port", Client: &at}}}
	expect(
		t,
		carded(t, port, reset).side("v1", "client", fact.SettingSeen{At: at, Value: "8081"}).weigh(),
		"settings/wrong-port proven",
	) // the server was seen to listen there
	unseen := newScene(t, web).holds("v1", gauge).named(tidebook).client(tidebook, reset)
	unseen.set.Ask.Card = &port
	unseen.ask = unseen.set.Ask
	expect(t, unseen.side("v1", "client", fact.SettingSeen{At: at, Value: "8081"}).weigh(),
		"settings/wrong-port likely")
	exact := fact.Card{Settings: []fact.SettingRule{{Name: "station", Value: "7", Client: &at}}}
	expect(t, carded(t, exact).side("v1", "client", fact.SettingSeen{At: at, Value: "7"}).weigh())
	expect(
		t,
		carded(t, exact).side("v1", "client", fact.SettingSeen{At: at, Value: "8"}).weigh(),
		"settings/copies-differ proven",
	)
	same := fact.Card{Settings: []fact.SettingRule{{Name: "station", Is: "same", Client: &at, Server: &at}}}
	one, two := fact.SettingSeen{At: at, Value: "7", Line: 1}, fact.SettingSeen{At: at, Value: "8", Line: 2}
	expect(t, carded(t, same).side("v1", "client", one).side("v2", "server", two).weigh(),
		"settings/copies-differ proven")
	expect(t, carded(t, same).side("v1", "client", one).side("v2", "server", one).weigh())
	copied := two
	copied.Copy = 1
	expect(t, carded(t, same).side("v1", "client", one, copied).weigh(), "settings/copies-differ proven")
	unread := carded(t, same).side("v1", "client", fact.SettingSeen{At: at, Unread: "permission denied"}).weigh()
	expect(t, unread)
	if f := unread.Rungs[0]; f.State != trail.Unseen || !strings.Contains(
		f.Summary, "not read: station on gauge-07 (permission denied), station on tidebook (not checked)") {
		t.Errorf("what nobody could read is %s: %s", f.State, f.Summary)
	}
	missing := carded(
		t,
		same,
	).side("v1", "client", fact.SettingSeen{At: at, Missing: "no such key in /etc/gauge.ini", Near: "portl = x",
		NearLine: 4}).
		weigh()
	expect(t, missing, "settings/blank proven")
	if !strings.Contains(missing.Causes[0].Summary, `line 4 has "portl = x": was that meant?`) {
		t.Error(missing.Causes[0].Summary)
	}
}

// TestWhichSide is one setting at several places, and which of them is wrong.
func TestWhichSide(t *testing.T) {
	at := func(on, file string) fact.SettingAt {
		return fact.SettingAt{On: on, File: file, Format: "ini", Key: "relay"}
	}
	one, two, three := at("", "/etc/gauge.ini"), at("", "/etc/tidebook.ini"), at("server", "/etc/copy.ini")
	seen := func(at fact.SettingAt, copied int, value string) fact.SettingSeen {
		return fact.SettingSeen{At: at, Value: value, Line: 2, Copy: copied}
	}
	for name, c := range map[string]struct {
		rule                   fact.SettingRule
		client, server, copied string
		want                   []string
		says, remedy           string
	}{
		"nobody says": {fact.SettingRule{Is: "same"}, "north", "south", "",
			[]string{"settings/copies-differ proven"}, `must agree`,
			"if gauge-07 has it right: set relay in /etc/tidebook.ini to north"},
		"most say so": {fact.SettingRule{Is: "same"}, "south", "north", "north",
			[]string{"settings/copies-differ proven"}, "2 of 3 places have it",
			"set relay in /etc/gauge.ini to north"},
		"the server listens": {fact.SettingRule{Is: "same"}, "8099", "8090", "",
			[]string{"settings/copies-differ proven"}, "the server listens on 8090",
			"set relay in /etc/gauge.ini to 8090"},
		"the server's is wrong": {fact.SettingRule{Is: "same"}, "80", "8099", "",
			[]string{"settings/copies-differ proven"}, "the server's setting relay in /etc/tidebook.ini",
			"set relay in /etc/tidebook.ini to 80"},
		"the endpoint says": {fact.SettingRule{Is: "same"}, "ledger.varzea.example",
			"tidebook.varzea.example", "", []string{"settings/copies-differ proven"},
			"the endpoint, which answers, says so", "set relay in /etc/gauge.ini to tidebook.varzea.example"},
		"a URL of another port": {fact.SettingRule{Is: "same"}, "http://tidebook.varzea.example:8099/",
			"http://tidebook.varzea.example/", "", []string{"settings/copies-differ proven"},
			"the server listens on 80", ""},
		"another word for yes": {fact.SettingRule{Is: "same"}, "on", "True", "1", nil, "", ""},
		"a number with a nought": {fact.SettingRule{Is: "same"}, "010", "10", "",
			[]string{"settings/copies-differ proven"}, "", ""},
		"a name in capitals": {fact.SettingRule{Is: "same"}, "Tidebook.Varzea.Example",
			"tidebook.varzea.example.", "", nil, "", ""},
		"a URL written otherwise": {fact.SettingRule{Is: "same"}, "HTTP://tidebook.varzea.example:80",
			"http://tidebook.varzea.example/", "", nil, "", ""},
		"a set in another order": {fact.SettingRule{Is: "same", Set: true}, "b, a", "a b", "", nil, "", ""},
		"a list in another order": {fact.SettingRule{Is: "same"}, "b, a", "a b", "",
			[]string{"settings/copies-differ proven"}, "", ""},
		"one of several": {fact.SettingRule{Is: "one-of", OneOf: []string{"north", "south"}}, "south",
			"north", "", nil, "", ""},
		"none of several": {fact.SettingRule{Is: "one-of", OneOf: []string{"north", "south"}}, "west",
			"north", "", []string{"settings/copies-differ proven"}, `should be "north or south"`, ""},
		"not encrypted, as it is": {fact.SettingRule{Is: "security"}, "none", "", "", nil, "", ""},
		"encrypted, as it is not": {fact.SettingRule{Is: "security"}, "tls", "", "",
			[]string{"settings/wrong-security proven"}, `should be "plain"`, "set relay in /etc/gauge.ini to plain"},
		"a word that nobody knows": {fact.SettingRule{Is: "security"}, "level-3", "", "", nil, "", ""},
		"both ports are served":    {fact.SettingRule{Is: "port"}, "80", "8090", "", nil, "", ""},
		"every one that is wrong": {fact.SettingRule{Is: "port"}, "81", "82", "83",
			[]string{"settings/wrong-port proven", "settings/wrong-port proven", "settings/wrong-port proven"}, "",
			"set relay in /etc/gauge.ini to 80"},
		"the server's own port, wrong": {fact.SettingRule{Is: "port"}, "80", "8099", "",
			[]string{"settings/wrong-port proven"}, "the server's setting", "set relay in /etc/tidebook.ini to 80"},
	} {
		t.Run(name, func(t *testing.T) {
			c.rule.Name, c.rule.Client, c.rule.Server, c.rule.Copies = "the relay", &one, &two, []fact.SettingAt{three}
			s := carded(t, fact.Card{Settings: []fact.SettingRule{c.rule}}).side("v1", "client",
				seen(one, 0, c.client))
			var server []fact.SettingSeen
			for i, value := range []string{c.server, c.copied} {
				if value != "" {
					server = append(server, seen([]fact.SettingAt{two, three}[i], i, value))
				}
			}
			got := s.side("v2", "server", server...).weigh()
			expect(t, got, c.want...)
			if len(c.want) == 0 || len(got.Causes) == 0 {
				return
			}
			if !strings.Contains(got.Causes[0].Summary, c.says) {
				t.Errorf("%q lacks %q", got.Causes[0].Summary, c.says)
			}
			var remedies []string
			for _, cause := range got.Causes {
				for _, r := range cause.Remedies {
					remedies = append(remedies, r.Do)
				}
			}
			if !strings.Contains(strings.Join(remedies, "\n"), c.remedy) {
				t.Errorf("%q lacks %q", remedies, c.remedy)
			}
		})
	}
}

// TestCardRest is what else a card says, and what comes of it.
func TestCardRest(t *testing.T) {
	body := func(status int, program, text string) step {
		return answered(
			fact.Reply{
				Ending:   fact.Done,
				Protocol: "http",
				Status:   status,
				Program:  program,
				Text:     text,
				Whole:    text != "",
				Date:     began,
				SentMS:   1,
				FirstMS:  301,
			},
		)
	}
	for name, c := range map[string]struct {
		card  fact.Card
		steps []step
		want  []string
	}{
		"too slow": {fact.Card{Limit: "100ms"}, []step{connected, body(200, "", "")},
			[]string{"answer/too-slow proven"}},
		"in time": {fact.Card{Limit: "1s"}, []step{connected, body(200, "", "")}, nil},
		"no answer in time": {fact.Card{Limit: "3s"}, []step{connected,
			answered(fact.Reply{Ending: fact.Stalled, TookMS: 9000})}, []string{"answer/too-slow proven"}},
		"another program": {fact.Card{Answer: &fact.CardAnswer{Program: "tidebook"}},
			[]step{connected, body(200, "apache", "")}, []string{"answer/wrong-application proven"}},
		"the program": {fact.Card{Answer: &fact.CardAnswer{Program: "TideBook"}},
			[]step{connected, body(200, "tidebook/3", "")}, nil},
		"another status": {fact.Card{Answer: &fact.CardAnswer{Status: []int{204}}},
			[]step{connected, body(200, "", "")}, []string{"answer/error-status proven"}},
		"without what it has": {fact.Card{Answer: &fact.CardAnswer{Contains: "tides"}},
			[]step{connected, body(200, "", "floods")}, []string{"answer/wrong-application proven"}},
		"with what it has": {fact.Card{Answer: &fact.CardAnswer{Contains: "tides"}},
			[]step{connected, body(200, "", "the tides")}, nil},
		"a code that it knows": {fact.Card{Reasons: []fact.Reason{{Log: "TB-17", Cause: "login/locked",
			Says: "locked by the harbour"}}}, []step{connected, body(500, "", `{"error": "TB-17"}`)},
			[]string{"login/locked proven"}},
		"another code": {fact.Card{Reasons: []fact.Reason{{Log: "TB-17", Cause: "login/locked"}}},
			[]step{connected, body(500, "", `{"error": "TB-18"}`)}, []string{"answer/error-status proven"}},
		"an error it calls so": {fact.Card{Answer: &fact.CardAnswer{Status: []int{403}}},
			[]step{connected, body(403, "", "")}, []string{"answer/error-status likely"}},
	} {
		t.Run(name, func(t *testing.T) { expect(t, carded(t, c.card, c.steps...).weigh(), c.want...) })
	}
	absent := carded(
		t,
		fact.Card{ClientProgram: "upload"},
	).add("v1", fact.LookSettings, fact.Target{Name: "client"},
		func(f *fact.Fact) { f.Settings = &fact.Settings{Side: "client", Program: "upload"} })
	expect(t, absent.weigh(), "settings/client-missing proven")
	agent := fact.Card{ClientUnit: "gauge-agent.service", ClientLog: "/var/log/agent.log", Fresh: "10m"}
	for name, c := range map[string]struct {
		unit fact.Unit
		proc []fact.Process
		log  time.Duration
		want []string
	}{
		"its agent runs": {fact.Unit{Load: "loaded", Active: "active"}, []fact.Process{{PID: 7, State: "S"}},
			time.Minute, nil},
		"its agent is stopped": {fact.Unit{Load: "loaded", Active: "inactive"}, nil, time.Minute,
			[]string{"settings/client-stopped proven"}},
		"its agent failed": {fact.Unit{Load: "loaded", Active: "failed",
			Log: []fact.LogLine{{Text: "no table of tides"}}}, nil, time.Minute,
			[]string{"settings/client-stopped proven"}},
		"there is no agent": {fact.Unit{Load: "not-found"}, nil, 0, []string{"settings/client-stopped proven"}},
		"its agent is halted": {fact.Unit{Load: "loaded", Active: "active"}, []fact.Process{{PID: 7, State: "T"}},
			time.Minute, []string{"settings/client-stopped proven"}},
		"its agent hangs": {
			fact.Unit{Load: "loaded", Active: "active"},
			[]fact.Process{{PID: 7, State: "D"}},
			time.Minute,
			[]string{"settings/client-stopped proven"},
		},
		"its agent stands still": {fact.Unit{Load: "loaded", Active: "active"}, []fact.Process{{PID: 7, State: "S"}},
			time.Hour, nil},
	} {
		t.Run(name, func(t *testing.T) {
			s := carded(t, agent, connected, replied(200))
			c.unit.Name = agent.ClientUnit
			s.add("v1", fact.LookService, fact.Target{Name: "client"}, func(f *fact.Fact) {
				f.Service = &fact.Service{
					Manager: "systemd",
					Programs: []fact.Program{{Name: "gauge-agent", Why: "card", Units: []fact.Unit{c.unit},
						Processes: c.proc,
						Logs: []fact.LogFile{{Path: agent.ClientLog, Changed: s.ask.Began.Add(-c.log),
							Stale: "10m"}}}},
				}
			})
			expect(t, s.weigh(), c.want...)
		})
	}
	// Settings that were changed since it was started may not be those that it goes by.
	for changed, want := range map[time.Duration][]string{time.Minute: {"settings/client-stopped likely"},
		3 * time.Hour: nil} {
		file := fact.SettingAt{File: "/etc/gauge.ini", Format: "ini", Key: "port"}
		late := agent
		late.Settings = []fact.SettingRule{{Name: "port", Is: "port", Client: &file}}
		s := carded(t, late, connected, replied(200))
		s.side("v1", "client", fact.SettingSeen{At: file, Value: "80", Changed: s.ask.Began.Add(-changed)})
		s.add("v1", fact.LookService, fact.Target{Name: "client"}, func(f *fact.Fact) {
			f.Service = &fact.Service{Manager: "systemd", Programs: []fact.Program{{
				Name: "gauge-agent", Why: "card", Units: []fact.Unit{{Name: agent.ClientUnit, Load: "loaded",
					Active: "active"}},
				Processes: []fact.Process{{PID: 7, State: "S", Since: s.ask.Began.Add(-time.Hour)}},
			}}}
		})
		expectDoubts(t, s.weigh(), want...)
	}
	// A program that no service manager starts: no process, and a log that stands still.
	byHand := fact.Card{ClientProgram: "/opt/gauge/gauge-agent", ClientLog: agent.ClientLog, Fresh: "10m"}
	for _, c := range []struct {
		proc []fact.Process
		log  time.Duration
		want string
	}{{nil, time.Hour, "settings/client-stopped proven"}, {nil, time.Minute, ""},
		{[]fact.Process{{PID: 7, State: "S"}}, time.Minute, ""}} {
		s := carded(t, byHand, connected, replied(200))
		s.add("v1", fact.LookService, fact.Target{Name: "client"}, func(f *fact.Fact) {
			f.Service = &fact.Service{
				Programs: []fact.Program{
					{
						Name:      "gauge-agent",
						Why:       "card",
						Processes: c.proc,
						Logs:      []fact.LogFile{{Path: agent.ClientLog, Changed: s.ask.Began.Add(-c.log)}},
					},
				},
			}
		})
		var want []string
		if c.want != "" {
			want = []string{c.want}
		}
		expect(t, s.weigh(), want...)
	}
	from := fact.Card{From: []string{"10.99.0.0/16"}}
	expect(t, carded(t, from).weigh()) // it works: whatever the card says
	needs := carded(t, fact.Card{Needs: []string{"ledger"}}, connected, replied(500))
	needs.add("v2", fact.LookService, fact.Target{Port: 80, Scheme: "http"}, func(f *fact.Fact) {
		f.Service = &fact.Service{
			Manager:  "systemd",
			Programs: []fact.Program{nginxUp},
			Needs:    []fact.Unit{{Name: "ledger.service", Active: "failed"}},
		}
	})
	expect(t, needs.weigh(), "service/needs-down proven", "answer/error-status proven behind service/needs-down")
}

// TestCardPorts is the other ports of a card, as the client and the server see
// them.
func TestCardPorts(t *testing.T) {
	card := fact.Card{
		Ports: []uint16{80, 111},
		PortMap: []fact.PortUse{
			{Port: 8091, For: "uploads", NeededBy: []string{"the night run"}},
			{Range: "50000-50100", For: "readings"},
		},
	}
	other := func(port uint16) fact.Target {
		return fact.Target{
			Name:     "tidebook.varzea.example",
			Addr:     netip.MustParseAddr(tidebook),
			Port:     port,
			Scheme:   "tcp",
			Security: fact.Plain,
		}
	}
	mapped := func(s *scenario, port uint16) *scenario {
		return s.add(
			"v1",
			fact.LookMapper,
			fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 111, Scheme: "rpc"},
			func(f *fact.Fact) {
				f.Mapper = &fact.Mapper{Entries: []fact.MapperEntry{{Program: 300019, Transport: "tcp", Port: port}}}
			},
		)
	}
	base := func(steps ...step) *scenario {
		s := carded(t, card, steps...)
		for i, f := range s.set.Facts {
			if f.Listeners != nil {
				s.set.Facts[i].Listeners.All = append(
					f.Listeners.All,
					listener("0.0.0.0", 111, "rpcbind"),
					listener("0.0.0.0", 8091, "nginx"),
				)
			}
		}
		return s
	}
	expectDoubts(t, base().climb("v1", other(8091), connected).climb("v1", other(111), connected).weigh())
	got := base().climb("v1", other(8091), silent).climb("v1", other(111), connected).weigh()
	expectDoubts(t, got, "ports/some-missing likely")
	if want := "port 8091 (uploads, which the night run cannot do without) is open on tidebook, and gauge-07 gets " +
		"there"; !strings.Contains(
		got.Causes[0].Summary,
		want,
	) {
		t.Errorf("%q lacks %q", got.Causes[0].Summary, want)
	}
	// The endpoint's own failure tells of its neighbours too.
	if got := base(silent).climb("v1", other(8091), silent).weigh(); strings.Contains(
		summaries(got.Causes),
		"some-missing",
	) {
		t.Error(summaries(got.Causes))
	}
	expectDoubts(t, carded(t, card).weigh(), "ports/some-missing proven") // nothing listens there
	expectDoubts(t, mapped(base(), 50007).climb("v1", other(50007), silent).weigh(), "ports/dynamic-shut proven")
	expectDoubts(t, mapped(base(), 50007).climb("v1", other(50007), connected).weigh())
	expectDoubts(t, mapped(base(), 49000).climb("v1", other(49000), silent).weigh()) // not the card's
}

// TestMetadata is what a partner says of itself for signing in, as both sides
// read it.
func TestMetadata(t *testing.T) {
	const url, host = "https://pier.varzea.example/metadata", "pier.varzea.example"
	until := func(at time.Duration) []byte {
		return issue(t, nil, host, false, func(c *x509.Certificate) {
			c.NotBefore, c.NotAfter, c.DNSNames = began.Add(-2000*time.Hour), began.Add(at), []string{host}
		}).cert.Raw
	}
	own, other, ended := until(1000*time.Hour), until(1000*time.Hour), until(-time.Hour)
	good := fact.Metadata{
		URL:       url,
		Status:    200,
		Entity:    "pier",
		Until:     began.Add(time.Hour),
		Locations: []string{"https://pier.varzea.example/acs"},
		Certs:     [][]byte{own},
	}
	with := func(change func(*fact.Metadata)) fact.Metadata {
		m := good
		change(&m)
		return m
	}
	for name, c := range map[string]struct {
		client, server fact.Metadata
		want           []string
	}{
		"as it should be": {good, good, nil},
		"its term has ended": {with(func(m *fact.Metadata) { m.Until = began.Add(-time.Hour) }), good,
			[]string{"settings/metadata-stale proven"}},
		"a certificate ended": {good, with(func(m *fact.Metadata) { m.Certs = [][]byte{own, ended} }),
			[]string{"settings/metadata-stale proven", "settings/metadata-differs proven"}},
		"another host": {with(func(m *fact.Metadata) { m.Locations = []string{"https://old.varzea.example/acs"} }),
			good, []string{"settings/metadata-differs proven"}},
		"another key": {with(func(m *fact.Metadata) { m.Certs = [][]byte{other} }),
			with(func(m *fact.Metadata) { m.Certs = [][]byte{other} }),
			[]string{"settings/metadata-differs likely", "settings/metadata-differs likely"}},
		"not for one side": {fact.Metadata{URL: url, Wrong: "no answer"}, good,
			[]string{"settings/metadata-unread proven"}},
		"gone for one side": {good, fact.Metadata{URL: url, Status: 404},
			[]string{"settings/metadata-unread proven"}},
		"another for one side": {good, with(func(m *fact.Metadata) { m.Entity = "pier-old" }),
			[]string{"settings/metadata-differs proven"}},
	} {
		t.Run(name, func(t *testing.T) {
			s := carded(t, fact.Card{Pairs: []fact.Pair{{Endpoint: "https://" + host + "/", Metadata: url}}})
			s.add("v1", fact.LookMetadata, fact.Target{Path: url}, func(f *fact.Fact) { f.Metadata = &c.client })
			s.add("v2", fact.LookMetadata, fact.Target{Path: url}, func(f *fact.Fact) { f.Metadata = &c.server })
			e, err := endpoint.Parse("https://" + host + "/")
			if err != nil {
				t.Fatal(err)
			}
			s.set.Behind = []fact.Hop{
				{
					From: "v2",
					Pair: true,
					Set: fact.Set{
						Ask:   fact.Ask{Endpoint: e},
						Facts: []fact.Fact{{Vantage: "v2-client", Handshake: &fact.Handshake{Chain: [][]byte{own}}}},
					},
				},
			}
			expect(t, s.weigh(), c.want...)
		})
	}
}

// TestSigns is marks of health that are not as they should be: the application
// is not healthy, whoever connects.
func TestSigns(t *testing.T) {
	signs := []fact.Sign{{On: "client", File: "/var/lib/gauge/sites"}, {On: "server", File: "/var/log/tide"}}
	card := fact.Card{Signs: signs}
	of := map[string]fact.Sign{"client": signs[0], "server": signs[1]}
	seen := func(s *scenario, vantage, side string, wrong string) *scenario {
		return s.add(vantage, fact.LookSigns, fact.Target{Name: side}, func(f *fact.Fact) {
			f.Signs = &fact.Signs{Side: side, List: []fact.SignSeen{{Sign: of[side], Wrong: wrong}}}
		})
	}
	both := func(client, server string) trail.Trail {
		return seen(seen(carded(t, card), "v1", "client", client), "v2", "server", server).weigh()
	}
	expect(t, both("/x is stale", ""), "settings/not-received proven")
	expect(t, both("", "/x is stale"), "service/stale-log proven")
	expect(t, both("", ""))
	for name, c := range map[string]struct {
		got    trail.Trail
		want   trail.Verdict
		states []trail.SignState
	}{
		"met": {both("", ""), trail.Works, []trail.SignState{trail.SignMet, trail.SignMet}},
		"one": {both("", "stale"), trail.Unhealthy, []trail.SignState{trail.SignMet, trail.SignFails}},
		"not read": {seen(carded(t, card), "v1", "client", "").weigh(), trail.PartTried,
			[]trail.SignState{trail.SignMet, trail.SignUnseen}},
	} {
		var states []trail.SignState
		for _, s := range c.got.Signs {
			states = append(states, s.State)
		}
		if c.got.Verdict() != c.want || !slices.Equal(states, c.states) {
			t.Errorf(
				"%s: verdict %d, signs %v, %s", name, c.got.Verdict(), states,
				c.got.Headline("gauge-07", "tidebook"),
			)
		}
	}
}

// TestServiceRecord is a record by which clients find the server.
func TestServiceRecord(t *testing.T) {
	scenario := func(lists ...[]fact.ServiceRecord) trail.Trail {
		s := carded(t, fact.Card{ServiceRecord: "_tides._tcp.varzea.example"})
		for _, list := range lists {
			s.add("v1", fact.LookServices, fact.Target{Name: "_tides._tcp.varzea.example"}, func(f *fact.Fact) {
				f.ServiceRecords = &fact.ServiceRecords{Outcome: fact.NoSuchName, List: list}
			})
		}
		return s.weigh()
	}
	expect(t, scenario(nil), "names/no-service-record proven")
	expect(t, scenario()) // nobody has said anything yet
	right := []fact.ServiceRecord{{Target: "tidebook.varzea.example", Port: 80}}
	expect(t, scenario(right))
	expectDoubts(
		t,
		scenario([]fact.ServiceRecord{{Target: "ledger.varzea.example", Port: 80}}),
		"names/no-service-record proven",
	)
	expectDoubts(t, scenario([]fact.ServiceRecord{{Target: "tidebook.varzea.example", Port: 8080}}, right))
}

// TestRedirects is where an answer sends the client, and whether it gets there.
func TestRedirects(t *testing.T) {
	const other = "10.20.0.77"
	led := func(location string, more func(*scenario)) trail.Trail {
		s := newScene(
			t,
			web,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "http", Status: 302,
				Location: location, Date: began}))
		if more != nil {
			more(s)
		}
		return s.weigh()
	}
	target := fact.Target{
		Name:     "readings.varzea.example",
		Addr:     netip.MustParseAddr(other),
		Port:     80,
		Scheme:   "tcp",
		Security: fact.Plain,
	}
	readings := func(steps ...step) func(*scenario) {
		return func(s *scenario) {
			s.add("v1", fact.LookNames, fact.Target{Name: target.Name}, func(f *fact.Fact) {
				f.HostsFile = &fact.HostsFile{
					Path:  "/etc/hosts",
					Name:  target.Name,
					Line:  2,
					Addrs: []netip.Addr{netip.MustParseAddr(other)},
				}
			})
			s.climb("v1", target, steps...)
		}
	}
	for name, c := range map[string]struct {
		location string
		more     func(*scenario)
		want     []string
	}{
		"a path of its own": {"/new", nil, nil},
		"back to itself":    {"http://tidebook.varzea.example/", nil, []string{"answer/redirects-away proven"}},
		"a host that works": {"http://readings.varzea.example/new", readings(connected), nil},
		"a host that does not": {"http://readings.varzea.example/new", readings(reset),
			[]string{"answer/redirects-away proven"}},
		"another protocol":   {"redis://readings.varzea.example/", nil, []string{"answer/redirects-away proven"}},
		"a port of nobody's": {"http://readings.varzea.example:22/", readings(reset), nil},
		"not looked up yet":  {"http://readings.varzea.example/new", nil, nil},
		"no place at all":    {"http://[::", nil, nil},
	} {
		t.Run(name, func(t *testing.T) { expect(t, led(c.location, c.more), c.want...) })
	}
}

// TestNotReady is applications that say themselves that they are not ready.
func TestNotReady(t *testing.T) {
	for text, want := range map[string]string{
		"Down for maintenance until noon": "answer/not-ready proven",
		"The portal is starting up.":      "answer/not-ready proven",
		"Internal error":                  "answer/error-status proven",
		"maintenanceplan not found":       "answer/error-status proven",
	} {
		got := newScene(
			t,
			web,
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, answered(fact.Reply{Ending: fact.Done, Protocol: "http", Status: 503,
				Text: text, Date: began})).
			weigh()
		expect(t, got, want)
	}
}

// TestStrain is a connection that is left idle, and many at once.
func TestStrain(t *testing.T) {
	base := func() *scenario {
		return newScene(t, web).holds("v1", gauge).named(tidebook).client(tidebook, connected, replied(200))
	}
	for ending, want := range map[fact.Ending][]string{fact.Done: nil, fact.Closed: nil,
		fact.ResetMid: {"answer/cut-when-idle proven"}, fact.Stalled: {"answer/cut-when-idle proven"}} {
		s := base()
		s.set.Ask.IdleS = 60
		target := s.target(tidebook)
		target.IdleS = 60
		s.add("v1", fact.LookIdle, target, func(f *fact.Fact) { f.Idle = &fact.Idle{WaitMS: 60000, Ending: ending} })
		expect(t, s.weigh(), want...)
	}
	width := func(s *scenario, l fact.Load) {
		target := s.target(tidebook)
		target.Width = l.Width
		s.add("v1", fact.LookLoad, target, func(f *fact.Fact) { f.Load = &l })
	}
	s := base()
	s.set.Ask.Widths = []int{1, 8}
	width(s, fact.Load{Width: 1, Asked: 100, MedianMS: 10})
	if _, wants := Weigh(s.set); wants[len(wants)-1].Look != fact.LookLoad || wants[len(wants)-1].Target.Width != 8 {
		t.Errorf("%+v", wants)
	}
	width(s, fact.Load{Width: 8, Asked: 100, Failed: 2, Why: "503", MedianMS: 11})
	expectDoubts(t, s.weigh(), "answer/overloaded proven")
	slow := base()
	slow.set.Ask.Widths = []int{1, 8}
	width(slow, fact.Load{Width: 1, Asked: 100, MedianMS: 10})
	width(slow, fact.Load{Width: 8, Asked: 100, MedianMS: 40, Late95MS: 600})
	expectDoubts(t, slow.weigh())
	// Longer than clients wait, by the card; and what the server's queue said.
	slow.set.Ask.Card = &fact.Card{Name: "tidebook", Limit: "500ms"}
	slow.listening(listener("0.0.0.0", 80, "nginx"))
	for i, again := range []int{0, 2} {
		slow.add("v2", fact.LookKernel, fact.Target{Again: again}, func(f *fact.Fact) {
			f.Kernel = &fact.Kernel{Counters: map[string]uint64{"ListenOverflows": uint64(7 + 5*i)}}
		})
	}
	slow.holds("v2", tidebook)
	got := slow.weigh()
	expectDoubts(t, got, "answer/overloaded proven")
	for _, want := range []string{"take longer than 600 ms, and clients wait 500ms", "with 1: half within 10 ms",
		"turned 5 connections away meanwhile"} {
		if !strings.Contains(got.Causes[0].Summary, want) {
			t.Errorf("%q lacks %q", got.Causes[0].Summary, want)
		}
	}
	if do := got.Causes[0].Remedies[0].Do; !strings.HasPrefix(do, "let at most 1 run") {
		t.Error(do)
	}
}

// TestMapper is a port mapper, and the port that it names.
func TestMapper(t *testing.T) {
	scenario := func(entries []fact.MapperEntry, outcome step) trail.Trail {
		s := newScene(
			t,
			"rpc://tidebook.varzea.example/nfs",
		).holds("v1", gauge).
			named(tidebook).
			client(tidebook, connected, replied(0))
		s.add(
			"v1",
			fact.LookMapper,
			fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 111, Scheme: "rpc"},
			func(f *fact.Fact) { f.Mapper = &fact.Mapper{Entries: entries} },
		)
		if outcome != nil {
			s.climb(
				"v1",
				fact.Target{
					Name:     "tidebook.varzea.example",
					Addr:     netip.MustParseAddr(tidebook),
					Port:     2049,
					Scheme:   "tcp",
					Security: fact.Plain,
				},
				outcome,
			)
		}
		return s.weigh()
	}
	nfs := []fact.MapperEntry{{Program: 100003, Name: "nfs", Version: 3, Transport: "tcp", Port: 2049}}
	expect(t, scenario(nfs, connected))
	expect(t, scenario(nfs, silent), "ports/dynamic-shut proven")
	expect(t, scenario(nil, nil), "ports/dynamic-shut proven")
	expect(t, scenario([]fact.MapperEntry{{Name: "nfs", Transport: "udp", Port: 2049}}, nil),
		"ports/dynamic-shut proven")
	expect(t, scenario(nfs, nil))
	two := append(nfs, fact.MapperEntry{Program: 100003, Name: "nfs", Version: 4, Transport: "tcp", Port: 50004})
	expect(t, scenario(two, silent)) // the other one was not tried
}

// TestDifferences compares two moments of the same hosts.
func TestDifferences(t *testing.T) {
	at := func(rules string, addrs ...string) fact.Set {
		s := newScene(t, web).holds("v1", gauge).tables("v2", rules)
		if len(addrs) > 0 {
			s.hosts(addrs...)
		}
		return s.set
	}
	before := at("-A INPUT -p tcp --dport 80 -j DROP", tidebook)
	if got := Differences(before, before); len(got) != 0 {
		t.Errorf("the same: %q", got)
	}
	got := strings.Join(Differences(before, at("", tidebook)), "; ")
	if !strings.Contains(got, "tidebook, packet filters: no longer has") || !strings.Contains(got, "DROP") {
		t.Errorf("a rule less: %q", got)
	}
	got = strings.Join(Differences(before, at("-A INPUT -p tcp --dport 80 -j DROP", tidebook, "10.20.0.99")), "; ")
	if got != "gauge-07, /etc/hosts for tidebook.varzea.example: now has 10.20.0.99 tidebook.varzea.example" {
		t.Errorf("an entry more: %q", got)
	}
	if got := Differences(at(""), before); strings.Contains(strings.Join(got, ""), "hosts") {
		t.Errorf("what nobody looked at before differs: %q", got)
	}
}

// TestTally adds up a watch.
func TestTally(t *testing.T) {
	var tally Tally
	pulse := func(n int, outcome trail.Outcome, addr, holder string) Pulse {
		return Pulse{
			At:        began.Add(time.Duration(n) * time.Minute),
			Outcome:   outcome,
			Addr:      addr,
			ConnectMS: 1,
			AnswerMS:  float64(n),
			Marks:     map[string]string{"address": addr, "holder of the port": holder},
		}
	}
	turns := 0
	for i := range 100 {
		outcome, holder := trail.OutcomeClear, "nginx, pid 7"
		if i >= 40 && i < 43 {
			outcome, holder = trail.OutcomeFault, "nobody"
		}
		if tally.Add(pulse(i, outcome, tidebook, holder)) {
			turns++
		}
	}
	if h := tally.History; len(h) != 100 || h[39].Works != true || h[40].Works || len(h[40].Changes) != 1 ||
		len(h[41].Changes) != 0 || !h[99].Works {
		t.Errorf("%+v", h)
	}
	a := tally.ByAddr[tidebook]
	if tally.Tries != 100 || tally.Failed != 3 || tally.Worst != 3 || tally.Streak != 57 || turns != 2 ||
		len(tally.Turns) != 2 {
		t.Errorf("%+v, %d turns", tally, turns)
	}
	if c := tally.Turns[0].Changes; len(c) != 1 || c[0] != "holder of the port: nobody, was nginx, pid 7" {
		t.Errorf("%q", c)
	}
	if half, most := a.Within(0.5), a.Within(1); a.Tries != 100 || half < 45 || half > 57 || most < 95 || most > 101 {
		t.Errorf("%+v: half %f, all %f", a, half, most)
	}
	before, after := pulse(1, trail.OutcomeClear, tidebook, "x"), pulse(2, trail.OutcomeFault, tidebook, "x")
	before.Log, after.Log = "started", "no tide today"
	if c := after.Changed(before); len(c) != 1 || c[0] != "its log: no tide today" {
		t.Errorf("%q", c)
	}
	var long Tally
	for i := range 5000 {
		outcome := trail.OutcomeClear
		if i%2 == 0 {
			outcome = trail.OutcomeFault
		}
		long.Add(pulse(i, outcome, netip.AddrFrom4([4]byte{10, 20, byte(i >> 8), byte(i)}).String(), ""))
	}
	if len(long.Turns) > mostTurns || len(long.ByAddr) > mostAddrs {
		t.Errorf("%d turns and %d addresses are kept", len(long.Turns), len(long.ByAddr))
	}
}

// TestFront is a name that gives a gateway which does not carry the port.
func TestFront(t *testing.T) {
	const front = "10.20.0.1"
	scenario := func(listeners ...fact.Listener) trail.Trail {
		s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(front).client(front, reset)
		s.set.Vantages = append(s.set.Vantages, fact.Vantage{ID: "v3", Role: fact.Gateway, Host: "heron",
			Means: fact.SSH})
		s.holds("v3", front).client(tidebook, connected, replied(200)).listening(listener("0.0.0.0", 80, "nginx"))
		s.add(
			"v3",
			fact.LookListeners,
			fact.Target{Port: 80, Scheme: "http"},
			func(f *fact.Fact) { f.Listeners = &fact.Listeners{All: listeners} },
		)
		return s.weigh()
	}
	expect(t, scenario(listener("0.0.0.0", 443, "haproxy")), "names/points-at-front proven")
	expect(
		t,
		scenario(listener("0.0.0.0", 80, "haproxy")),
	) // it is a front that takes the port: what refuses is not that the name is old
}
