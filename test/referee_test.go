package test

import (
	"context"
	"encoding/binary"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"net"
	"net/netip"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/look"
	"uakari/internal/look/host"
)

var (
	refereePairs = flag.Int("referee", 20000, "how many pairs of a rule set and a packet the kernel judges")
	refereeSeed  = flag.Uint64("referee-seed", 1, "where their random numbers begin")
)

// arena is a lab in which the kernel judges: real tables, real connections.
type arena struct {
	*lab
	t      *testing.T
	hosts  map[string]string // part to namespace
	next   uint16            // the next source port
	ipsets bool              // there is the tool that makes sets
}

var parts = []string{"client", "router", "server"}

func newArena(t *testing.T) *arena {
	l := newLab(t)
	_, noIPSets := exec.LookPath("ipset")
	a := &arena{
		lab:    l,
		t:      t,
		ipsets: noIPSets == nil,
		hosts:  map[string]string{"client": l.client, "router": l.router, "server": l.server},
		next:   20000,
	}
	for _, addr := range clientAddrs4[1:] {
		l.sh("ip -n " + l.client + " addr add " + addr + "/24 dev eth0")
	}
	l.sh("ip -n " + l.client + " addr add fd20:7::32/64 dev eth0 nodad")
	l.sh("ip -n " + l.server + " addr add 10.20.0.15/24 dev eth0")
	l.sh("ip -n " + l.server + " addr add fd20::15/64 dev eth0 nodad")
	mac := func(ns, dev string) string {
		out, err := exec.Command("ip", "netns", "exec", ns, "cat", "/sys/class/net/"+dev+"/address").Output()
		if err != nil {
			t.Fatal(err)
		}
		return strings.TrimSpace(string(out))
	}
	// Neighbours are fixed, since rules would stop their discovery.
	fixed := func(ns, dev, mac string, addrs ...string) {
		for _, addr := range addrs {
			l.sh(fmt.Sprintf("ip -n %s neigh replace %s lladdr %s dev %s nud permanent", ns, addr, mac, dev))
		}
	}
	fixed(l.client, "eth0", mac(l.router, "c"), "fd20:7::1", "10.20.7.1")
	fixed(l.server, "eth0", mac(l.router, "s"), "fd20::1", "10.20.0.1")
	fixed(l.router, "c", mac(l.client, "eth0"), append(clientAddrs6, clientAddrs4...)...)
	fixed(l.router, "s", mac(l.server, "eth0"), append(serverAddrs6, serverAddrs4...)...)
	for _, ns := range a.hosts {
		l.in(
			ns,
			"sysctl -qw net.ipv4.icmp_ratelimit=0 net.ipv6.icmp.ratelimit=0 net.ipv4.tcp_syn_retries=1 "+
				"net.ipv4.conf.all.rp_filter=0 net.ipv4.conf.default.rp_filter=0",
		)
		l.in(ns, "sysctl -qew net.ipv4.icmp_msgs_per_sec=1000000 net.ipv4.icmp_msgs_burst=1000000")
		if a.ipsets {
			l.in(ns, "ipset create uk_ip hash:ip")
			l.in(ns, "ipset add uk_ip 10.20.7.32")
			l.in(ns, "ipset create uk_net hash:net")
			l.in(ns, "ipset add uk_net 10.20.7.64/26")
			l.in(ns, "ipset add uk_net 10.20.0.15")
		}
	}
	for _, setting := range []string{"net.ipv4.ip_local_port_range=61000 65000",
		"net.ipv4.ping_group_range=0 2147483647"} {
		if out, err := exec.Command("ip", "netns", "exec", l.client, "sysctl", "-qw",
			setting).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	a.within("server", a.serve)
	return a
}

// within runs something on a thread that is in a host's network namespace.
func (a *arena) within(part string, do func()) { inside(a.t, a.hosts[part], do) }

// serve answers one byte with one byte, on every open port.
func (a *arena) serve() {
	for _, port := range openPorts {
		l, err := net.Listen("tcp", fmt.Sprintf("[::]:%d", port))
		if err != nil {
			a.t.Error(err)
			return
		}
		a.t.Cleanup(func() { l.Close() })
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer c.Close()
					c.SetDeadline(time.Now().Add(2 * time.Second))
					b := make([]byte, 1)
					if _, err := c.Read(b); err == nil {
						c.Write(b)
						c.Read(b)
					}
				}()
			}
		}()
		for _, addr := range append(append([]string{}, serverAddrs4...), serverAddrs6...) {
			u, err := net.ListenPacket("udp", net.JoinHostPort(addr, fmt.Sprint(port)))
			if err != nil {
				a.t.Error(err)
				return
			}
			a.t.Cleanup(func() { u.Close() })
			go func() {
				b := make([]byte, 16)
				for {
					n, from, err := u.ReadFrom(b)
					if err != nil && errors.Is(err, net.ErrClosed) {
						return
					}
					if err == nil {
						u.WriteTo(b[:n], from)
					}
				}
			}()
		}
	}
}

