package weigh

import (
	"net/netip"
	"strings"
	"testing"

	"uakari/internal/fact"
)

// seg is a segment of the client's flow: what it opens begins with 100.
func seg(link, flags, from, to string, out bool) fact.Segment {
	s := fact.Segment{
		Link:  link,
		Flags: flags,
		From:  netip.MustParseAddrPort(from),
		To:    netip.MustParseAddrPort(to),
		Out:   out,
		Hops:  60,
	}
	if flags == "SYN" {
		s.Sequence = 100
	} else {
		s.Acknowledged = 101
	}
	return s
}

// TestPacketReadings is what links showed of a try, with the guards that keep
// it from being proof.
func TestPacketReadings(t *testing.T) {
	resets := reset
	const own, far = gauge + ":40001", tidebook + ":80"
	const elsewhere = "10.20.0.1:50002"
	open := seg("eth0", "SYN", own, far, true)
	came, answered := seg("eth1", "SYN", own, far, false), seg("eth1", "SYN ACK", far, own, true)
	translated := seg("eth1", "SYN", elsewhere, far, false)
	other := seg("eth1", "SYN ACK", far, "10.20.9.9:40001", true)
	other.Acknowledged = 900
	back := seg("eth0", "SYN ACK", far, own, false)
	cut := seg("eth0", "RST ACK", far, own, false)
	sent := seg("eth1", "RST ACK", far, own, true)
	echo := []netip.Addr{netip.MustParseAddr(gauge)}
	type seen = []fact.Segment
	for _, c := range []struct {
		name           string
		step           bool // refused by a reset, and not silent
		client, server seen
		echoes         []netip.Addr
		more           bool
		programs       []string
		rules          string // of the server
		want           []string
	}{
		{name: "it did not come", client: seen{open}, echoes: echo, want: []string{"rules/transit-silent proven"}},
		{name: "nobody knows whether both watched at that time", client: seen{open},
			want: []string{"rules/transit-silent likely"}},
		{name: "the echo was another's", client: seen{open}, echoes: []netip.Addr{netip.MustParseAddr("10.20.9.9")},
			want: []string{"rules/transit-silent likely"}},
		{name: "not all was seen", client: seen{open}, echoes: echo, more: true,
			want: []string{"rules/transit-silent likely"}},
		{name: "a program sees it before", client: seen{open}, echoes: echo, programs: []string{"XDP on eth1"},
			want: nil},
		{name: "the answer was lost", client: seen{open}, server: seen{came, answered},
			want: []string{"rules/return-drop proven"}},
		{name: "the answer was lost behind a translation", client: seen{open}, server: seen{translated,
			seg("eth1", "SYN ACK", far, elsewhere, true)}, want: []string{"rules/return-drop proven"}},
		{name: "the answer was to somebody else", client: seen{open}, server: seen{came, other}, want: nil},
		{name: "the answer came", client: seen{open, back}, server: seen{came, answered},
			want: []string{"rules/return-drop likely"}},
		{name: "a rule tells", client: seen{open}, server: seen{came}, rules: "-A INPUT -p tcp --dport 80 -j DROP",
			want: []string{"rules/server-drop proven"}},
		{name: "it never left", echoes: echo, want: []string{"rules/transit-silent likely"}},
		{name: "a reset of something between", step: true, client: seen{open, cut}, echoes: echo,
			want: []string{"rules/transit-reject proven"}},
		{name: "a reset in the server's name", step: true, client: seen{open, cut}, server: seen{came, answered},
			want: []string{"rules/reset-injected proven"}},
		{name: "the server's own reset", step: true, client: seen{open, cut}, server: seen{came, sent}, want: nil},
	} {
		s := both(t)
		if c.step {
			s = newScene(
				t,
				web,
			).holds("v1", gauge).
				holds("v2", tidebook).
				named(tidebook).
				client(tidebook, resets).
				listening(listening()).
				sends("v1", tidebook, gauge, "").
				sends("v2", gauge, tidebook, "")
		}
		if c.programs != nil {
			s.add(
				"v2",
				fact.LookBarriers,
				fact.Target{},
				func(f *fact.Fact) { f.Barriers = &fact.Barriers{Programs: c.programs} },
			)
		}
		s.tables("v1", "").tables("v2", c.rules)
		look := func(at, name string, p fact.Packets) {
			s.add(
				at,
				fact.LookPackets,
				fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 80, Watch: name},
				func(f *fact.Fact) { f.Packets = &p },
			)
		}
		look("v1", "try", fact.Packets{Try: true, Segments: c.client})
		look("v2", "watch", fact.Packets{Segments: c.server, Echoes: c.echoes, More: c.more})
		s.check(c.name, c.want...)
	}
}

