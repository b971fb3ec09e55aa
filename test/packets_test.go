package test

import (
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/gopacket/gopacket/pcapgo"

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
		{"the server lets the client's own address in, and sees another", false, func(l *lab) {
			l.filter(l.router, "table ip n { chain c { type nat hook postrouting priority 100; oif s masquerade; }\n}")
			l.filter(l.server, chain("input", "ip saddr 10.20.7.31 tcp dport 8080 accept\ntcp dport 8080 drop"))
		}, []string{"rules/other-source proven"}, "sees 10.20.0.1, not 10.20.7.31"},
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

// TestAsymmetric sends requests through one router and answers through another, whose
// filter did not see the connection begin: each alone is well.
func TestAsymmetric(t *testing.T) {
	t.Parallel()
	l := newLab(t)
	l.web(l.server, "10.20.0.14:8080")
	other := l.server + "b"
	l.sh("ip netns add " + other)
	t.Cleanup(func() { exec.Command("ip", "netns", "del", other).Run() })
	l.sh("ip -n " + other + " link set lo up")
	for _, line := range []string{
		"ip -n " + l.server + " link add name eth9 type veth peer name s netns " + other,
		"ip -n " + l.client + " link add name eth9 type veth peer name c netns " + other,
		"ip -n " + l.server + " addr add 10.20.9.14/24 dev eth9", "ip -n " + l.server + " link set eth9 up",
		"ip -n " + other + " addr add 10.20.9.1/24 dev s", "ip -n " + other + " link set s up",
		"ip -n " + l.client + " addr add 10.20.8.31/24 dev eth9", "ip -n " + l.client + " link set eth9 up",
		"ip -n " + other + " addr add 10.20.8.1/24 dev c", "ip -n " + other + " link set c up",
		"ip -n " + other + " route add 10.20.7.0/24 via 10.20.8.31",
		"ip -n " + l.server + " route replace default via 10.20.9.1",
	} {
		l.sh(line)
	}
	l.in(other, "sysctl -qw net.ipv4.ip_forward=1 net.ipv4.conf.all.rp_filter=0 net.ipv4.conf.s.rp_filter=0 net.ipv4.conf.c.rp_filter=0")
	for _, each := range []string{l.client, l.server} {
		l.in(each, "sysctl -qw net.ipv4.conf.all.rp_filter=0 net.ipv4.conf.eth9.rp_filter=0 net.ipv4.conf.eth0.rp_filter=0")
	}
	l.filter(other, "table inet f { chain c { type filter hook forward priority 0; policy accept;\nct state invalid drop\n}\n}")
	judged := traced(
		t, enter(l.client), "--wait", "2s", "--deadline", "20s", "--in", "server=/run/netns/"+l.server,
		"--in", "gateway=/run/netns/"+l.router, "--in", "gateway=/run/netns/"+other, "http://10.20.0.14:8080/",
	)
	expect(t, judged, "rules/asymmetric-way proven")
}

// TestNeighbours drops what IPv6 finds a machine on a link by, at either end.
func TestNeighbours(t *testing.T) {
	for _, c := range []struct {
		name, at, rules string
		want            []string
	}{
		{"the server drops the question", "server", "tcp dport 8080 accept", []string{"rules/neighbour-silent proven"}},
		{"the client drops the answer", "client", "ct state established,related accept", []string{"rules/neighbour-silent proven"}},
		{"it is let through", "server", "tcp dport 8080 accept\nicmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept", nil},
		{"it is let through by the group that it is sent to", "server", "tcp dport 8080 accept\nip6 daddr ff02::/16 accept", nil},
		{"it is let through by what is not tracked", "server", "tcp dport 8080 accept\nct state untracked accept", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t)
			l.web(l.server, "[fd20::14]:8080")
			host := l.server
			if c.at == "client" {
				host = l.router // it is on one link with the server
			}
			l.filter(host, "table inet f { chain c { type filter hook input priority 0; policy drop;\niif lo accept\n"+c.rules+"\n}\n}")
			for _, each := range []string{l.router, l.server} {
				l.sh("ip -n " + each + " neigh flush all")
			}
			judged := traced(t, enter(l.router), "--deadline", "20s", "--in", "server=/run/netns/"+l.server, "http://[fd20::14]:8080/")
			expect(t, judged, c.want...)
			if c.want == nil && judged.Outcome != trail.OutcomeClear {
				t.Errorf("outcome %s\n%s", judged.Outcome, dump(judged))
			}
			if c.want != nil && !strings.Contains(judged.Blocking()[0].Remedies[0].Command, "icmpv6 type") {
				t.Errorf("no rule that lets it through is told\n%s", dump(judged))
			}
		})
	}
}

