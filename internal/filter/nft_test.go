package filter

import (
	"net/netip"
	"strings"
	"testing"
)

// nftables is a ruleset as nft -j writes it: one table with an input chain
// that accepts, a chain "a", and whatever else is given.
func nftables(more ...string) string {
	base := []string{
		`{"table":{"family":"inet","name":"f","handle":1}}`,
		`{"chain":{"family":"inet","table":"f","name":"in","handle":1,"type":"filter","hook":"input","prio":0,"policy":"accept"}}`,
		`{"chain":{"family":"inet","table":"f","name":"a","handle":2}}`,
		`{"set":{"family":"inet","table":"f","name":"bad","handle":3,"type":"ipv4_addr","flags":["interval"],"elem":[{"prefix":{"addr":"10.20.7.0","len":24}},{"range":["10.9.0.1","10.9.0.9"]},"10.1.1.1"]}}`,
		`{"map":{"family":"inet","table":"f","name":"by_port","handle":4,"type":"inet_service","map":"verdict","elem":[[22,{"accept":null}],[443,{"drop":null}]]}}`,
		`{"set":{"family":"inet","table":"f","name":"met","handle":5,"type":"ipv4_addr","flags":["dynamic"]}}`,
	}
	return `{"nftables":[{"metainfo":{"json_schema_version":1}},` + strings.Join(append(base, more...), ",") + `]}`
}

func nftRule(chain, exprs string) string {
	return `{"rule":{"family":"inet","table":"f","chain":"` + chain + `","handle":9,"expr":[` + exprs + `]}}`
}

func nftMatch(left, op, right string) string {
	return `{"match":{"op":"` + op + `","left":` + left + `,"right":` + right + `}}`
}

const (
	nftDrop   = `{"drop":null}`
	nftSaddr  = `{"payload":{"protocol":"ip","field":"saddr"}}`
	nftDport  = `{"payload":{"protocol":"tcp","field":"dport"}}`
	nftSaddr6 = `{"payload":{"protocol":"ip6","field":"saddr"}}`
)

