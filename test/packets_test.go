package test

import (
	"encoding/binary"
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
	"unsafe"

	"github.com/gopacket/gopacket/pcapgo"
	"golang.org/x/sys/unix"

	"uakari/internal/trail"
)

// TestPackets stops packets at every place of a way that two ends watch, where
// no table that can be read says why, and sees that the place is named.
func TestPackets(t *testing.T) {
	chain := func(hook, rules string) string {
		return "table inet f { chain c { type filter hook " + hook + " priority 0; policy accept;\n" + rules + "\n}\n}"
	}
	// A link drops: by a rule, or by one that does not tell what it will do.
	policed := func(link, rules string) func(*lab) {
		return func(l *lab) {
			l.filter(
				l.router,
				"table netdev f { chain c { type filter hook ingress device "+link+" priority 0; policy "+
					"accept;\n"+rules+"\n}\n}",
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
		{"lost between the two", false, policed("c", "tcp dport 8080 drop"), []string{"rules/transit-silent proven"},
			"it left CLIENT by eth0 and did not come to SERVER, while both were watched"},
		{"an unread router drops", false, func(l *lab) { l.filter(l.router, chain("forward", "tcp dport 8080 drop")) },
			[]string{"rules/transit-silent proven"}, ", while both were watched"},
		{"an unread router drops the answer", false, func(l *lab) {
			l.filter(l.router,
				chain("forward", "tcp sport 8080 drop"))
		}, []string{"rules/return-drop proven"},
			"the answer left SERVER by eth0 and did not come to CLIENT, while both"},
		{"lost at the router's way in", true, policed("c", "ip ttl 64 tcp dport 8080 drop"),
			[]string{"rules/transit-silent proven"}, "it came to GATEWAY by c and did not leave it"},
		{"the answer is lost at the router", true, policed("s", "ip ttl 64 tcp sport 8080 drop"),
			[]string{"rules/return-drop proven"}, "it came to GATEWAY by s and did not leave it"},
		{"a rule of the router's link", true, policed("c", "tcp dport 8080 drop"),
			[]string{"rules/gateway-drop proven"}, "table netdev f, chain c, handle 2 (tcp dport 8080 drop)"},
		{"a rule of its other link, for the answer", true, policed("s", "tcp sport 8080 drop"),
			[]string{"rules/return-drop proven"}, "table netdev f, chain c, handle 2 (tcp sport 8080 drop)"},
		{"an unread router refuses", false, func(l *lab) {
			l.filter(l.router,
				chain("forward", "tcp dport 8080 reject with tcp reset"))
		}, []string{"rules/transit-reject proven"},
			"did not come to SERVER: the reset, with 64 hops left, is of something between"},
		{"a reset in the server's name", false, func(l *lab) {
			l.filter(l.router, "table ip f { chain c { type filter hook forward priority 0; policy accept;\ntcp "+
				"dport 8080 dup to 10.20.0.14 device s reject with tcp reset\n}\n}")
		}, []string{"rules/reset-injected proven"}, "which sent no reset"},
		{"the server's own filter drops", false, func(l *lab) {
			l.filter(l.server,
				chain("input", "tcp dport 8080 drop"))
		}, []string{"rules/server-drop proven"}, ""},
		{"the server drops before it tracks", false, func(l *lab) {
			l.filter(l.server,
				"table ip r { chain c { type filter hook prerouting priority -300; tcp dport 8080 drop; }\n}")
		}, []string{"rules/server-drop proven"}, ""},
		{"the server drops its answer", false, func(l *lab) {
			l.filter(l.server,
				chain("output", "tcp sport 8080 drop"))
		}, []string{"rules/return-drop proven"}, "drops the reply"},
		{"the client drops the answer", false, func(l *lab) {
			l.filter(l.client,
				chain("input", "tcp sport 8080 drop"))
		}, []string{"rules/return-drop proven"}, ""},
		{"the server lets the client's own address in, and sees another", false, func(l *lab) {
			l.filter(l.router, "table ip n { chain c { type nat hook postrouting priority 100; oif s masquerade; }\n}")
			l.filter(l.server, chain("input", "ip saddr 10.20.7.31 tcp dport 8080 accept\ntcp dport 8080 drop"))
		}, []string{"rules/other-source proven"}, "sees 10.20.0.1, not 10.20.7.31"},
		{"the client drops", false, func(l *lab) { l.filter(l.client, chain("output", "tcp dport 8080 drop")) },
			[]string{"rules/client-drop proven"}, ""},
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

// TestHelperUnsummed has the kernel of a host sum up what leaves it by eth0, in place of
// its card; it is no test.
func TestHelperUnsummed(t *testing.T) {
	if os.Getenv("UNSUMMED") == "" {
		t.Skip("a helper")
	}
	const setSums, request = 0x17, 0x8946 // ETHTOOL_STXCSUM, SIOCETHTOOL
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM, 0)
	if err != nil {
		t.Fatal(err)
	}
	value := struct{ command, data uint32 }{setSums, 0}
	var ask struct {
		name [unix.IFNAMSIZ]byte
		at   unsafe.Pointer
		rest [16]byte
	}
	copy(ask.name[:], "eth0")
	ask.at = unsafe.Pointer(&value)
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, uintptr(fd), request, uintptr(unsafe.Pointer(&ask))); errno != 0 {
		t.Fatal(errno)
	}
}

// TestBrokenChecksum has a router change what it does not sum up anew.
func TestBrokenChecksum(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, match, says string }{
		{"the opening", "tcp dport 8080", "the opening came to SERVER by eth0 with a wrong checksum"},
		{"the answer", "tcp sport 8080", "the answer came to CLIENT by eth0 with a wrong checksum"},
	} {
		l := newLab(t)
		l.web(l.server, "10.20.0.14:8080")
		for _, each := range []string{l.client, l.server} {
			cmd := exec.Command("ip", "netns", "exec", each, os.Args[0], "-test.run=TestHelperUnsummed$")
			cmd.Env = append(os.Environ(), "UNSUMMED=1")
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("%v: %s", err, out)
			}
		}
		args := []string{"--wait", "2s", "--deadline", "20s", "--in", "server=/run/netns/" + l.server,
			"http://10.20.0.14:8080/"}
		expectHealthy(t, traced(t, enter(l.client), args...))
		l.filter(l.router,
			"table ip f { chain c { type filter hook forward priority 0; "+c.match+" tcp checksum set 0x1234; }\n}")
		judged := traced(t, enter(l.client), args...)
		expect(t, judged, "rules/checksum-broken proven")
		says := strings.NewReplacer("CLIENT", judged.Host("v1"), "SERVER", "/run/netns/"+l.server).Replace(c.says)
		if !strings.Contains(dump(judged), says) {
			t.Errorf("%s: it does not say %q\n%s", c.name, says, dump(judged))
		}
	}
}

