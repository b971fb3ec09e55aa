package filter

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"
)

// alone is a host that is known by a saved dump only, and holds an address.
func alone(t testing.TB, text string, own ...string) *Host {
	t.Helper()
	r, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	h := &Host{Name: "tidebook", Rules: r, Alone: true, Forwards: [2]Tri{Yes, Yes}}
	for _, a := range own {
		addr := netip.MustParseAddr(a)
		h.Held = append(h.Held, Held{Prefix: netip.PrefixFrom(addr, addr.BitLen())})
	}
	return h
}

func tcp(from, to string, port uint16) Packet {
	return Packet{Proto: TCP, From: netip.MustParseAddr(from), To: netip.MustParseAddr(to), ToPort: port, Flags: SYN}
}

const server = "10.20.0.14"

func filterTable(rules string) string {
	return "*filter\n:INPUT ACCEPT [0:0]\n:FORWARD ACCEPT [0:0]\n:OUTPUT ACCEPT [0:0]\n:a - [0:0]\n:b - [0:0]\n" +
		rules + "\nCOMMIT\n"
}

// TestVerdicts is what becomes of a new connection from gauge-07 to port 443.
func TestVerdicts(t *testing.T) {
	for _, c := range []struct {
		rules  string
		want   Verdict
		blocks int
	}{
		{"", Accepts, 0},
		{"-A INPUT -j DROP", Drops, 1},
		{"-A INPUT -p udp -j DROP", Accepts, 0},
		{"-A INPUT -s 10.20.7.0/24 -j REJECT", Rejects, 1},
		{"-A INPUT ! -s 10.20.7.0/24 -j DROP", Accepts, 0},
		{"-A INPUT -s 10.20.7.0/255.255.255.0 -j DROP", Drops, 1},
		{"-A INPUT -p tcp -m multiport --dports 80,400:500 -j DROP", Drops, 1},
		{"-A INPUT -m conntrack --ctstate NEW -j DROP", Drops, 1},
		{"-A INPUT -m conntrack --ctstate ESTABLISHED -j DROP", Accepts, 0},
		{"-A INPUT -p tcp --syn -j DROP", Drops, 1},
		{"-A INPUT -j a\n-A a -j RETURN\n-A INPUT -j DROP", Drops, 1},
		{"-A INPUT -g a\n-A a -s 10.9.0.0/16 -j DROP\n-A INPUT -j DROP", Accepts, 0},
		{"-A INPUT -j a\n-A a -j b\n-A b -j ACCEPT\n-A INPUT -j DROP", Accepts, 0},
		// What is not known decides only where it makes a difference.
		{"-A INPUT -m limit --limit 5/s -j ACCEPT", Accepts, 0},
		{"-A INPUT -m limit --limit 5/s -j DROP", Undecidable, 0},
		{"-A INPUT -m limit --limit 5/s -j DROP\n-A INPUT -j DROP", Drops, 1},
		{"-A INPUT -m limit --limit 5/s -j LOG\n-A INPUT -j DROP", Drops, 1},
		{"-A INPUT -m string --string x --algo bm -j a\n-A a -j RETURN", Accepts, 0},
		{"-A INPUT -m owner --uid-owner 0 -j DROP", Accepts, 0},
		{"-A INPUT -m mac --mac-source 00:00:00:00:00:01 -j DROP", Undecidable, 0},
		{"-A INPUT -j NFQUEUE --queue-num 1", Undecidable, 0},
		{"-A INPUT -j SOMETHING", Undecidable, 0},
		{"-A INPUT -i lo -j DROP", Accepts, 0},
		{"-A INPUT -i eth1 -j DROP", Undecidable, 0},
		{"-A INPUT -p tcp --sport 1:1023 -j DROP", Accepts, 0},
		{"-A INPUT -p tcp --sport 1024:65535 -j DROP", Drops, 1},
		{"-A INPUT -p tcp --sport 40000:50000 -j DROP", Undecidable, 0},
		{"-A INPUT -m set --match-set bad src -j DROP", Undecidable, 0},
		{"-A INPUT -m addrtype --dst-type LOCAL -j DROP", Drops, 1},
	} {
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: alone(t, filterTable(c.rules), server)}})
		if got := trip.Request; got.Verdict != c.want || c.want != Undecidable && len(got.Blocks) != c.blocks {
			t.Errorf("%q: %s (%s), %d blocks; want %s", c.rules, got.Verdict, got.Why, len(got.Blocks), c.want)
		}
	}
}