// TestNftables is what becomes of a new connection from gauge-07 to port 443.
func TestNftables(t *testing.T) {
	meta := func(key string) string { return `{"meta":{"key":"` + key + `"}}` }
	ct := func(key string) string { return `{"ct":{"key":"` + key + `"}}` }
	for _, c := range []struct {
		name, exprs string
		want        Verdict
	}{
		{"nothing", `{"counter":{"packets":0,"bytes":0}}`, Accepts},
		{"all", nftDrop, Drops},
		{"an address", nftMatch(nftSaddr, "==", `"10.20.7.31"`) + "," + nftDrop, Drops},
		{"another address", nftMatch(nftSaddr, "==", `"10.20.7.32"`) + "," + nftDrop, Accepts},
		{"not an address", nftMatch(nftSaddr, "!=", `"10.20.7.31"`) + "," + nftDrop, Accepts},
		{"a net", nftMatch(nftSaddr, "==", `{"prefix":{"addr":"10.20.0.0","len":16}}`) + "," + nftDrop, Drops},
		{"a range", nftMatch(nftSaddr, "==", `{"range":["10.20.7.30","10.20.7.40"]}`) + "," + nftDrop, Drops},
		{"a family that it is not", nftMatch(nftSaddr6, "==", `"2001:db8::1"`) + "," + nftDrop, Accepts},
		{"a port", nftMatch(nftDport, "==", `443`) + "," + nftDrop, Drops},
		{"a service", nftMatch(nftDport, "==", `"https"`) + "," + nftDrop, Drops},
		{"ports", nftMatch(nftDport, "==", `{"set":[80,443]}`) + "," + nftDrop, Drops},
		{"no such ports", nftMatch(nftDport, "!=", `{"set":[80,443]}`) + "," + nftDrop, Accepts},
		{"above a port", nftMatch(nftDport, ">", `442`) + "," + nftDrop, Drops},
		{"below a port", nftMatch(nftDport, "<=", `442`) + "," + nftDrop, Accepts},
		{"a named set", nftMatch(nftSaddr, "==", `"@bad"`) + "," + nftDrop, Drops},
		{"not in a named set", nftMatch(nftSaddr, "!=", `"@bad"`) + "," + nftDrop, Accepts},
		{"a set that no packet has filled yet", nftMatch(nftSaddr, "==", `"@met"`) + "," + nftDrop, Accepts},
		{"a verdict by port", `{"vmap":{"key":` + nftDport + `,"data":"@by_port"}}`, Drops},
		{"a verdict by port, written out", `{"vmap":{"key":` + nftDport +
			`,"data":{"set":[[80,{"drop":null}],[443,{"jump":{"target":"a"}}]]}}}`, Accepts},
		{"new", nftMatch(ct("state"), "in", `"new"`) + "," + nftDrop, Drops},
		{"established", nftMatch(ct("state"), "in", `["established","related"]`) + "," + nftDrop, Accepts},
		{"invalid", nftMatch(ct("state"), "==", `"invalid"`) + "," + nftDrop, Accepts},
		{"IPv4", nftMatch(meta("nfproto"), "==", `"ipv4"`) + "," + nftDrop, Drops},
		{"IPv6", nftMatch(meta("nfproto"), "==", `"ipv6"`) + "," + nftDrop, Accepts},
		{"the protocol", nftMatch(meta("l4proto"), "==", `"tcp"`) + "," + nftDrop, Drops},
		{"other protocols", nftMatch(meta("l4proto"), "==", `{"set":["udp","icmp"]}`) + "," + nftDrop, Accepts},
		{"loopback", nftMatch(meta("iifname"), "==", `"lo"`) + "," + nftDrop, Accepts},
		{"a link that may be it", nftMatch(meta("iifname"), "==", `"eth5"`) + "," + nftDrop, Undecidable},
		{"the hour", nftMatch(meta("hour"), "==", `"12:00"`) + "," + nftDrop, Undecidable},
		{"SYN", nftMatch(`{"&":[{"payload":{"protocol":"tcp","field":"flags"}},["syn","ack"]]}`, "==", `"syn"`) + "," +
			nftDrop, Drops},
		{"a rate", `{"limit":{"rate":5,"burst":5,"per":"second"}},` + nftDrop, Undecidable},
		{"a jump and back", `{"jump":{"target":"a"}}`, Accepts},
		{"a refusal", `{"reject":{"type":"tcp reset"}}`, Rejects},
		{"a refusal by ICMP", `{"reject":{"type":"icmpx","expr":"admin-prohibited"}}`, Rejects},
		{"a queue", `{"queue":{"num":1}}`, Undecidable},
		{"what nobody knows", `{"something":{"new":1}},` + nftDrop, Undecidable},
		{"a note", `{"log":{"prefix":"x"}},` + nftDrop, Drops},
		{"a mark, and a rule for it", `{"mangle":{"key":` + meta("mark") + `,"value":7}},` +
			nftMatch(meta("mark"), "==", "7") + "," + nftDrop, Drops},
	} {
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: alone(t, nftables(nftRule("in", c.exprs)),
			server)}})
		if trip.Request.Verdict != c.want {
			t.Errorf("%s: %s (%s), want %s", c.name, trip.Request.Verdict, trip.Request.Why, c.want)
		}
		for _, s := range trip.Request.Steps {
			if s.Rule != nil && s.Rule.Words() == "" {
				t.Errorf("%s: a rule without words", c.name)
			}
		}
	}
}

// TestTranslations sees that what comes after a translation meets the
// translated packet, and the reply is translated back.
func TestTranslations(t *testing.T) {
	const chains = `{"chain":{"family":"inet","table":"f","name":"pre","handle":7,"type":"nat","hook":"prerouting","prio":-100,"policy":"accept"}},` +
		`{"chain":{"family":"inet","table":"f","name":"out","handle":8,"type":"filter","hook":"output","prio":0,"policy":"accept"}}`
	for _, c := range []struct {
		name, rules string
		request     Verdict
		reply       Verdict
		rewrites    int
	}{
		{"a port, then its filter", nftRule("pre", nftMatch(nftDport, "==", "443")+`,{"redirect":{"port":8443}}`) +
			"," + nftRule("in", nftMatch(nftDport, "==", "8443")+","+nftDrop), Drops, Accepts, 1},
		{"a port, and the filter of the old one", nftRule("pre", `{"redirect":{"port":8443}}`) + "," +
			nftRule("in", nftMatch(nftDport, "==", "443")+","+nftDrop), Accepts, Accepts, 1},
		{"the reply has the port of the service", nftRule("pre",
			nftMatch(nftDport, "==", "443")+`,{"redirect":{"port":8443}}`) + "," +
			nftRule("out", nftMatch(`{"payload":{"protocol":"tcp","field":"sport"}}`, "==", "8443")+","+nftDrop),
			Accepts, Drops, 1},
		{"a port that is not asked for", nftRule("pre", nftMatch(nftDport, "==", "80")+`,{"redirect":{"port":8443}}`),
			Accepts, Accepts, 0},
	} {
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: alone(t, nftables(chains, c.rules), server)}})
		if trip.Request.Verdict != c.request || trip.Reply.Verdict != c.reply ||
			len(trip.Request.Rewrites) != c.rewrites {
			t.Errorf("%s: %s, reply %s, %v", c.name, trip.Request.Verdict, trip.Reply.Verdict, trip.Request.Rewrites)
		}
	}
}

