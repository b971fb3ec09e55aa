package test

import (
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestPath breaks the way between two hosts in every way that shows from the
// client alone, and sees what the kernel's own answers prove.
func TestPath(t *testing.T) {
	const four, six = "http://10.20.0.14:8080/", "http://[fd20::14]:8080/"
	drop := "table inet f { chain c { type filter hook %s priority 0; tcp dport 8080 drop; }\n}"
	reject := func(hook, with string) string {
		return "table inet f { chain c { type filter hook " + hook + " priority 0; tcp dport 8080 reject " + with +
			"; }\n}"
	}
	for _, c := range []struct {
		name string
		ruin func(*lab)
		want []string // blocking causes
		most string   // of the possible ones, the first
	}{
		{"nothing is wrong", func(*lab) {}, nil, ""},
		{"the server drops", func(l *lab) { l.filter(l.server, strings.ReplaceAll(drop, "%s", "input")) }, nil,
			"rules/server-drop"},
		{"the router drops", func(l *lab) { l.filter(l.router, strings.ReplaceAll(drop, "%s", "forward")) }, nil,
			"rules/server-drop"},
		{"the client drops", func(l *lab) { l.filter(l.client, strings.ReplaceAll(drop, "%s", "output")) },
			[]string{"rules/client-drop proven"}, ""},
		{"the server refuses by ICMP", func(l *lab) {
			l.filter(l.server,
				reject("input", "with icmpx admin-prohibited"))
		}, []string{"rules/server-reject likely"}, ""},
		{"the server refuses by reset", func(l *lab) { l.filter(l.server, reject("input", "with tcp reset")) }, nil,
			"ports/none-listening"},
		{"the router refuses by ICMP", func(l *lab) { l.filter(l.router, reject("forward", "")) },
			[]string{"rules/transit-reject proven"}, ""},
		{"the router refuses by reset", func(l *lab) { l.filter(l.router, reject("forward", "with tcp reset")) }, nil,
			"rules/transit-reject"},
		{"the client refuses by ICMP", func(l *lab) { l.filter(l.client, reject("output", "")) },
			[]string{"rules/client-reject proven"}, ""},
		{"the client has no route", func(l *lab) {
			l.sh("ip -n " + l.client + " route del default")
			l.sh("ip -n " + l.client + " -6 route del default")
		}, []string{"rules/no-route proven"}, ""},
		{"a route that leads nowhere", func(l *lab) {
			l.sh("ip -n " + l.client + " route add unreachable 10.20.0.0/24")
			l.sh("ip -n " + l.client + " route add unreachable fd20::/64")
		}, []string{"rules/no-route proven"}, ""},
		{"a route that is prohibited", func(l *lab) {
			l.sh("ip -n " + l.client + " route add prohibit 10.20.0.0/24")
			l.sh("ip -n " + l.client + " route add prohibit fd20::/64")
		}, []string{"rules/no-route proven"}, ""},
		{"the router prohibits", func(l *lab) {
			l.sh("ip -n " + l.router + " route add prohibit 10.20.0.14/32")
			l.sh("ip -n " + l.router + " route add prohibit fd20::14/128")
		}, []string{"rules/transit-reject proven"}, ""},
		{"the server is off", func(l *lab) { l.sh("ip -n " + l.server + " link set eth0 down") }, nil,
			"service/host-down"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t)
			l.web(l.server, "0.0.0.0:8080")
			l.web(l.server, "[fd20::14]:8080")
			c.ruin(l)
			for _, endpoint := range []string{four, six} {
				judged := traced(t, enter(l.client), "--wait", "4s", endpoint)
				expect(t, judged, c.want...)
				if c.want == nil && c.most == "" {
					expectHealthy(t, judged)
				}
				if strings.HasSuffix(c.name, "server drops") && !strings.Contains(dump(judged), "dies after hop 1, ") {
					t.Errorf("%s: not told how far it gets\n%s", endpoint, dump(judged))
				}
				if c.most != "" &&
					(len(judged.Causes) == 0 || judged.Causes[0].ID != c.most ||
						judged.Outcome != trail.OutcomeUnsure) {
					t.Errorf("%s: want %s as the first of what is possible\n%s", endpoint, c.most, dump(judged))
				}
			}
		})
	}
}

// TestNeighbourOff sees a machine that is off while its neighbours answer.
func TestNeighbourOff(t *testing.T) {
	l := newLab(t)
	runIn(t, enter(l.client), "trace", "tcp://10.20.7.1:9") // the router answers
	expect(t, traced(t, enter(l.client), "http://10.20.7.77/"), "service/host-down likely")
}

// TestNoWayBack carries the record of a server that cannot answer.
func TestNoWayBack(t *testing.T) {
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	l.sh("ip -n " + l.server + " route add blackhole 10.20.7.0/24")
	r := runIn(t, enter(l.server), "record", "--for", "http://10.20.0.14:8080/", "--client", "10.20.7.31", "-o", "-")
	if r.status != 0 {
		t.Fatalf("%+v", r)
	}
	record := write(t, filepath.Join(t.TempDir(), "tidebook.json"), r.stdout)
	judged := traced(t, enter(l.client), "--wait", "2s", "--record", record, "http://10.20.0.14:8080/")
	expect(t, judged, "rules/no-return-route likely")
	if len(judged.Causes) > 0 && !strings.Contains(judged.Causes[0].Summary, "blackhole 10.20.7.0/24") {
		t.Errorf("summary %q", judged.Causes[0].Summary)
	}
}

// TestReplyIntoOwnLink has a bridge of the server's take the client's net for
// its own, as bridges for containers do.
func TestReplyIntoOwnLink(t *testing.T) {
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	for _, words := range []string{"link add br7 type bridge", "addr add 10.20.7.250/24 dev br7",
		"link add d7 type veth peer name d8", "link set d8 up", "link set d7 master br7", "link set d7 up",
		"link set br7 up"} {
		l.sh("ip -n " + l.server + " " + words)
	}
	record := write(
		t,
		filepath.Join(t.TempDir(), "tidebook.json"),
		runIn(t, enter(l.server), "record", "--for", "http://10.20.0.14:8080/", "-o", "-").stdout,
	)
	judged := traced(t, enter(l.client), "--wait", "2s", "--record", record, "http://10.20.0.14:8080/")
	expect(t, judged, "rules/no-return-route likely")
	if len(judged.Causes) > 0 && !strings.Contains(judged.Causes[0].Summary, "into its own link br7") {
		t.Errorf("summary %q", judged.Causes[0].Summary)
	}
}