// TestNarrowWayWatched sees where large packets end, of a link that takes smaller ones. It runs
// alone: what is watched at both ends at once must not be late at one of them.
func TestNarrowWayWatched(t *testing.T) {
	for _, gateway := range []bool{false, true} {
		l := newLab(t)
		start(t, "10.20.0.14:8080", enter(l.server), os.Args[0], "-test.run=TestHelperLarge$", "-test.timeout=0",
			"WEB=10.20.0.14:8080")
		l.sh("ip -n " + l.router + " link set c mtu 1300")
		l.filter(l.router, "table inet f { chain c { type filter hook output priority 0; icmp type "+
			"destination-unreachable drop; }\n}")
		args := []string{"--deadline", "40s", "--in", "server=/run/netns/" + l.server}
		says := "bytes left SERVER by eth0 and did not come to CLIENT, while both were watched; nobody's word that " +
			"it is too large was seen"
		if gateway {
			args = append(args, "--in", "gateway=/run/netns/"+l.router)
			says = "bytes left SERVER by eth0 and did not come to CLIENT; it came to GATEWAY by s and did not leave it"
		}
		judged := traced(t, enter(l.client), append(args, "http://10.20.0.14:8080/")...)
		expect(t, judged, "rules/large-packets-lost proven")
		says = strings.NewReplacer(
			"CLIENT", judged.Host("v1"), "SERVER", "/run/netns/"+l.server, "GATEWAY", "/run/netns/"+l.router,
		).Replace(says)
		if !strings.Contains(dump(judged), says) {
			t.Errorf("it does not say %q\n%s", says, dump(judged))
		}
	}
}

