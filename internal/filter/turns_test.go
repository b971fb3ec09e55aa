package filter

import (
	"net/netip"
	"strings"
	"testing"
)

// table is a saved table with its base chains, all of which let through.
func table(name, chains, rules string) string {
	text := "*" + name + "\n"
	for _, chain := range strings.Fields(chains) {
		text += ":" + chain + " ACCEPT [0:0]\n"
	}
	return text + rules + "\nCOMMIT\n"
}

// TestMarks is the arithmetic of marks: what the mask covers is cleared, and the value is
// turned over what is left (the kernel's xt_MARK).
func TestMarks(t *testing.T) {
	for sets, mark := range map[string]string{
		"--set-xmark 0x6/0xff": "0x6",
		"--set-xmark 0x6/0x0":  "0x5", // 3 turned by 6
		"--set-xmark 0x3/0x1":  "0x1", // 2 turned by 3
		"--set-mark 0x4/0x4":   "0x7",
		"--and-mark 0x2":       "0x2",
		"--or-mark 0x4":        "0x7",
		"--xor-mark 0x1":       "0x2",
	} {
		for asked, want := range map[string]Verdict{mark: Drops, "0x40": Accepts} {
			text := table("mangle", "INPUT", "-A INPUT -j MARK --set-mark 0x3\n-A INPUT -j MARK "+sets) +
				filterTable("-A INPUT -m mark --mark "+asked+" -j DROP")
			trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: alone(t, text, server)}})
			if trip.Request.Verdict != want {
				t.Errorf("3, then %s; asked for %s: %s, want %s", sets, asked, trip.Request.Verdict, want)
			}
		}
	}
}

// TestRedirects is where a packet goes that is redirected: of a host's own it is the
// loopback address, of others' the address of the link by which they came.
func TestRedirects(t *testing.T) {
	own := alone(t, table("nat", "PREROUTING OUTPUT",
		"-A OUTPUT -p tcp --dport 80 -j REDIRECT --to-ports 8080\n"+
			"-A PREROUTING -p tcp --dport 80 -j REDIRECT --to-ports 8081")+filterTable(""), server)
	sent := Travel(tcp(server, "10.20.0.99", 80), []Hop{{Host: own}}).Request.Last
	if sent.To != netip.MustParseAddr("127.0.0.1") || sent.ToPort != 8080 {
		t.Errorf("sent by the host itself: to %s, port %d", sent.To, sent.ToPort)
	}
	came := Travel(tcp("10.20.7.31", server, 80), []Hop{{Host: own}}).Request.Last
	if came.To != netip.MustParseAddr(server) || came.ToPort != 8081 {
		t.Errorf("sent by another: to %s, port %d", came.To, came.ToPort)
	}
}

// TestOverLoopback is what a host sends to itself: it comes by the loopback link, and as
// the tracker knew it on its way out.
func TestOverLoopback(t *testing.T) {
	untracked := table("raw", "PREROUTING OUTPUT", "-A OUTPUT -j CT --notrack")
	for _, c := range []struct {
		from, text string
		want       Verdict
	}{
		{server, untracked + filterTable("-A INPUT -m conntrack --ctstate UNTRACKED -j DROP"), Drops},
		{server, filterTable("-A INPUT -m conntrack --ctstate UNTRACKED -j DROP"), Accepts},
		{"10.20.7.31", untracked + filterTable("-A INPUT -m conntrack --ctstate UNTRACKED -j DROP"), Accepts},
		{server, filterTable("-A INPUT -i lo -j DROP"), Drops},
		{server, filterTable("-A INPUT ! -i lo -j DROP"), Accepts},
		{"10.20.7.31", filterTable("-A INPUT -i lo -j DROP"), Accepts},
		{"10.20.7.31", filterTable("-A INPUT ! -i lo -j DROP"), Drops},
		{server, filterTable("-A OUTPUT -o lo -j DROP"), Drops},
	} {
		trip := Travel(tcp(c.from, server, 443), []Hop{{Host: alone(t, c.text, server)}})
		if trip.Request.Verdict != c.want {
			t.Errorf("from %s, %q: %s, want %s", c.from, c.text, trip.Request.Verdict, c.want)
		}
	}
}