// trial is one real connection and what came of it.
type trial struct {
	packet filter.Packet
	saw    string
	fd     int
}

func (t *trial) String() string {
	return fmt.Sprintf(
		"proto %d %s:%d -> %s:%d",
		t.packet.Proto,
		t.packet.From,
		t.packet.FromPort,
		t.packet.To,
		t.packet.ToPort,
	)
}

// draw makes a random packet.
func (a *arena) draw(g *ruleGen) *trial {
	p := filter.Packet{Proto: pick(g, uint8(filter.TCP), filter.TCP, filter.TCP, filter.UDP, filter.UDP, filter.ICMP)}
	from, to := pick(g, clientAddrs4...), pick(g, serverAddrs4...)
	if g.chance(3) {
		from, to = pick(g, clientAddrs6...), pick(g, serverAddrs6...)
		if p.Proto == filter.ICMP {
			p.Proto = filter.ICMPv6
		}
	}
	p.From, p.To = netip.MustParseAddr(from), netip.MustParseAddr(to)
	switch p.Proto {
	case filter.ICMP, filter.ICMPv6:
		p.ICMPType = filter.Echo(p.Six())
	case filter.TCP:
		p.Flags = filter.SYN
		fallthrough
	default:
		p.ToPort = pick(g, openPorts...)
	}
	p.FromPort = a.port()
	return &trial{packet: p, fd: -1}
}

// port is a source port that was not used for a while.
func (a *arena) port() uint16 {
	if a.next++; a.next >= 60000 {
		a.next = 20000
	}
	return a.next
}

// agrees compares what was foretold with what was seen. A connection that a
// refusal cuts may or may not notice it in time.
func agrees(want, saw string) bool {
	return want == saw || want == "cut" && saw != "answer" && saw != "silent"
}

func sockaddr(addr netip.Addr, port uint16) unix.Sockaddr {
	if addr.Is4() {
		return &unix.SockaddrInet4{Addr: addr.As4(), Port: int(port)}
	}
	return &unix.SockaddrInet6{Addr: addr.As16(), Port: int(port)}
}

// launch sends a trial's first packet.
func (t *trial) launch() {
	p := t.packet
	family, kind, proto := unix.AF_INET, unix.SOCK_STREAM, 0
	if p.Six() {
		family = unix.AF_INET6
	}
	switch p.Proto {
	case filter.UDP:
		kind = unix.SOCK_DGRAM
	case filter.ICMP, filter.ICMPv6:
		kind, proto = unix.SOCK_DGRAM, int(p.Proto)
	}
	fd, err := unix.Socket(family, kind|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, proto)
	if err != nil {
		t.saw = "local " + err.Error()
		return
	}
	t.fd = fd
	if p.Six() {
		unix.SetsockoptInt(fd, unix.SOL_IPV6, unix.IPV6_RECVERR, 1)
	} else {
		unix.SetsockoptInt(fd, unix.SOL_IP, unix.IP_RECVERR, 1)
	}
	unix.SetsockoptLinger(fd, unix.SOL_SOCKET, unix.SO_LINGER, &unix.Linger{Onoff: 1})
	unix.SetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_REUSEADDR, 1)
	if err := unix.Bind(fd, sockaddr(p.From, p.FromPort)); err != nil {
		t.saw = "local bind " + err.Error()
		return
	}
	err = unix.Connect(fd, sockaddr(p.To, p.ToPort))
	if err == nil && p.Proto != filter.TCP {
		payload := []byte("x")
		if p.Proto == filter.ICMP || p.Proto == filter.ICMPv6 {
			payload = []byte{p.ICMPType, 0, 0, 0, 0, 0, 0, 1, 'x'}
		}
		_, err = unix.Write(fd, payload)
	}
	if err != nil && err != unix.EINPROGRESS {
		t.settle(err)
	}
}