// TestPriorities sees that every base chain has its say, in the order of
// priorities, and that acceptance in one is not acceptance in all.
func TestPriorities(t *testing.T) {
	late := `{"chain":{"family":"inet","table":"f","name":"late","handle":7,"type":"filter","hook":"input","prio":10,"policy":"drop"}}`
	trip := Travel(
		tcp("10.20.7.31", server, 443),
		[]Hop{{Host: alone(t, nftables(late, nftRule("in", `{"accept":null}`)), server)}},
	)
	if trip.Request.Verdict != Drops || trip.Request.Steps[trip.Request.Blocks[0]].Chain.Name != "late" {
		t.Errorf("%s", trip.Request.Verdict)
	}
}

// TestLinks is chains that see what comes and goes by a link, before and after all others.
func TestLinks(t *testing.T) {
	chain := func(hook, dev string) string {
		return `{"table":{"family":"netdev","name":"l","handle":9}},{"chain":{"family":"netdev","table":"l","name":"c",` +
			`"handle":1,"type":"filter","hook":"` + hook + `","prio":0,"policy":"accept"` + dev + `}},` +
			`{"rule":{"family":"netdev","table":"l","chain":"c","handle":2,"expr":[` + nftDrop + `]}}`
	}
	for _, c := range []struct {
		hook, dev      string
		request, reply Verdict
	}{
		{"ingress", `,"dev":"eth0"`, Drops, Accepts},
		{"ingress", `,"dev":["eth1","eth0"]`, Drops, Accepts},
		{"ingress", `,"dev":"eth*"`, Drops, Accepts},
		{"ingress", `,"dev":"eth1"`, Accepts, Accepts},
		{"egress", `,"dev":"eth0"`, Accepts, Drops},
		{"ingress", ``, Undecidable, Undecidable}, // early versions of nft do not tell which
	} {
		h := alone(t, nftables(chain(c.hook, c.dev)), server)
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: h, In: "eth0", Out: "eth0"}})
		if trip.Request.Verdict != c.request || trip.Reply.Verdict != c.reply {
			t.Errorf("%s%s: %s, reply %s", c.hook, c.dev, trip.Request.Verdict, trip.Reply.Verdict)
		}
	}
}

// TestNotARuleset is text that is no ruleset: the error has a place, and
// nothing is half read.
func TestNotARuleset(t *testing.T) {
	whole := nftables(nftRule("in", nftDrop))
	for _, text := range []string{"", "{", `{"nftables":3}`, whole[:len(whole)/2], "-A INPUT -j DROP",
		"*filter\n:INPUT ACCEPT\n-A NONE -j DROP\nCOMMIT\n", "*filter\n-A INPUT --dport\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -s 10.20.7.300 -j DROP\nCOMMIT\n",
		"*filter\n:INPUT ACCEPT [0:0]\n-A INPUT -j DROP\n", "\x00\x01"} {
		r, err := Parse([]byte(text))
		if err == nil {
			t.Errorf("%q: read as %d tables", text, len(r.Tables))
		} else if strings.Contains(err.Error(), "\n") {
			t.Errorf("%q: an error of more than one line: %v", text, err)
		}
	}
}

