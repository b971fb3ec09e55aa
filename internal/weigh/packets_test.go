package weigh

import (
	"net/netip"
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
		{name: "nobody knows whether both watched at that time", client: seen{open}, want: []string{"rules/transit-silent likely"}},
		{name: "the echo was another's", client: seen{open}, echoes: []netip.Addr{netip.MustParseAddr("10.20.9.9")}, want: []string{"rules/transit-silent likely"}},
		{name: "not all was seen", client: seen{open}, echoes: echo, more: true, want: []string{"rules/transit-silent likely"}},
		{name: "a program sees it before", client: seen{open}, echoes: echo, programs: []string{"XDP on eth1"}, want: nil},
		{name: "the answer was lost", client: seen{open}, server: seen{came, answered}, want: []string{"rules/return-drop proven"}},
		{name: "the answer was lost behind a translation", client: seen{open}, server: seen{translated, seg("eth1", "SYN ACK", far, elsewhere, true)}, want: []string{"rules/return-drop proven"}},
		{name: "the answer was to somebody else", client: seen{open}, server: seen{came, other}, want: nil},
		{name: "the answer came", client: seen{open, back}, server: seen{came, answered}, want: []string{"rules/return-drop likely"}},
		{name: "a rule tells", client: seen{open}, server: seen{came}, rules: "-A INPUT -p tcp --dport 80 -j DROP", want: []string{"rules/server-drop proven"}},
		{name: "it never left", echoes: echo, want: []string{"rules/transit-silent likely"}},
		{name: "a reset of something between", step: true, client: seen{open, cut}, echoes: echo, want: []string{"rules/transit-reject proven"}},
		{name: "a reset in the server's name", step: true, client: seen{open, cut}, server: seen{came, answered}, want: []string{"rules/reset-injected proven"}},
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
