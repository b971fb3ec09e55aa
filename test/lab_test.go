package test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"
)

// lab is three hosts of network namespaces: gauge-07, a client at 10.20.7.31;
// heron, a router; tidebook, a server at 10.20.0.14.
type lab struct {
	t                      *testing.T
	client, router, server string // the namespaces' names
}

var labs atomic.Int32 // made so far

func newLab(t *testing.T) *lab {
	t.Helper()
	if os.Getuid() != 0 {
		missing(t, "needs root, to make network namespaces")
	}
	for _, p := range []string{"ip", "nft"} {
		if _, err := exec.LookPath(p); err != nil {
			missing(t, "needs "+p+": apt-get install iproute2 nftables")
		}
	}
	n := labs.Add(1)
	name := func(host string) string { return fmt.Sprintf("u%d-%d-%s", os.Getpid(), n, host) }
	l := &lab{t, name("gauge"), name("heron"), name("tidebook")}
	for _, ns := range []string{l.client, l.router, l.server} {
		l.sh("ip netns add " + ns)
		t.Cleanup(func() { exec.Command("ip", "netns", "del", ns).Run() })
		l.sh("ip -n " + ns + " link set lo up")
	}
	l.link(l.client, "10.20.7.31/24 fd20:7::31/64", l.router, "c", "10.20.7.1/24 fd20:7::1/64")
	l.link(l.server, "10.20.0.14/24 fd20::14/64", l.router, "s", "10.20.0.1/24 fd20::1/64")
	l.sh("ip -n " + l.client + " route add default via 10.20.7.1")
	l.sh("ip -n " + l.client + " route add default via fd20:7::1")
	l.sh("ip -n " + l.server + " route add default via 10.20.0.1")
	l.sh("ip -n " + l.server + " route add default via fd20::1")
	l.in(l.router, "sysctl -qw net.ipv4.ip_forward=1 net.ipv6.conf.all.forwarding=1 net.ipv4.icmp_ratelimit=0")
	return l
}

// link joins a host to the router.
func (l *lab) link(host, addrs, router, name, routerAddrs string) {
	l.sh(fmt.Sprintf("ip link add eth0 netns %s type veth peer name %s netns %s", host, name, router))
	for _, a := range strings.Fields(addrs) {
		l.sh(fmt.Sprintf("ip -n %s addr add %s dev eth0 nodad", host, a))
	}
	for _, a := range strings.Fields(routerAddrs) {
		l.sh(fmt.Sprintf("ip -n %s addr add %s dev %s nodad", router, a, name))
	}
	l.sh("ip -n " + host + " link set eth0 up")
	l.sh("ip -n " + router + " link set " + name + " up")
}

// sh runs a command line of plain words.
func (l *lab) sh(line string) {
	l.t.Helper()
	words := strings.Fields(line)
	if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
		l.t.Fatalf("%s: %v: %s", line, err, out)
	}
}

// in runs a command line within a host.
func (l *lab) in(ns, line string) {
	l.t.Helper()
	tool, _, _ := strings.Cut(line, " ")
	if _, err := exec.LookPath(tool); err != nil {
		missing(l.t, "needs "+tool+": apt-get install "+packageOf(tool))
	}
	l.sh("ip netns exec " + ns + " " + line)
}

// packageOf is Debian's package of a tool.
func packageOf(tool string) string {
	switch {
	case strings.Contains(tool, "tables"):
		return "iptables"
	case tool == "sysctl":
		return "procps"
	case tool == "tc" || tool == "ip":
		return "iproute2"
	}
	return tool
}

// filter loads nftables rules on a host.
func (l *lab) filter(ns, rules string) {
	l.t.Helper()
	cmd := exec.Command("ip", "netns", "exec", ns, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(rules)
	if out, err := cmd.CombinedOutput(); err != nil {
		l.t.Fatalf("nft: %v: %s", err, out)
	}
}

// enter is the words that run a program within a host.
func enter(ns string) []string { return []string{"ip", "netns", "exec", ns} }

// web serves a small page on a host, over plain HTTP.
func (l *lab) web(ns, addr string) {
	l.t.Helper()
	start(l.t, addr, enter(ns), os.Args[0], "-test.run=TestHelperWeb$", "-test.timeout=0", "WEB="+addr)
}

// start runs a server in the background until the test ends, and waits until
// its address takes connections, seen from the host that it runs on.
func start(t *testing.T, addr string, before []string, words ...string) {
	t.Helper()
	var env []string
	var args []string
	for _, w := range append(append([]string{}, before...), words...) {
		if strings.HasPrefix(w, "WEB=") {
			env = append(env, w)
			continue
		}
		args = append(args, w)
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = append(os.Environ(), env...)
	log := &strings.Builder{}
	cmd.Stdout, cmd.Stderr = log, log
	cmd.WaitDelay = time.Second // its children may outlive it for a moment
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	ended := make(chan struct{})
	go func() { cmd.Wait(); close(ended) }()
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			cmd.Process.Kill()
			<-ended
		}
	})
	for range 200 {
		if runIn(t, before, "trace", "--wait", "200ms", "tcp://"+addr).status == 0 {
			return
		}
		select {
		case <-ended:
			t.Fatalf("%v ended: %s", args, log)
		case <-time.After(50 * time.Millisecond):
		}
	}
	t.Fatalf("%v does not listen on %s: %s", args, addr, log)
}

// TestHelperWeb is the process of a small web server; it is no test.
func TestHelperWeb(t *testing.T) {
	serve(t, "HTTP/1.1 200 OK\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok")
}

// TestHelperMute is the process of a server that closes every connection
// without a word; it is no test.
func TestHelperMute(t *testing.T) { serve(t, "") }

// serve says one thing to everybody, where the environment names an address.
func serve(t *testing.T, says string) {
	addr := os.Getenv("WEB")
	if addr == "" {
		t.Skip("only a helper")
	}
	listener, err := net.Listen("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	for {
		c, err := listener.Accept()
		if err != nil {
			return
		}
		c.Read(make([]byte, 4096))
		fmt.Fprint(c, says)
		c.Close()
	}
}