// TestSynProxy has a router answer openings in the server's name, as boxes against
// floods do, and the server, or the way to it, does not take what the box then opens.
func TestSynProxy(t *testing.T) {
	const proxy = "table ip f { chain p { type filter hook prerouting priority -300; tcp dport 8080 tcp flags syn " +
		"notrack; }\n" +
		"chain c { type filter hook forward priority 0; " +
		"ct state untracked,invalid tcp dport 8080 synproxy mss 1460 wscale 7 timestamp sack-perm; ct state invalid " +
		"drop; }\n%s}"
	for _, c := range []struct {
		name   string
		behind string // what the box does behind its proxy
		ruin   func(*lab)
		want   []string
	}{
		{"nothing is wrong", "", func(*lab) {}, nil},
		{"the server drops", "", func(l *lab) {
			l.filter(l.server, "table inet f { chain c { type filter hook input priority 0; tcp dport 8080 drop; }\n}")
		}, []string{"rules/server-drop proven"}},
		{"the box drops behind", "chain d { type filter hook postrouting priority 100; oif s tcp dport 8080 drop; }\n",
			func(*lab) {}, []string{"rules/transit-silent proven"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t)
			l.web(l.server, "10.20.0.14:8080")
			l.in(l.router, "sysctl -qw net.ipv4.tcp_syncookies=1 net.ipv4.tcp_timestamps=1 "+
				"net.netfilter.nf_conntrack_tcp_loose=0")
			l.filter(l.router, fmt.Sprintf(proxy, c.behind))
			c.ruin(l)
			judged := traced(
				t, enter(l.client), "--wait", "2s", "--deadline", "20s", "--in", "server=/run/netns/"+l.server,
				"http://10.20.0.14:8080/",
			)
			expect(t, judged, c.want...)
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
	l.in(other, "sysctl -qw net.ipv4.ip_forward=1 net.ipv4.conf.all.rp_filter=0 net.ipv4.conf.s.rp_filter=0 "+
		"net.ipv4.conf.c.rp_filter=0")
	for _, each := range []string{l.client, l.server} {
		l.in(each, "sysctl -qw net.ipv4.conf.all.rp_filter=0 net.ipv4.conf.eth9.rp_filter=0 "+
			"net.ipv4.conf.eth0.rp_filter=0")
	}
	l.filter(other,
		"table inet f { chain c { type filter hook forward priority 0; policy accept;\nct state invalid drop\n}\n}")
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
		{"the server drops the question", "server", "tcp dport 8080 accept",
			[]string{"rules/neighbour-silent proven"}},
		{"the client drops the answer", "client", "ct state established,related accept",
			[]string{"rules/neighbour-silent proven"}},
		{"it is let through", "server",
			"tcp dport 8080 accept\nicmpv6 type { nd-neighbor-solicit, nd-neighbor-advert } accept", nil},
		{"it is let through by the group that it is sent to", "server",
			"tcp dport 8080 accept\nip6 daddr ff02::/16 accept", nil},
		{"it is let through by what is not tracked", "server", "tcp dport 8080 accept\nct state untracked accept",
			nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			l := newLab(t)
			l.web(l.server, "[fd20::14]:8080")
			host := l.server
			if c.at == "client" {
				host = l.router // it is on one link with the server
			}
			l.filter(host, "table inet f { chain c { type filter hook input priority 0; policy drop;\niif lo "+
				"accept\n"+c.rules+"\n}\n}")
			for _, each := range []string{l.router, l.server} {
				l.sh("ip -n " + each + " neigh flush all")
			}
			judged := traced(t, enter(l.router), "--deadline", "20s", "--in", "server=/run/netns/"+l.server,
				"http://[fd20::14]:8080/")
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
	// Another program speaks with the same port all the while: of it headers are kept alone.
	done := make(chan struct{})
	defer close(done)
	go func() {
		for {
			select {
			case <-done:
				return
			case <-time.After(30 * time.Millisecond):
			}
			if c, err := net.Dial("tcp", web.addr); err == nil {
				fmt.Fprint(c, "GET / HTTP/1.1\r\nCookie: EBB-OF-ANOTHER\r\n\r\n")
				io.Copy(io.Discard, c)
				c.Close()
			}
		}
	}()
	if r := run(t, "trace", "http://"+web.addr+"/", "--packets", file); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, %v", info, err)
	}
	packets := packetsIn(t, file)
	if strings.Contains(readFile(t, file), "OF-ANOTHER") {
		t.Error("what another program says is in the file")
	}
	if len(packets) < 6 || !strings.Contains(readFile(t, file), "TIDE-HIGH") {
		t.Errorf("%d packets", len(packets))
	}
	secret := write(t, filepath.Join(dir, "secret"), "CANARY-7f3a")
	run(t, "trace", "http://"+web.addr+"/?token=CANARY-91bc", "--packets", file, "--user", "ana", "--secret",
		"file:"+secret, "--in-the-clear")
	if text := readFile(t, file); strings.Contains(text, "CANARY") || strings.Contains(text, "TIDE-HIGH") ||
		strings.Contains(text, "HTTP/1.1") {
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

// TestSweepPackets keeps the headers of what fails in a sweep, and of nothing else.
func TestSweepPackets(t *testing.T) {
	if os.Getuid() != 0 {
		missing(t, "needs root, to watch links")
	}
	web := listen(t, "127.0.0.1:0", nil, func(c net.Conn, _ int32) {
		c.Read(make([]byte, 1024))
		fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 9\r\n\r\nTIDE-HIGH")
	})
	dir := t.TempDir()
	port := freePort(t)
	plan := write(t, filepath.Join(dir, "plan.yaml"), fmt.Sprintf(
		"format: uakari.plan/1\nclients: [{here: true}]\nendpoints: [\"http://%s/\", "+
			"\"http://127.0.0.1:%v/?token=CANARY-91bc\"]\n", web.addr, port))
	file := filepath.Join(dir, "a.pcapng")
	if r := run(t, "sweep", plan, "--packets", file); r.status != 1 {
		t.Fatalf("%+v", r)
	}
	refused := 0
	for _, p := range packetsIn(t, file) {
		if len(p) < 40 || p[9] != 6 {
			continue
		}
		from, to := fmt.Sprint(binary.BigEndian.Uint16(p[20:])), fmt.Sprint(binary.BigEndian.Uint16(p[22:]))
		if from != fmt.Sprint(port) && to != fmt.Sprint(port) {
			t.Errorf("a packet from port %s to %s", from, to)
		}
		refused++
	}
	if refused < 2 || strings.Contains(readFile(t, file), "CANARY") {
		t.Errorf("%d packets of the endpoint that refuses", refused)
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