// TestRow sees that evaluation goes on behind a block, and names every filter
// in the way.
func TestRow(t *testing.T) {
	text := "*mangle\n:PREROUTING ACCEPT [0:0]\n-A PREROUTING -s 10.20.7.31 -j DROP\nCOMMIT\n" + filterTable(
		"-A INPUT -p tcp --dport 443 -j DROP\n-A OUTPUT -p tcp --sport 443 -j DROP",
	)
	trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: alone(t, text, server)}})
	if len(trip.Request.Blocks) != 2 || trip.Reply.Verdict != Drops {
		t.Errorf("%d blocks of the request, reply %s", len(trip.Request.Blocks), trip.Reply.Verdict)
	}
}

// TestManyUnknown sees that conditions which are not known join again, and
// that too many that do not are said to be too many.
func TestManyUnknown(t *testing.T) {
	var joined, apart strings.Builder
	for i := range 500 {
		fmt.Fprintf(&joined, "-A INPUT -m limit --limit %d/s -j a\n", i+1)
		fmt.Fprintf(&apart, "-A INPUT -m limit --limit %d/s -j MARK --set-xmark %#x/%#x\n", i+1, 1<<(i%32), 1<<(i%32))
	}
	for text, want := range map[string]string{joined.String(): "",
		apart.String(): "too many conditions are not known"} {
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: alone(t, filterTable(text), server)}})
		if trip.Request.Why != want {
			t.Errorf("%.40q…: %s, %q; want %q", text, trip.Request.Verdict, trip.Request.Why, want)
		}
	}
}

// TestAnySource is the guard that the verdict holds for any sender.
func TestAnySource(t *testing.T) {
	p := tcp("10.20.7.31", server, 443)
	p.AnySource = true
	for rules, want := range map[string]Verdict{
		"-A INPUT -p tcp --dport 443 -j DROP":                  Drops,
		"-A INPUT -s 10.20.7.31 -j DROP":                       Undecidable,
		"-A INPUT -s 10.20.7.31 -j ACCEPT\n-A INPUT -j ACCEPT": Accepts,
	} {
		if trip := Travel(p, []Hop{{Host: alone(t, filterTable(rules), server)}}); trip.Request.Verdict != want {
			t.Errorf("%q: %s, want %s", rules, trip.Request.Verdict, want)
		}
	}
}

// TestNarrowest sees that the change which is offered works on the model,
// and opens nothing else.
func TestNarrowest(t *testing.T) {
	for _, c := range []struct{ rules, want string }{
		{"-A INPUT -s 10.20.7.0/24 -j DROP",
			"iptables -I INPUT 1 -s 10.20.7.31/32 -p tcp -m tcp --dport 443 -j ACCEPT"},
		{"-A INPUT -j a\n-A a -j ACCEPT\n-A INPUT -j DROP", ""},
		{"-A INPUT -p udp -j DROP\n-A INPUT -j a\n-A a -p tcp -j REJECT",
			"iptables -I a 1 -s 10.20.7.31/32 -p tcp -m tcp --dport 443 -j ACCEPT"},
	} {
		h := alone(t, filterTable(c.rules), server)
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: h}})
		if c.want == "" {
			if trip.Request.Verdict != Accepts {
				t.Errorf("%q: %s", c.rules, trip.Request.Verdict)
			}
			continue
		}
		change, ok := h.Narrowest(trip.Request.Steps[trip.Request.Blocks[0]])
		if !ok || change.Do != c.want {
			t.Errorf("%q: %v %q, want %q", c.rules, ok, change.Do, c.want)
			continue
		}
		if after := Travel(tcp("10.20.7.31", server, 443),
			[]Hop{{Host: h.With(change)}}); after.Request.Verdict != Accepts {
			t.Errorf("%q: with the change it is %s", c.rules, after.Request.Verdict)
		}
		list, whole := Differences(h, h.With(change), []*Rule{change.rule}, tcp("10.20.7.31", server, 443), Hop{})
		if len(list) != 1 || !whole || list[0].Count.Int64() != 1 || list[0].Ports != (Range{443, 443}) {
			t.Errorf("%q: it opens %v", c.rules, list)
		}
	}
}