// TestSuppose is a change that has not been made.
func TestSuppose(t *testing.T) {
	saved := filterTable("-A INPUT -s 10.20.7.0/24 -j a\n-A a -p tcp -j DROP")
	nft := nftables(nftRule("in", nftMatch(nftDport, "==", "443")+","+nftDrop))
	for _, c := range []struct {
		tables, change string
		want           Verdict
		fails          string
	}{
		{saved, "iptables -I INPUT 1 -s 10.20.7.31 -j ACCEPT", Accepts, ""},
		{saved, "sudo iptables -I INPUT -s 10.20.7.31/32 -p tcp --dport 443 -j ACCEPT", Accepts, ""},
		{saved, "iptables -A INPUT -s 10.20.7.31 -j ACCEPT", Drops, ""},
		{saved, "iptables -D a 1", Accepts, ""},
		{saved, "iptables -D a -p tcp -j DROP", Accepts, ""},
		{saved, "-D INPUT -s 10.20.7.0/24 -j a", Accepts, ""},
		{saved, "iptables -D INPUT 9", "", "9"},
		{saved, "iptables -D INPUT", "", "expected the rule to delete"},
		{saved, "iptables -I INPUT -p tcp --dprot 443 -j ACCEPT", "", "--dprot"},
		{saved, "iptables -D INPUT -s 10.9.9.9 -j DROP", "", "no such rule"},
		{saved, "iptables -I NONE -j ACCEPT", "", "NONE"},
		{saved, "iptables -I INPUT --no-such-thing -j ACCEPT", "", "--no-such-thing"},
		{saved, "open the door", "", "expected a command"},
		{saved, "", "", "an empty change"},
		{nft, "nft insert rule inet f in ip saddr 10.20.7.31 tcp dport 443 accept", Accepts, ""},
		{nft, "insert rule inet f in ip saddr 10.20.7.0/24 accept", Accepts, ""},
		{nft, "insert rule inet f in ip saddr @bad accept", Accepts, ""},
		{nft, "insert rule inet f in tcp dport { 80, 443 } ct state new accept", Accepts, ""},
		{nft, "insert rule inet f in ip saddr 10.20.9.0/24 accept", Drops, ""},
		{nft, "add rule inet f in tcp dport 443 accept", Drops, ""},
		{nft, "delete rule inet f in handle 9", Accepts, ""},
		{nft, "delete rule inet f in handle 99", "", "99"},
		{nft, "insert rule inet none in accept", "", "none"},
		{nft, "insert rule inet f in tcp dport", "", "dport"},
	} {
		h := alone(t, c.tables, server)
		after, rules, err := h.Suppose(c.change)
		if c.fails != "" {
			if err == nil || !strings.Contains(err.Error(), c.fails) {
				t.Errorf("%q: %v, want %q", c.change, err, c.fails)
			}
			continue
		}
		if err != nil || len(rules) == 0 {
			t.Errorf("%q: %v, %d rules", c.change, err, len(rules))
			continue
		}
		if got := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: after}}).Request.Verdict; got != c.want {
			t.Errorf("%q: %s, want %s", c.change, got, c.want)
		}
		if before := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: h}}).Request.Verdict; before != Drops {
			t.Errorf("%q: the host itself changed: %s", c.change, before)
		}
	}
}

// TestOpenings says what a change opens and shuts, for whom.
func TestOpenings(t *testing.T) {
	saved := filterTable("-A INPUT -s 10.20.7.0/24 -p tcp --dport 443 -j ACCEPT\n-A INPUT -p tcp --dport 400:500 -j " +
		"DROP")
	for _, c := range []struct {
		change string
		want   []string
	}{
		{"iptables -I INPUT -s 10.20.9.4 -p tcp --dport 443 -j ACCEPT",
			[]string{"443/tcp of 10.20.0.14 to 10.20.9.4 (1 address)"}},
		{"iptables -I INPUT -s 10.20.8.0/24 -p tcp --dport 443 -j ACCEPT",
			[]string{"443/tcp of 10.20.0.14 to 10.20.8.0/24 (256 addresses)"}},
		{"iptables -I INPUT -s 10.20.7.31 -p tcp --dport 443 -j ACCEPT", nil},
		{"iptables -I INPUT -s 10.20.7.31 -p tcp --dport 443 -j DROP",
			[]string{"443/tcp of 10.20.0.14 to 10.20.7.31 (1 address)"}},
		{"iptables -I INPUT -s 10.20.9.4 -p tcp -j ACCEPT",
			[]string{"400-500/tcp of 10.20.0.14 to 10.20.9.4 (1 address)"}},
	} {
		h := alone(t, saved, server)
		after, rules, err := h.Suppose(c.change)
		if err != nil {
			t.Fatal(err)
		}
		list, whole := Differences(h, after, rules, tcp("10.20.7.31", server, 443), Hop{})
		var got []string
		for _, o := range list {
			got = append(got, o.String())
			if o.Accepted == strings.HasSuffix(c.change, "DROP") {
				t.Errorf("%q: %s is said to be accepted: %v", c.change, o, o.Accepted)
			}
		}
		if strings.Join(got, "; ") != strings.Join(c.want, "; ") || !whole {
			t.Errorf("%q: %q, whole %v; want %q", c.change, got, whole, c.want)
		}
	}
}

