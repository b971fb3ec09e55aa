package test

import (
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"uakari/internal/trail"
)

// TestDatagrams breaks a service that is asked over UDP, a real name server,
// and looks from both ends.
func TestDatagrams(t *testing.T) {
	input := func(rules string) string {
		return "table inet f { chain c { type filter hook input priority 0; policy accept;\n" + rules + "\n}\n}"
	}
	dnsmasq := needs(t, "dnsmasq-base", "/usr/sbin/dnsmasq")[0]
	serve := func(l *lab, addr string) *exec.Cmd {
		return l.background(
			l.server,
			dnsmasq,
			"-d",
			"-C",
			"/dev/null",
			"--listen-address="+addr,
			"--bind-interfaces",
			"--no-resolv",
			"--no-hosts",
			"--address=/tidebook.varzea.example/10.20.0.14",
			"--user=root",
			"--pid-file=",
		)
	}
	for _, c := range []struct {
		name string
		ruin func(*lab)
		want []string
		says string
	}{
		{"nothing is wrong", func(l *lab) { serve(l, "10.20.0.14") }, nil, "held by dnsmasq"},
		{"it does not run", func(*lab) {}, []string{"service/stopped proven"}, ""},
		// alone: others' labs are other namespaces
		{"on another address", func(l *lab) { serve(l, "127.0.0.1") }, []string{"ports/loopback-only proven"}, ""},
		{"the server drops", func(l *lab) { serve(l, "10.20.0.14"); l.filter(l.server, input("udp dport 53 drop")) },
			[]string{"rules/server-drop proven"}, "udp dport 53 drop"},
		{"the server refuses", func(l *lab) {
			serve(l, "10.20.0.14")
			l.filter(l.server,
				input("udp dport 53 reject"))
		},
			[]string{"rules/server-reject proven"}, ""},
		{"only TCP is let in", func(l *lab) {
			serve(l, "10.20.0.14")
			l.filter(l.server, strings.Replace(input("tcp dport 53 accept\nicmpv6 type nd-neighbor-solicit accept"),
				"policy accept", "policy drop", 1))
		}, []string{"rules/server-drop proven"}, "its policy (drop)"},
		{"the router drops", func(l *lab) {
			serve(l, "10.20.0.14")
			l.filter(l.router, strings.Replace(input("udp dport 53 drop"), "hook input", "hook forward", 1))
		}, []string{"rules/gateway-drop proven"}, ""},
		{"the client drops", func(l *lab) {
			serve(l, "10.20.0.14")
			l.filter(l.client, strings.Replace(input("udp dport 53 drop"), "hook input", "hook output", 1))
		}, []string{"rules/client-drop proven"}, ""},
		{"it is halted", func(l *lab) {
			server := serve(l, "10.20.0.14")
			time.Sleep(200 * time.Millisecond)
			server.Process.Signal(syscall.SIGSTOP)
		}, []string{"service/hung proven"}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.name != "it does not run" {
				t.Parallel()
			}
			l := newLab(t)
			c.ruin(l)
			time.Sleep(300 * time.Millisecond)
			const endpoint = "dns://10.20.0.14/tidebook.varzea.example"
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
			judged := traced(t, enter(l.client), "--wait", "2s", "--deadline", "12s",
				"--record", record(l.server, "tidebook"), "--record", "gateway="+record(l.router, "heron"),
				"--card", cardFor(t, "dnsmasq"), endpoint)
			expectButAge(t, judged, c.want...)
			if c.says != "" && !strings.Contains(dump(judged), c.says) {
				t.Errorf("it does not say %q\n%s", c.says, dump(judged))
			}
			if c.want == nil && (judged.Outcome != trail.OutcomeClear || judged.Endpoint.Transport != "udp") {
				t.Errorf("outcome %s\n%s", judged.Outcome, dump(judged))
			}
		})
	}
}

// clock runs a real time server on the server.
func (l *lab) clock() {
	l.t.Helper()
	chronyd := needs(l.t, "chrony", "/usr/sbin/chronyd")[0]
	dir := l.t.TempDir()
	conf := write(
		l.t,
		filepath.Join(dir, "chrony.conf"),
		"local stratum 8\nallow 10.20.0.0/16\nbindaddress 10.20.0.14\nbindcmdaddress /\ncmdport "+
			"0\npidfile "+dir+"/pid\nuser root\n",
	)
	l.background(l.server, chronyd, "-d", "-x", "-f", conf)
}

// TestClock asks a real time server.
func TestClock(t *testing.T) {
	l := newLab(t)
	l.clock()
	var judged trail.Trail
	for range 20 {
		if judged = traced(t, enter(l.client), "--wait", "1s", "ntp://10.20.0.14"); judged.Reached == trail.Yes {
			break
		}
		time.Sleep(200 * time.Millisecond)
	}
	expectHealthy(t, judged)
	if got := rung(judged, trail.Answer).Summary; !strings.HasPrefix(got, "ntp answers") {
		t.Errorf("it says %q", got)
	}
	l.filter(
		l.server,
		"table inet f { chain c { type filter hook input priority 0; policy accept;\nudp dport 123 drop\n}\n}",
	)
	judged = traced(t, enter(l.client), "--wait", "1s", "ntp://10.20.0.14")
	if judged.Reached != trail.No || !strings.Contains(dump(judged), "rules/server-drop possible") {
		t.Errorf("one end alone: %s", dump(judged))
	}
}