// TestKeepers sees that a change is written for the program that keeps the
// chain.
func TestKeepers(t *testing.T) {
	for _, c := range []struct{ chain, want string }{
		{"ufw-user-input", "ufw prepend allow proto tcp from 10.20.7.31 to any port 443"},
		{"f2b-sshd", "fail2ban-client set sshd unbanip 10.20.7.31"},
		{"IN_public_deny",
			`firewall-cmd --zone=public --add-rich-rule='rule family="ipv4" source address="10.20.7.31" port ` +
				`port="443" protocol="tcp" accept'`},
		{"plain", "iptables -I plain 1 -s 10.20.7.31/32 -p tcp -m tcp --dport 443 -j ACCEPT"},
	} {
		h := alone(
			t,
			"*filter\n:INPUT ACCEPT [0:0]\n:"+c.chain+" - [0:0]\n-A INPUT -j "+c.chain+"\n-A "+c.chain+" -s "+
				"10.20.7.31 -j DROP\nCOMMIT\n",
			server,
		)
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: h}})
		if change, ok := h.Narrowest(trip.Request.Steps[trip.Request.Blocks[0]]); !ok || change.Do != c.want {
			t.Errorf("%s: %q, want %q", c.chain, change.Do, c.want)
		}
	}
}

// TestSets looks keys up in sets of every shape.
func TestSets(t *testing.T) {
	s := &Set{
		Elems: []Elem{
			{Key: []byte{10, 0, 0, 0}, End: []byte{10, 255, 255, 255}},
			{Key: []byte{10, 20, 7, 31}, Negated: true},
			{Key: []byte{192, 0, 2, 1}},
		},
	}
	s.index()
	for key, want := range map[[4]byte]Tri{{10, 1, 2, 3}: Yes, {10, 20, 7, 31}: No, {192, 0, 2, 1}: Yes,
		{192, 0, 2, 2}: No, {9, 255, 255, 255}: No, {11, 0, 0, 0}: No} {
		if got, _ := s.holds(s.find(key[:])); got != want {
			t.Errorf("%v: %s, want %s", key, got, want)
		}
	}
}

// TestRouting evaluates policy rules and routes.
func TestRouting(t *testing.T) {
	net := netip.MustParsePrefix
	r := &Routing{
		Rules: []RouteRule{
			{Priority: 100, From: net("10.20.9.0/24"), Table: 5, Suppress: -1},
			{Priority: 32766, Table: 254, Suppress: -1},
		},
		Routes: []Route{
			{Table: 254, Dst: net("0.0.0.0/0"), Type: "unicast", Dev: "eth0"},
			{Table: 254, Dst: net("10.20.7.0/24"), Type: "blackhole"},
			{
				Table:  254,
				Dst:    net("10.20.8.0/24"),
				Type:   "unicast",
				Dev:    "eth1",
				Metric: 20,
			},
			{Table: 254, Dst: net("10.20.8.0/24"), Type: "unicast", Dev: "eth2", Metric: 10},
			{
				Table: 254,
				Dst:   net("10.20.6.0/24"),
				Type:  "unicast",
				Dev:   "eth3",
				Down:  true,
			},
			{Table: 5, Dst: net("10.20.7.0/24"), Type: "unicast", Dev: "eth9"},
		},
	}
	for _, c := range []struct{ to, from, dev string }{
		{"10.20.1.1", "", "eth0"}, {"10.20.8.1", "", "eth2"}, {"10.20.7.1", "10.20.9.4", "eth9"},
		{"10.20.7.1", "", ""}, {"10.20.6.1", "", "eth0"},
	} {
		var from netip.Addr
		if c.from != "" {
			from = netip.MustParseAddr(c.from)
		}
		route, known := r.lookUp(netip.MustParseAddr(c.to), from, 0, "")
		dev := ""
		if route.Leads() {
			dev = route.Dev
		}
		if !known || dev != c.dev {
			t.Errorf("%s from %q: %q, want %q", c.to, c.from, dev, c.dev)
		}
	}
}