// settle takes an error for what it says.
func (t *trial) settle(err error) {
	if said := t.queued(); said != "" {
		t.saw = said
		return
	}
	switch err {
	case unix.ECONNREFUSED:
		t.saw = "reset"
	case unix.EPERM:
		t.saw = "silent" // a drop of our own output
	default:
		t.saw = "local " + err.Error()
	}
}

// queued reads the ICMP message from the socket's error queue.
func (t *trial) queued() string {
	data, oob := make([]byte, 512), make([]byte, 512)
	_, n, _, _, err := unix.Recvmsg(t.fd, data, oob, unix.MSG_ERRQUEUE)
	if err != nil {
		return ""
	}
	list, err := unix.ParseSocketControlMessage(oob[:n])
	if err != nil {
		return ""
	}
	for _, m := range list {
		if len(m.Data) >= 16 && (m.Data[4] == 2 || m.Data[4] == 3) { // SO_EE_ORIGIN_ICMP, _ICMP6
			return fmt.Sprintf("icmp %d/%d", m.Data[5], m.Data[6])
		}
		if len(m.Data) >= 16 && m.Data[4] == 1 {
			return "local " + unix.Errno(binary.NativeEndian.Uint32(m.Data)).Error()
		}
	}
	return ""
}

// run makes all trials at once and waits until nothing more happens.
func (a *arena) run(trials []*trial, quiet time.Duration) {
	a.within("client", func() {
		for _, t := range trials {
			t.saw = ""
			t.launch()
		}
		last, began := time.Now(), time.Now()
		sent := map[*trial]bool{}
		for time.Since(last) < quiet && time.Since(began) < 900*time.Millisecond+quiet {
			var fds []unix.PollFd
			var of []*trial
			for _, t := range trials {
				if t.saw != "" {
					continue
				}
				events := int16(unix.POLLIN)
				if t.packet.Proto == filter.TCP && !sent[t] {
					events = unix.POLLOUT
				}
				fds, of = append(fds, unix.PollFd{Fd: int32(t.fd), Events: events}), append(of, t)
			}
			if len(fds) == 0 {
				break
			}
			n, err := unix.Poll(fds, int(quiet.Milliseconds())/4+1)
			if err != nil || n == 0 {
				continue
			}
			last = time.Now()
			for i, fd := range fds {
				if fd.Revents == 0 {
					continue
				}
				t := of[i]
				if code, err := unix.GetsockoptInt(t.fd, unix.SOL_SOCKET, unix.SO_ERROR); err == nil && code != 0 {
					t.settle(unix.Errno(code))
					continue
				}
				if t.packet.Proto == filter.TCP && !sent[t] {
					sent[t] = true
					unix.Write(t.fd, []byte("x"))
					continue
				}
				if n, err := unix.Read(t.fd, make([]byte, 64)); n > 0 {
					t.saw = "answer"
				} else if err != nil && err != unix.EAGAIN {
					t.settle(err.(unix.Errno))
				} else if said := t.queued(); said != "" {
					t.saw = said
				}
			}
		}
		for _, t := range trials {
			if t.saw == "" {
				t.saw = "silent"
				if sent[t] {
					t.saw = "stalls"
				}
			}
			if t.fd >= 0 {
				unix.Close(t.fd)
			}
		}
	})
}

