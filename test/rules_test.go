package test

import (
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestRules breaks filters, routes and translations on every host of the lab,
// looks from both ends by records, and sees what is proven of them.
func TestRules(t *testing.T) {
	chain := func(hook, rules string) string {
		return "table inet f { chain c { type filter hook " + hook + " priority 0; policy accept;\n" + rules + "\n}\n}"
	}
	for _, c := range []struct {
		name    string
		gateway bool // the router's record is given too
		ruin    func(*lab)
		want    []string
		says    string
	}{
		{"nothing is wrong", true, func(*lab) {}, nil, ""},
		{"the server drops", true, func(l *lab) { l.filter(l.server, chain("input", "tcp dport 8080 drop")) },
			[]string{"rules/server-drop proven"}, "handle 2 (tcp dport 8080 drop)"},
		{"the server drops everybody", false, func(l *lab) {
			l.filter(l.server,
				chain("input", "tcp dport 8080 drop"))
		}, []string{"rules/server-drop proven"}, ""},
		{"the server drops this client", true, func(l *lab) {
			l.filter(l.server,
				chain("input", "ip saddr 10.20.7.31 drop"))
		}, []string{"rules/server-drop proven"}, ""},
		{"the server drops this client, behind an unread router", false, func(l *lab) {
			l.filter(l.server,
				chain("input", "ip saddr 10.20.7.31 drop"))
		}, []string{"rules/server-drop likely"}, ""},
		{"the server's policy", true, func(l *lab) {
			l.filter(l.server, strings.Replace(chain("input",
				"tcp dport 22 accept\nicmpv6 type nd-neighbor-solicit accept"), "policy accept", "policy drop", 1))
		}, []string{"rules/server-drop proven"}, "its policy (drop)"},
		{"two filters in a row", true, func(l *lab) {
			l.filter(l.client, chain("output", "tcp dport 8080 drop"))
			l.filter(l.router, chain("forward", "tcp dport 8080 drop"))
			l.filter(l.server, chain("input", "tcp dport 8080 drop"))
		}, []string{"rules/client-drop proven", "rules/gateway-drop proven", "rules/server-drop proven"}, ""},
		{"the server refuses by reset", true, func(l *lab) {
			l.filter(l.server,
				chain("input", "tcp dport 8080 reject with tcp reset"))
		}, []string{"rules/server-reject proven"}, "reject with tcp reset"},
		{"the server refuses by ICMP", true, func(l *lab) {
			l.filter(l.server,
				chain("input", "tcp dport 8080 reject"))
		}, []string{"rules/server-reject proven"}, ""},
		{"the client refuses", true, func(l *lab) {
			l.filter(l.client,
				chain("output", "tcp dport 8080 reject with tcp reset"))
		}, []string{"rules/client-reject proven"}, ""},
		{"the reply is dropped", true, func(l *lab) { l.filter(l.server, chain("output", "tcp sport 8080 drop")) },
			[]string{"rules/return-drop proven"}, "drops the reply"},
		{"the client drops the reply", true, func(l *lab) {
			l.filter(l.client,
				chain("input", "tcp sport 8080 drop"))
		}, []string{"rules/return-drop proven"}, ""},
		{"the router drops the reply", true, func(l *lab) {
			l.filter(l.router,
				chain("forward", "tcp sport 8080 drop"))
		}, []string{"rules/return-drop proven"}, ""},
		{"the router drops", true, func(l *lab) { l.filter(l.router, chain("forward", "tcp dport 8080 drop")) },
			[]string{"rules/gateway-drop proven"}, ""},
		{"the router refuses", true, func(l *lab) { l.filter(l.router, chain("forward", "tcp dport 8080 reject")) },
			[]string{"rules/gateway-reject proven"}, ""},
		{"the router refuses by reset", true, func(l *lab) {
			l.filter(l.router,
				chain("forward", "tcp dport 8080 reject with tcp reset"))
		}, []string{"rules/gateway-reject proven"}, ""},
		{"an unread router drops", false, func(l *lab) { l.filter(l.router, chain("forward", "tcp dport 8080 drop")) },
			[]string{"rules/transit-silent likely"}, "dies after hop 1"},
		{"the router does not forward", true, func(l *lab) { l.in(l.router, "sysctl -qw net.ipv4.ip_forward=0") },
			[]string{"rules/forwarding-off proven"}, ""},
		{"a reverse path that is too strict", true, func(l *lab) {
			l.in(l.server, "sysctl -qw net.ipv4.conf.eth0.rp_filter=1")
			l.sh("ip -n " + l.server + " link add d0 type veth peer name d1")
			l.sh("ip -n " + l.server + " link set d0 up")
			l.sh("ip -n " + l.server + " link set d1 up")
			l.sh("ip -n " + l.server + " route add 10.20.7.0/24 dev d0")
		}, []string{"rules/reverse-path likely"}, "it came by eth0"},
		{"a translation to nowhere", true, func(l *lab) {
			l.filter(l.server, "table ip n { chain c { type nat hook prerouting priority -100;\ntcp dport 8080 "+
				"redirect to :9999\n}\n}")
		}, []string{"rules/redirected proven"}, "to 10.20.0.14:9999, where nothing listens"},
		{"iptables over nftables", true, func(l *lab) {
			l.in(l.server, "iptables-nft -A INPUT -s 10.20.7.0/24 -p tcp --dport 8080 -j DROP")
		}, []string{"rules/server-drop proven"}, "rule 1 (-A INPUT -p tcp -s 10.20.7.0/24 --dport 8080 -j DROP)"},
		{"older iptables", true, func(l *lab) {
			l.in(l.server, "iptables-legacy -A INPUT -p tcp --dport 8080 -j REJECT")
		}, []string{"rules/server-reject proven"}, "rule 1 (-A INPUT -p tcp -m tcp --dport 8080 -j REJECT"},
		{"an established rule that is missing", true, func(l *lab) {
			l.filter(l.server, strings.Replace(chain("input", "ct state new tcp dport 8080 accept"), "policy accept",
				"policy drop", 1))
		}, []string{"rules/server-drop proven"}, "only what follows the first packet"},
		{"another source than the client's own", true, func(l *lab) {
			l.filter(l.router, "table ip n { chain c { type nat hook postrouting priority 100;\nmasquerade\n}\n}")
			l.filter(l.server, strings.Replace(chain("input",
				"ip saddr 10.20.7.31 accept\nicmpv6 type nd-neighbor-solicit accept"), "policy accept", "policy drop",
				1))
		}, []string{"rules/other-source proven"}, "10.20.0.1"},
		{"a set of addresses", true, func(l *lab) {
			l.filter(l.server, "table inet f { set bad { type ipv4_addr; flags interval; elements = { 10.9.0.0/16, "+
				"10.20.7.0/27 } }\nchain c { type filter hook input priority 0;\nip saddr @bad drop\n}\n}")
		}, []string{"rules/server-drop proven"}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t)
			l.web(l.server, "10.20.0.14:8080")
			c.ruin(l)
			const endpoint = "http://10.20.0.14:8080/"
			dir := t.TempDir()
			record := func(ns, name string) string {
				r := runIn(t, enter(ns), "record", "--deadline", "9s", "--for", endpoint, "--client", "10.20.7.31",
					"-o", "-")
				if r.status != 0 && r.status != 3 { // its deadline may come first
					t.Fatalf("%+v", r)
				}
				return write(t, filepath.Join(dir, name), strings.ReplaceAll(r.stdout, `"host": "`,
					`"host": "`+name+"-"))
			}
			args := []string{"--wait", "3s", "--deadline", "12s", "--record", record(l.server, "tidebook")}
			if c.gateway {
				args = append(args, "--record", "gateway="+record(l.router, "heron"))
			}
			judged := traced(t, enter(l.client), append(args, endpoint)...)
			expectButAge(t, judged, c.want...)
			if c.says != "" && !strings.Contains(dump(judged), c.says) {
				t.Errorf("it does not say %q\n%s", c.says, dump(judged))
			}
			if c.want == nil && judged.Outcome != trail.OutcomeClear {
				t.Errorf("outcome %s\n%s", judged.Outcome, dump(judged))
			}
		})
	}
}

// expectButAge compares blocking causes. What a record keeps from being
// proven by its age alone counts as proven: no clock was compared.
func expectButAge(t *testing.T, judged trail.Trail, want ...string) {
	t.Helper()
	for i, c := range judged.Causes {
		aged := len(c.Short) > 0
		for _, short := range c.Short {
			aged = aged && strings.HasPrefix(short, "the record of ")
		}
		if aged {
			judged.Causes[i].Certainty = trail.Proven
		}
	}
	expect(t, judged, want...)
}