// TestPacketsKept keeps what was seen on the wire, readable by anybody's tools and by
// its owner alone, and no byte of what is said where that may be a secret.
func TestPacketsKept(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root, to watch links")
	}
	web := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nTIDE-HIGH")
	})
	dir := t.TempDir()
	file := filepath.Join(dir, "a.pcapng")
	sockets := readFile(t, "/proc/net/packet")
	if r := run(t, "trace", "http://"+web.addr+"/", "--packets", file); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	packets := packetsIn(t, file)
	if len(packets) < 6 || !strings.Contains(readFile(t, file), "TIDE-HIGH") {
		t.Errorf("%d packets", len(packets))
	}
	secret := write(t, filepath.Join(dir, "secret"), "CANARY-7f3a")
	run(t, "trace", "http://"+web.addr+"/?token=CANARY-91bc", "--packets", file, "--user", "ana", "--secret", "file:"+secret, "--in-the-clear")
	if text := readFile(t, file); strings.Contains(text, "CANARY") || strings.Contains(text, "TIDE-HIGH") || strings.Contains(text, "HTTP/1.1") {
		t.Error("what is said is in the file of a run with a secret")
	}
	if len(packetsIn(t, file)) < 6 {
		t.Error("the headers are missing")
	}
	if after := readFile(t, "/proc/net/packet"); after != sockets {
		t.Errorf("packet sockets before and after:\n%s%s", sockets, after)
	}
	for args, want := range map[string]string{
		"trace - --packets " + file:               "--packets is for one ENDPOINT",
		"trace smb://127.0.0.1/ --packets " + dir: "a folder; expected a file",
	} {
		if r := run(t, strings.Fields(args)...); r.status != 2 || !strings.Contains(r.stderr, want) {
			t.Errorf("%s: %+v", args, r)
		}
	}
}

// packetsIn reads a file of packets with a library of others.
func packetsIn(t *testing.T, file string) (list [][]byte) {
	t.Helper()
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	r, err := pcapgo.NewNgReader(f, pcapgo.NgReaderOptions{WantMixedLinkType: true})
	if err != nil {
		t.Fatal(err)
	}
	for {
		data, _, err := r.ReadPacketData()
		if errors.Is(err, io.EOF) {
			return list
		}
		if err != nil {
			t.Fatal(err)
		}
		list = append(list, data)
	}
}

// TestWatchPackets keeps the try that fails, the one before and the one after.
func TestWatchPackets(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root, to watch links")
	}
	url, broken := webThat(t)
	file := filepath.Join(t.TempDir(), "a.pcapng")
	go func() {
		time.Sleep(3500 * time.Millisecond)
		broken.Store(true)
		time.Sleep(time.Second)
		broken.Store(false)
	}()
	run(t, "watch", url, "--every", "1s", "--for", "7s", "--packets", file)
	opened := 0
	for _, p := range packetsIn(t, file) {
		if len(p) >= 40 && p[9] == 6 && p[33]&0x12 == 2 {
			opened++
		}
	}
	if opened < 3 || opened > 5 {
		t.Errorf("%d connections are kept; expected that which failed, and those beside it", opened)
	}
}