// TestForwarding is a packet that crosses a host.
func TestForwarding(t *testing.T) {
	held := func(list ...string) (out []Held) {
		for i, text := range list {
			out = append(out, Held{Prefix: netip.MustParsePrefix(text), Link: []string{"eth0", "eth1"}[i%2]})
		}
		return out
	}
	routes := func(list ...string) *Routing {
		r := &Routing{Rules: []RouteRule{{Priority: 32766, Table: 254, Suppress: -1}}}
		for i, text := range list {
			r.Routes = append(
				r.Routes,
				Route{Table: 254, Dst: netip.MustParsePrefix(text), Type: "unicast",
					Dev: []string{"eth0", "eth1"}[i%2]},
			)
		}
		return r
	}
	for _, c := range []struct {
		name    string
		change  func(*Host)
		rules   string
		in      string
		want    Verdict
		replies Verdict
	}{
		{"it forwards", func(*Host) {}, "", "eth0", Accepts, Accepts},
		{"it does not forward", func(h *Host) { h.Forwards = [2]Tri{No, Yes} }, "", "eth0", Drops, Drops},
		{"it does not forward what comes by one link", func(h *Host) {
			h.ForwardsFrom = map[string]bool{"eth0": false, "eth1": true}
		}, "", "eth0", Drops, Accepts},
		{"nobody read whether it does", func(h *Host) { h.Forwards = [2]Tri{Unknown, Unknown} }, "", "eth0",
			Undecidable, ""},
		{"its rules drop", func(*Host) {}, "-A FORWARD -d 10.20.0.14 -j DROP", "eth0", Drops, ""},
		{"its input rules do not concern it", func(*Host) {}, "-A INPUT -j DROP\n-A OUTPUT -j DROP", "eth0", Accepts,
			Accepts},
		{"a rule by links", func(*Host) {}, "-A FORWARD -i eth0 -o eth1 -j DROP", "eth0", Drops, ""},
		{"a rule by other links", func(*Host) {}, "-A FORWARD -i eth1 -o eth0 -m conntrack --ctstate NEW -j DROP",
			"eth0", Accepts, Accepts},
		{"the reply is dropped", func(*Host) {}, "-A FORWARD -i eth1 -o eth0 -j DROP", "eth0", Accepts, Drops},
		{"no route", func(h *Host) { h.Routing = routes("10.20.7.0/24") }, "", "eth0", Drops, ""},
		{"a strict reverse path, by the right link", func(h *Host) {
			h.Reverse = map[string]int{"eth0": 1,
				"eth1": 1}
		}, "", "eth0", Accepts, Accepts},
		{"a strict reverse path, by another link", func(h *Host) { h.Reverse = map[string]int{"eth0": 1, "eth1": 1} },
			"", "eth1", Drops, ""},
		{"a loose reverse path, by another link", func(h *Host) { h.Reverse = map[string]int{"eth0": 2, "eth1": 2} },
			"", "eth1", Accepts, ""},
	} {
		h := alone(t, filterTable(c.rules))
		h.Alone, h.Held, h.Routing = false, held("10.20.7.1/24", "10.20.0.1/24"),
			routes("10.20.7.0/24", "10.20.0.0/24")
		h.Reverse = map[string]int{"eth0": 0, "eth1": 0}
		c.change(h)
		trip := Travel(tcp("10.20.7.31", server, 443), []Hop{{Host: h, In: c.in}})
		if trip.Request.Verdict != c.want || c.replies != "" && trip.Reply.Verdict != c.replies {
			t.Errorf("%s: %s (%s), reply %s", c.name, trip.Request.Verdict, trip.Request.Why, trip.Reply.Verdict)
		}
	}
}