// foretell is what should come of a trial.
func foretell(trip filter.Trip, p filter.Packet) (outcome, why string) {
	r := trip.Request
	switch r.Verdict {
	case filter.Undecidable:
		return "unknown", r.Why
	case filter.Drops:
		return "silent", ""
	case filter.Rejects:
		switch r.Told {
		case filter.Unknown:
			return "unknown", "whether the refusal gets back"
		case filter.No:
			return "silent", ""
		}
		if r.With == filter.ByReset {
			return "reset", ""
		}
		kind, code := r.With.Code(p.Six())
		return fmt.Sprintf("icmp %d/%d", kind, code), ""
	}
	if trip.Reply.Verdict == filter.Undecidable {
		return "unknown", trip.Reply.Why
	}
	if trip.Reply.Verdict != filter.Accepts {
		return "silent", ""
	}
	if p.Proto != filter.TCP {
		return "answer", ""
	}
	for _, w := range []filter.Walk{trip.Later, trip.LaterReply} {
		switch w.Verdict {
		case filter.Undecidable:
			return "unknown", w.Why
		case filter.Rejects:
			return "cut", ""
		case filter.Drops:
			return "stalls", ""
		}
	}
	return "answer", ""
}

// look reads a host's tables and what else decides.
func (a *arena) look(part string) *filter.Host {
	f := filter.HostFacts{Name: part}
	a.within(part, func() {
		emit := func(got fact.Fact) {
			f.Take(&got)
			if got.Failed != nil && got.Order.Look != fact.LookKernel {
				a.t.Errorf("%s: %s: %s", part, got.Failed.What, got.Failed.Why)
			}
		}
		for _, kind := range []fact.Kind{fact.LookTables, fact.LookAddresses, fact.LookRoutes, fact.LookKernel} {
			host.Looks[kind](context.Background(), look.Env{}, fact.Order{Look: kind}, emit)
		}
		if f.Tables == nil {
			return
		}
		// The thread's own list of older tables is not the process's.
		f.Tables.Saved = nil
		for _, six := range []bool{false, true} {
			program := "iptables-legacy-save"
			if six {
				program = "ip6tables-legacy-save"
			}
			if out, err := exec.Command(program).Output(); err == nil && strings.Contains(string(out), "*") {
				f.Tables.Saved = append(f.Tables.Saved, fact.SavedTables{Six: six, Text: string(out)})
			}
		}
	})
	return filter.NewHost(f)
}

// variant is a way to load random tables.
type variant struct {
	name  string
	needs string
	// saved is the words that write the tables to be read again.
	saved [][]string
	// loader loads one text, of IPv4 where there are two.
	loader string
	load   func(a *arena, part string, g *ruleGen) (string, error)
}

// feed gives a program a text, in a host.
func (a *arena) feed(part, text string, words ...string) error {
	cmd := exec.Command("ip", append([]string{"netns", "exec", a.hosts[part]}, words...)...)
	cmd.Stdin = strings.NewReader(text)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("%v: %v: %s", words, err, out)
	}
	return nil
}

func restore(prefix string) func(*arena, string, *ruleGen) (string, error) {
	return func(a *arena, part string, g *ruleGen) (string, error) {
		four, six := g.xtables(false), g.xtables(true)
		if err := a.feed(part, four, "iptables"+prefix+"-restore"); err != nil {
			return four, err
		}
		return four + six, a.feed(part, six, "ip6tables"+prefix+"-restore")
	}
}

var variants = []variant{
	{
		"nft",
		"nft",
		[][]string{{"nft", "-j", "list", "ruleset"}},
		"nft -f -",
		func(a *arena, part string, g *ruleGen) (string, error) {
			text := g.nft()
			return text, a.feed(part, text, "nft", "-f", "-")
		},
	},
	{
		"iptables over nft",
		"iptables-nft-restore",
		[][]string{{"iptables-nft-save"}, {"ip6tables-nft-save"}},
		"iptables-nft-restore",
		restore("-nft"),
	},
	{
		"older iptables",
		"iptables-legacy-restore",
		[][]string{{"iptables-legacy-save"}, {"ip6tables-legacy-save"}},
		"iptables-legacy-restore",
		restore("-legacy"),
	},
}