func many(rules int) string {
	var b strings.Builder
	b.WriteString("*filter\n:INPUT ACCEPT [0:0]\n")
	for i := range rules {
		fmt.Fprintf(
			&b,
			"-A INPUT -s 10.%d.%d.%d/32 -p tcp -m tcp --dport %d -j DROP\n",
			i>>16&255,
			i>>8&255,
			i&255,
			1+i%60000,
		)
	}
	return b.String() + "COMMIT\n"
}

// TestSpeed bounds the time of one packet against very many rules.
func TestSpeed(t *testing.T) {
	if testing.Short() {
		t.Skip("measures time")
	}
	h := alone(t, many(100_000), server)
	p := tcp("172.16.0.1", server, 443)
	best := time.Hour
	for range 10 {
		began := time.Now()
		passes(h, p, Hop{})
		best = min(best, time.Since(began))
	}
	t.Logf("one packet against 100,000 rules: %s", best)
	if best > 50*time.Millisecond { // ten times the bound, for a busy machine
		t.Errorf("one packet against 100,000 rules takes %s", best)
	}
}

func BenchmarkPacket100000Rules(b *testing.B) {
	h := alone(b, many(100_000), server)
	p := tcp("172.16.0.1", server, 443)
	for b.Loop() {
		passes(h, p, Hop{})
	}
}

func Benchmark10000Packets1000Rules(b *testing.B) {
	h := alone(b, many(1000), server)
	for b.Loop() {
		for i := range 10_000 {
			p := tcp("172.16.0.1", server, uint16(1+i))
			Travel(p, []Hop{{Host: h}})
		}
	}
}

// FuzzParse reads anything as saved tables, and takes packets through what
// can be read.
func FuzzParse(f *testing.F) {
	f.Add([]byte(filterTable("-A INPUT -s 10.20.7.0/24 -p tcp --dport 443 -j DROP")))
	f.Add(
		[]byte(
			`{"nftables":[{"table":{"family":"inet","name":"f","handle":1}},{"chain":{"family":"inet","table":"f","name":"c","handle":1,"type":"filter","hook":"input","prio":0,"policy":"drop"}},{"rule":{"family":"inet","table":"f","chain":"c","handle":2,"expr":[{"match":{"op":"==","left":{"payload":{"protocol":"ip","field":"saddr"}},"right":{"prefix":{"addr":"10.20.7.0","len":24}}}},{"drop":null}]}}]}`,
		),
	)
	f.Fuzz(func(t *testing.T, text []byte) {
		r, err := Parse(text)
		if err != nil {
			return
		}
		travelled(t, r)
	})
}

// FuzzNetlink reads anything as the kernel's messages.
func FuzzNetlink(f *testing.F) {
	f.Add(
		[]byte{1, 0, 0, 0, 8, 0, 1, 0, 'f', 0, 0, 0},
		[]byte{1, 0, 0, 0, 8, 0, 1, 0, 'f', 0, 0, 0, 8, 0, 3, 0, 'c', 0, 0, 0},
		[]byte{1, 0, 0, 0},
		[]byte{1, 0, 0, 0, 8, 0, 1, 0, 'f', 0, 0, 0, 8, 0, 2, 0, 'c', 0, 0, 0},
	)
	f.Fuzz(func(t *testing.T, table, chain, set, rule []byte) {
		r, err := FromNetlink(
			Dump{
				Tables:   [][]byte{table},
				Chains:   [][]byte{chain},
				Sets:     [][]byte{set},
				Elements: [][]byte{set},
				Rules:    [][]byte{rule, rule},
			},
		)
		if err != nil {
			return
		}
		travelled(t, r)
	})
}

func travelled(t *testing.T, r *Ruleset) {
	addr := netip.MustParseAddr(server)
	h := &Host{Name: "tidebook", Rules: r, Alone: true, Held: []Held{{Prefix: netip.PrefixFrom(addr, 32)}}}
	trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: h}})
	if trip.Request.Verdict == "" || trip.Reply.Verdict == "" {
		t.Error("no verdict")
	}
	for _, s := range trip.Request.Steps {
		if s.Rule != nil {
			_ = s.Rule.Words()
		}
		h.Narrowest(s)
	}
}