// TestStalls is connections that are there, and what links showed of them.
func TestStalls(t *testing.T) {
	const own, far = gauge + ":40001", tidebook + ":80"
	stalled := answered(fact.Reply{Ending: fact.Stalled, Protocol: "http", TookMS: 6000})
	open, back := seg("eth0", "SYN", own, far, true), seg("eth0", "SYN ACK", far, own, false)
	came, sent := seg("eth1", "SYN", own, far, false), seg("eth1", "SYN ACK", far, own, true)
	wide := fact.Segment{
		Link: "eth1", Out: true, Length: 1500, Flags: "ACK",
		From: netip.MustParseAddrPort(far), To: netip.MustParseAddrPort(own),
	}
	echo := []netip.Addr{netip.MustParseAddr(gauge)}
	type seen = []fact.Segment
	drops := "-A INPUT -p tcp --dport 80 -j DROP"
	for _, c := range []struct {
		name           string
		small          bool // it gets on in small segments
		client, server seen
		echoes         []netip.Addr
		more           bool
		programs       []string
		rules          string
		want           []string
		says           string
	}{
		{name: "answered between, and the server drops", client: seen{open, back}, server: seen{came}, echoes: echo,
			rules: drops, want: []string{"rules/server-drop proven"}},
		{name: "answered between, and lost behind", client: seen{open, back}, echoes: echo,
			want: []string{"rules/transit-silent proven"},
			says: "something between answers it in the name of tidebook, with 60 hops left"},
		{name: "nobody knows whether both watched", client: seen{open, back}, rules: drops},
		{name: "not all was seen", client: seen{open, back}, echoes: echo, more: true, rules: drops},
		{name: "a program sees it before", client: seen{open, back}, echoes: echo, programs: []string{"XDP on eth1"},
			rules: drops},
		{name: "the server answers itself", client: seen{open, back}, server: seen{came, sent}, echoes: echo,
			rules: drops},
		{name: "large ones leave and do not come", small: true, client: seen{open, back},
			server: seen{came, sent, wide}, echoes: echo, want: []string{"rules/large-packets-lost proven"},
			says: "1500 bytes left tidebook by eth1 and did not come to gauge-07"},
		{name: "large ones of another", small: true, client: seen{open, back},
			server: seen{came, sent, {Link: "eth1", Out: true, Length: 1500, From: wide.From,
				To: netip.MustParseAddrPort("10.20.9.9:5")}}, echoes: echo,
			want: []string{"rules/large-packets-lost proven"}, says: "it stalls as usual"},
	} {
		s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook).named(tidebook).client(tidebook, connected,
			stalled).
			listening(listener("0.0.0.0", 80, "nginx")).sends("v1", tidebook, gauge, "").sends("v2", gauge, tidebook,
			"")
		s.add("v2", fact.LookListeners, fact.Target{Port: 80, Scheme: "http", Again: 1}, func(f *fact.Fact) {
			f.Listeners = &fact.Listeners{All: []fact.Listener{listener("0.0.0.0", 80, "nginx")}}
		})
		small := s.target(tidebook)
		small.Small = true
		steps := []step{connected, stalled}
		if c.small {
			steps = []step{connected, replied(200)}
		}
		s.climb("v1", small, steps...).tables("v1", "").tables("v2", c.rules)
		if c.programs != nil {
			s.add("v2", fact.LookBarriers, fact.Target{},
				func(f *fact.Fact) { f.Barriers = &fact.Barriers{Programs: c.programs} })
		}
		tries := fact.Target{Addr: small.Addr, Port: 80, Watch: fact.TryOpening}
		watches := fact.Target{Addr: small.Addr, Port: 80, Watch: fact.WatchOpening}
		if c.small {
			tries, watches.Watch = s.target(tidebook), fact.WatchLarge
			tries.Watch = fact.TryLarge
		}
		s.add("v1", fact.LookPackets, tries, func(f *fact.Fact) {
			f.Packets = &fact.Packets{Try: true,
				Segments: c.client}
		})
		s.add("v2", fact.LookPackets, watches, func(f *fact.Fact) {
			f.Packets = &fact.Packets{Segments: c.server, Echoes: c.echoes, More: c.more}
		})
		s.check(c.name, c.want...)
		if judged := s.weigh(); c.says != "" && !strings.Contains(judged.Blocking()[0].Summary, c.says) {
			t.Errorf("%s: %s", c.name, judged.Blocking()[0].Summary)
		}
	}
}

// TestSeenBesides is what links showed of a silent try besides where it ended.
func TestSeenBesides(t *testing.T) {
	const own, far = gauge + ":40001", tidebook + ":80"
	open, came := seg("eth0", "SYN", own, far, true), seg("eth1", "SYN", own, far, false)
	broken := came
	broken.Damaged = true
	two := []fact.AskedNeighbour{{Addr: netip.MustParseAddr(tidebook), Link: "eth0", Times: 1, Answered: true,
		By: []string{"02:00:00:00:00:0e", "02:00:00:00:00:99"}}}
	one := []fact.AskedNeighbour{{Addr: netip.MustParseAddr(tidebook), Link: "eth0", Times: 1, Answered: true,
		By: two[0].By[:1]}}
	for _, c := range []struct {
		name   string
		server []fact.Segment
		asked  []fact.AskedNeighbour
		want   []string
	}{
		{"it comes damaged", []fact.Segment{broken, broken}, nil, []string{"rules/checksum-broken proven"}},
		{"one of two comes whole", []fact.Segment{broken, came}, nil, nil},
		{"two machines answer for the address", nil, two, []string{"service/address-twice likely"}},
		{"one does", []fact.Segment{came}, one, nil},
	} {
		s := both(t).tables("v1", "").tables("v2", "")
		s.add("v1", fact.LookPackets, fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 80,
			Watch: fact.TryOpening}, func(f *fact.Fact) {
			f.Packets = &fact.Packets{Try: true, Segments: []fact.Segment{open}, Asked: c.asked}
		})
		s.add("v2", fact.LookPackets, fact.Target{Addr: netip.MustParseAddr(tidebook), Port: 80,
			Watch: fact.WatchOpening}, func(f *fact.Fact) {
			f.Packets = &fact.Packets{Segments: c.server, Echoes: []netip.Addr{netip.MustParseAddr(gauge)}}
		})
		s.check(c.name, c.want...)
	}
}