// clear removes all tables and tracked connections.
func (a *arena) clear(used map[string]bool) {
	for _, part := range parts {
		a.feed(part, "", "nft", "flush", "ruleset")
		if used["older iptables"] {
			for _, p := range []string{"iptables", "ip6tables"} {
				empty := "*filter\nCOMMIT\n*mangle\nCOMMIT\n*nat\nCOMMIT\n"
				a.feed(part, empty, p+"-legacy-restore")
				for _, table := range []string{"filter", "mangle", "nat"} {
					for _, chain := range []string{"INPUT", "FORWARD", "OUTPUT"} {
						a.feed(part, "", p+"-legacy", "-t", table, "-P", chain, "ACCEPT")
					}
				}
			}
		}
		a.within(part, func() {
			netlink.ConntrackTableFlush(netlink.ConntrackTable)
		})
	}
}

// dispute is a disagreement between prediction and kernel.
type dispute struct {
	seed       uint64
	texts      map[string]string
	loaders    map[string]string
	trial      *trial
	want, trip string
}

// TestReferee loads random tables on real hosts, makes real connections, and
// compares what comes of them with what the evaluator foretells.
func TestReferee(t *testing.T) {
	needsVariants(t)
	if testing.Short() {
		t.Skip("takes minutes")
	}
	const width = 200
	workers := max(1, runtime.NumCPU())
	jobs := make(chan uint64)
	var wg sync.WaitGroup
	var mu sync.Mutex
	pairs, unknown := 0, 0
	seen := map[string]int{}
	var disputes []dispute
	for range workers {
		a := newArena(t)
		vague := map[string]int{}
		defer func() { t.Logf("unknown of saved tables alone: %v", vague) }()
		wg.Go(func() {
			for seed := range jobs {
				n, u, outcomes, d := a.round(seed, width, vague)
				mu.Lock()
				pairs, unknown = pairs+n, unknown+u
				for o, c := range outcomes {
					seen[o] += c
				}
				disputes = append(disputes, d...)
				mu.Unlock()
			}
		})
	}
	for i := range uint64((*refereePairs + width - 1) / width) {
		mu.Lock()
		enough := len(disputes) > 5
		mu.Unlock()
		if enough {
			break
		}
		jobs <- *refereeSeed<<32 + i
	}
	close(jobs)
	wg.Wait()
	t.Logf("%d pairs, %d unknown, outcomes %v", pairs, unknown, seen)
	for i, d := range disputes {
		if i == 5 {
			t.Errorf("and %d more", len(disputes)-i)
			break
		}
		t.Errorf("seed %d: %s: foretold %s, the kernel says %s\n%s", d.seed, d.trial, d.want, d.trial.saw, d.trip)
		if i == 0 {
			t.Errorf("as small as it gets, in %s", newArena(t).keep(d))
		}
	}
	if pairs > 0 && unknown*50 > pairs {
		t.Errorf("%d of %d are unknown: more than 2 %%", unknown, pairs)
	}
	for _, o := range []string{"answer", "silent", "reset", "stalls"} {
		if seen[o] == 0 {
			t.Errorf("nothing ended with %q: the random tables are poor", o)
		}
	}
}

// ipsets are the lab's IP sets, for texts that name them.
var ipsets = []fact.IPSet{{Name: "uk_ip", Type: "hash:ip", Members: []fact.SetMember{{Net: "10.20.7.32"}}},
	{Name: "uk_net", Type: "hash:net", Members: []fact.SetMember{{Net: "10.20.7.64/26"}, {Net: "10.20.0.15"}}}}

// reread is a host with its tables as the system's own programs save them.
func (a *arena) reread(h *filter.Host, part string, saved [][]string, ipsets []fact.IPSet) *filter.Host {
	again := *h
	for i, words := range saved {
		out, err := exec.Command("ip", append([]string{"netns", "exec", a.hosts[part]}, words...)...).Output()
		if err != nil {
			a.t.Errorf("%v: %v", words, err)
			return h
		}
		r, err := filter.Parse(out)
		if len(saved) == 2 {
			r, err = filter.FromFacts(&fact.Tables{IPSets: ipsets,
				Saved: []fact.SavedTables{{Six: i == 1, Text: string(out)}}})
		}
		if err != nil {
			a.t.Errorf("%v: %v", words, err)
			return h
		}
		if i == 0 {
			again.Rules = r
		} else {
			again.Rules = filter.Join(again.Rules, r)
		}
	}
	return &again
}

