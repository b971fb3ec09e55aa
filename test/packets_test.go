package test

import (
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestPackets stops packets at every place of a way that two ends watch, where
// no table that can be read says why, and sees that the place is named.
func TestPackets(t *testing.T) {
	chain := func(hook, rules string) string {
		return "table inet f { chain c { type filter hook " + hook + " priority 0; policy accept;\n" + rules + "\n}\n}"
	}
	// A link drops what no table of the hosts shows.
	policed := func(link, rules string) func(*lab) {
		return func(l *lab) {
			l.filter(
				l.router,
				"table netdev f { chain c { type filter hook ingress device "+link+" priority 0; policy accept;\n"+rules+"\n}\n}",
			)
		}
	}
	for _, c := range []struct {
		name    string
		gateway bool // the router is watched too
		ruin    func(*lab)
		want    []string
		says    string
	}{
		{"nothing is wrong", true, func(*lab) {}, nil, ""},
		{"lost between the two", false, policed("c", "tcp dport 8080 drop"), []string{"rules/transit-silent proven"}, "it left CLIENT by eth0 and did not come to SERVER, while both were watched"},
		{"an unread router drops", false, func(l *lab) { l.filter(l.router, chain("forward", "tcp dport 8080 drop")) }, []string{"rules/transit-silent proven"}, ", while both were watched"},
		{"an unread router drops the answer", false, func(l *lab) { l.filter(l.router, chain("forward", "tcp sport 8080 drop")) }, []string{"rules/return-drop proven"}, "the answer left SERVER by eth0 and did not come to CLIENT, while both"},
		{"lost at the router's way in", true, policed("c", "tcp dport 8080 drop"), []string{"rules/transit-silent proven"}, "it came to GATEWAY by c and did not leave it"},
		{"the answer is lost at the router", true, policed("s", "tcp sport 8080 drop"), []string{"rules/return-drop proven"}, "it came to GATEWAY by s and did not leave it"},
		{"an unread router refuses", false, func(l *lab) { l.filter(l.router, chain("forward", "tcp dport 8080 reject with tcp reset")) }, []string{"rules/transit-reject proven"}, "did not come to SERVER: the reset, with 64 hops left, is of something between"},
		{"a reset in the server's name", false, func(l *lab) {
			l.filter(l.router, "table ip f { chain c { type filter hook forward priority 0; policy accept;\ntcp dport 8080 dup to 10.20.0.14 device s reject with tcp reset\n}\n}")
		}, []string{"rules/reset-injected proven"}, "which sent no reset"},
		{"the server's own filter drops", false, func(l *lab) { l.filter(l.server, chain("input", "tcp dport 8080 drop")) }, []string{"rules/server-drop proven"}, ""},
		{"the server drops before it tracks", false, func(l *lab) {
			l.filter(l.server, "table ip r { chain c { type filter hook prerouting priority -300; tcp dport 8080 drop; }\n}")
		}, []string{"rules/server-drop proven"}, ""},
		{"the server drops its answer", false, func(l *lab) { l.filter(l.server, chain("output", "tcp sport 8080 drop")) }, []string{"rules/return-drop proven"}, "drops the reply"},
		{"the client drops the answer", false, func(l *lab) { l.filter(l.client, chain("input", "tcp sport 8080 drop")) }, []string{"rules/return-drop proven"}, ""},
		{"the client drops", false, func(l *lab) { l.filter(l.client, chain("output", "tcp dport 8080 drop")) }, []string{"rules/client-drop proven"}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t)
			l.web(l.server, "10.20.0.14:8080")
			c.ruin(l)
			args := []string{"--wait", "2s", "--deadline", "20s", "--in", "server=/run/netns/" + l.server}
			if c.gateway {
				args = append(args, "--in", "gateway=/run/netns/"+l.router)
			}
			judged := traced(t, enter(l.client), append(args, "http://10.20.0.14:8080/")...)
			expect(t, judged, c.want...)
			names := strings.NewReplacer(
				"CLIENT",
				judged.Host("v1"),
				"SERVER",
				"/run/netns/"+l.server,
				"GATEWAY",
				"/run/netns/"+l.router,
			)
			if says := names.Replace(c.says); !strings.Contains(dump(judged), says) {
				t.Errorf("it does not say %q\n%s", says, dump(judged))
			}
			if c.want == nil && judged.Outcome != trail.OutcomeClear {
				t.Errorf("outcome %s\n%s", judged.Outcome, dump(judged))
			}
		})
	}
}