// TestNarrowSides is which end a new rule names: of what comes in the sender, of what goes
// out the addressee, of what is passed on both.
func TestNarrowSides(t *testing.T) {
	for _, c := range []struct {
		p     Packet
		own   string
		rules string
		want  string
	}{
		{tcp("10.20.7.31", server, 443), server, "-A INPUT -j DROP",
			"iptables -I INPUT 1 -s 10.20.7.31/32 -p tcp -m tcp --dport 443 -j ACCEPT"},
		{tcp("10.20.7.31", server, 443), "10.20.7.31", "-A OUTPUT -j DROP",
			"iptables -I OUTPUT 1 -d 10.20.0.14/32 -p tcp -m tcp --dport 443 -j ACCEPT"},
		{tcp("10.20.7.31", server, 443), "10.20.0.1", "-A FORWARD -j DROP",
			"iptables -I FORWARD 1 -s 10.20.7.31/32 -d 10.20.0.14/32 -p tcp -m tcp --dport 443 -j ACCEPT"},
	} {
		h := alone(t, filterTable(c.rules), c.own)
		walk := Travel(c.p, []Hop{{Host: h}}).Request
		if len(walk.Blocks) != 1 {
			t.Fatalf("%s: %+v", c.rules, walk)
		}
		change, ok := h.Narrowest(walk.Steps[walk.Blocks[0]])
		if !ok || change.Do != c.want {
			t.Errorf("%s: %q, want %q", c.rules, change.Do, c.want)
		}
		if opened := Travel(c.p, []Hop{{Host: h.With(change)}}).Request; opened.Verdict != Accepts {
			t.Errorf("%s: with %q it is still stopped: %s", c.rules, change.Do, opened.Verdict)
		}
		other := tcp("10.20.7.99", "10.20.0.98", 443)
		if c.own == "10.20.7.31" {
			other.From = netip.MustParseAddr(c.own)
		} else if c.own == server {
			other.To = netip.MustParseAddr(server)
		}
		if opened := Travel(other, []Hop{{Host: h.With(change)}}).Request; opened.Verdict != Drops {
			t.Errorf("%s: %q opens it to others", c.rules, change.Do)
		}
	}
}

// TestStateful tells what nobody can read, a rate, from what was only not read.
func TestStateful(t *testing.T) {
	for rules, want := range map[string]bool{
		"-A INPUT -m limit --limit 5/s -j DROP":                                true,
		"-A INPUT -m time --timestart 08:00 --timestop 18:00 -j DROP":          true,
		"-A INPUT -m mac --mac-source 00:00:00:00:00:01 -j DROP":               false,
		"-A INPUT -m set --match-set bad src -j DROP":                          false,
		"-A INPUT -j ACCEPT\n-A INPUT -m limit --limit 5/s -j DROP":            false,
		"-A INPUT -p udp -m limit --limit 5/s -j DROP":                         false,
		"-A INPUT -m limit --limit 5/s -j ACCEPT\n-A INPUT -p tcp -j DROP":     true,
		"-A INPUT -m set --match-set bad src -j ACCEPT\n-A INPUT -p 6 -j DROP": false,
	} {
		walk := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: alone(t, filterTable(rules), server)}}).Request
		if walk.Stateful != want {
			t.Errorf("%q: %v (%s, %s)", rules, walk.Stateful, walk.Verdict, walk.Why)
		}
	}
}

// TestJourneysJoin sees that branches which are alike behind a host are one again, and
// that branches with another mark, translation or end are not.
func TestJourneysJoin(t *testing.T) {
	router := func(rules string) *Host {
		return alone(t, rules, "10.20.0.1", "10.20.7.1")
	}
	marks := "-A FORWARD -m limit --limit 1/s -j MARK --set-mark 0x1"
	byMark := "-A FORWARD -m mark --mark 0x1 -j DROP"
	nat := table("nat", "PREROUTING POSTROUTING", "-A POSTROUTING -m limit --limit 1/s -j SNAT --to-source 10.20.0.1")
	atServer := alone(t, filterTable("-A INPUT -s 10.20.0.1 -j DROP"), server)
	for _, c := range []struct {
		name string
		hops []Hop
		want Verdict
	}{
		{"a mark that nobody asks for", []Hop{{Host: router(filterTable(marks))}}, Accepts},
		{"a mark that is asked for", []Hop{{Host: router(filterTable(marks + "\n" + byMark))}}, Undecidable},
		{"a translation that the next host asks for",
			[]Hop{{Host: router(nat + filterTable(""))}, {Host: atServer}}, Undecidable},
		{"a log that changes nothing",
			[]Hop{{Host: router(filterTable("-A FORWARD -m limit --limit 1/s -j LOG"))}, {Host: atServer}}, Accepts},
	} {
		walk := Travel(tcp("10.20.7.31", server, 443), c.hops).Request
		if walk.Verdict != c.want {
			t.Errorf("%s: %s (%s), want %s", c.name, walk.Verdict, walk.Why, c.want)
		}
	}
	// What only the tracker remembers decides over the reply.
	remembers := router(filterTable("-A FORWARD -p tcp --dport 443 -m limit --limit 1/s -j CONNMARK --set-mark 0x1\n" +
		"-A FORWARD -p tcp --sport 443 -m connmark --mark 0x1 -j DROP"))
	open := alone(t, filterTable(""), server)
	trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: remembers}, {Host: open}})
	if trip.Request.Verdict != Accepts || trip.Reply.Verdict != Undecidable {
		t.Errorf("a mark of the connection: %s, its reply %s (%s)", trip.Request.Verdict, trip.Reply.Verdict,
			trip.Reply.Why)
	}
	// Many hosts that each fork twice and join again are no more than one.
	var many []Hop
	for range 12 {
		many = append(many, Hop{Host: router(filterTable("-A FORWARD -m limit --limit 1/s -j LOG\n" +
			"-A FORWARD -m limit --limit 2/s -j a\n-A a -j RETURN"))})
	}
	if walk := Travel(tcp("10.20.7.31", server, 443), many).Request; walk.Verdict != Accepts || walk.Why != "" {
		t.Errorf("forks that join: %s (%s)", walk.Verdict, walk.Why)
	}
}