// round is one random set of tables and its trials.
func (a *arena) round(
	seed uint64,
	width int,
	vague map[string]int,
) (pairs, unknown int, outcomes map[string]int, disputes []dispute) {
	g := &ruleGen{Rand: rand.New(rand.NewPCG(seed, 7)), ipsets: a.ipsets}
	used := map[string]bool{}
	texts, saved, loaders := map[string]string{}, map[string][][]string{}, map[string]string{}
	defer a.clear(used)
	for _, part := range parts {
		if !g.chance(2) && part != "server" {
			continue
		}
		g.part = part
		v := variants[g.IntN(len(variants))]
		if g.chance(2) {
			v = variants[0]
		}
		used[v.name] = true
		text, err := v.load(a, part, g)
		if err != nil {
			a.t.Errorf("seed %d: %s: %v\n%s", seed, part, err, text)
			return
		}
		texts[part], saved[part], loaders[part] = text, v.saved, v.loader
	}
	hosts := map[string]*filter.Host{}
	again := map[string]*filter.Host{}
	for _, part := range parts {
		hosts[part] = a.look(part)
		again[part] = a.reread(hosts[part], part, saved[part], ipsets)
	}
	ways := func(hosts map[string]*filter.Host) []filter.Hop {
		return []filter.Hop{
			{Host: hosts["client"]},
			{Host: hosts["router"], In: "c", Out: "s"},
			{Host: hosts["server"], In: "eth0"},
		}
	}
	hops, hopsAgain := ways(hosts), ways(again)
	var trials []*trial
	for range width {
		trials = append(trials, a.draw(g))
	}
	a.run(trials, 60*time.Millisecond)
	outcomes = map[string]int{}
	var doubtful []*trial
	for _, tr := range trials {
		trip := filter.Travel(tr.packet, hops)
		want, _ := foretell(trip, tr.packet)
		second := filter.Travel(tr.packet, hopsAgain)
		if other, why := foretell(second, tr.packet); other != want && other != "unknown" {
			disputes = append(
				disputes,
				dispute{
					seed,
					texts,
					loaders,
					tr,
					want + ", of the saved tables " + other + why,
					tripText(trip) + "---\n" + tripText(second),
				},
			)
		} else if other != want {
			vague[why]++
		}
		outcomes[tr.saw]++
		pairs++
		switch {
		case want == "unknown":
			unknown++
		case !agrees(want, tr.saw):
			doubtful = append(doubtful, tr)
		}
	}
	if len(doubtful) == 0 {
		return
	}
	// This machine may have been slow: once more, with patience.
	for _, tr := range doubtful {
		tr.packet.FromPort = a.port()
	}
	a.run(doubtful, 300*time.Millisecond)
	for _, tr := range doubtful {
		trip := filter.Travel(tr.packet, hops)
		if want, _ := foretell(trip, tr.packet); want != "unknown" && !agrees(want, tr.saw) {
			disputes = append(disputes, dispute{seed, texts, loaders, tr, want, tripText(trip)})
		}
	}
	return
}

func tripText(t filter.Trip) string {
	var b strings.Builder
	for _, w := range []struct {
		name string
		walk filter.Walk
	}{{"request", t.Request}, {"reply", t.Reply}, {"later", t.Later}, {"later reply", t.LaterReply}} {
		fmt.Fprintf(&b, "%s: %s %s told %v\n", w.name, w.walk.Verdict, w.walk.Why, w.walk.Told)
		for _, s := range w.walk.Steps {
			fmt.Fprintf(&b, "    %s %s\n", s.Hook, s)
		}
	}
	return b.String()
}

// needsVariants is what loads every variant of the tables.
func needsVariants(t *testing.T) {
	t.Helper()
	for _, v := range variants {
		if _, err := exec.LookPath(v.needs); err != nil {
			missing(t, "needs "+v.needs+": apt-get install iptables nftables")
		}
	}
}
