package test

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/look"
	"uakari/internal/look/host"
	"uakari/internal/trail"
)

// bare builds one of the bare programs.
func bare(b *testing.B, name string) string {
	b.Helper()
	path := filepath.Join(b.TempDir(), name)
	build := exec.Command("go", "build", "-o", path, "uakari/test/bare/"+name)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatalf("%v: %s", err, out)
	}
	return path
}

// sideBySide runs two commands in turn and returns the median wall time of
// each, so that a busy machine slows both.
func sideBySide(b *testing.B, rounds int, one, other []string) (time.Duration, time.Duration) {
	b.Helper()
	var first, second []time.Duration
	for range rounds {
		first = append(first, timed(b, one))
		second = append(second, timed(b, other))
	}
	return median(first), median(second)
}

// timed is how long a command takes. What it writes is thrown away unread: reading
// it would be measured too.
func timed(b *testing.B, words []string) time.Duration {
	b.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	var errs strings.Builder
	cmd.Stderr = &errs
	began := time.Now()
	if err := cmd.Run(); err != nil {
		b.Fatalf("%v: %v: %s", words, err, errs.String())
	}
	return time.Since(began)
}

func median(list []time.Duration) time.Duration {
	slices.Sort(list)
	return list[len(list)/2]
}

func ms(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// BenchmarkVersion compares starting this program with starting an empty one.
// The bound is 2.
func BenchmarkVersion(b *testing.B) {
	empty := bare(b, "empty")
	for b.Loop() {
		own, other := sideBySide(b, 60, []string{program, "version"}, []string{empty})
		b.ReportMetric(ms(own)/ms(other), "ratio")
	}
}

// startup is what a run may cost beside the work itself.
const startup = 5 * time.Millisecond

// BenchmarkLoopback compares a healthy HTTPS trace with a bare program that
// does the unavoidable once. The bound is 1.5, not counting start-up.
func BenchmarkLoopback(b *testing.B) {
	dir := b.TempDir()
	stay := exec.Command(program, "demo", "--stay", dir, "healthy")
	out, err := stay.StdoutPipe()
	if err != nil {
		b.Fatal(err)
	}
	if err := stay.Start(); err != nil {
		b.Fatal(err)
	}
	defer stay.Wait()
	defer stay.Process.Signal(syscall.SIGTERM)
	for s := bufio.NewScanner(out); s.Scan() && !strings.HasPrefix(s.Text(), "Ctrl-C"); {
	}
	roots, url := filepath.Join(dir, "authority.pem"), "https://tidebook.varzea.example:8443/"
	trace := []string{program, "trace", "--resolver", "127.20.0.2:5353", "--trust", roots, url}
	get := []string{bare(b, "get"), "127.20.0.2:5353", roots, url}
	for b.Loop() {
		own, other := sideBySide(b, 40, trace, get)
		b.ReportMetric(ms(own-startup)/ms(other), "ratio")
		b.ReportMetric(ms(own), "trace-ms")
		b.ReportMetric(ms(other), "bare-ms")
	}
}

// BenchmarkLink compares a healthy HTTPS trace over a link of 20 ms each way
// with its longest chain of round trips: look-up, connect, handshake and
// question. The bound is 1.15.
func BenchmarkLink(b *testing.B) {
	const delay, trips = 20 * time.Millisecond, 4
	far := newLink(b, delay)
	trace := append(enter(far.client), program, "trace", "--resolver", far.resolver, "--trust", far.roots, far.url)
	get := append(enter(far.client), bare(b, "get"), far.resolver, far.roots, far.url)
	for b.Loop() {
		own, other := sideBySide(b, 15, trace, get)
		b.ReportMetric(ms(own)/ms(trips*2*delay), "ratio")
		b.ReportMetric(ms(other)/ms(trips*2*delay), "bare-ratio")
	}
}

// BenchmarkNames compares all views of a name, of 4 resolvers, 3 suffixes, 2
// types and 3 authoritative servers, with the longest chain of round trips over
// a link of 20 ms each way: the system's own look-up, which asks for one suffix
// after the other and then for the name as it is. The bound is 1.2.
func BenchmarkNames(b *testing.B) {
	const delay, trips = 20 * time.Millisecond, 4
	far := newLink(b, delay)
	var addrs []string
	for _, last := range []int{21, 22, 23, 24, 31, 32, 33} {
		addr := fmt.Sprintf("10.20.0.%d", last)
		if out, err := exec.Command("ip", "netns", "exec", far.server, "ip", "addr", "add", addr+"/32", "dev",
			"lo").CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		addrs = append(addrs, addr+":53")
	}
	servers := exec.Command(
		"ip",
		"netns",
		"exec",
		far.server,
		os.Args[0],
		"-test.run=TestHelperResolvers$",
		"-test.timeout=0",
	)
	servers.Env = append(os.Environ(), "RESOLVERS="+strings.Join(addrs, ","))
	if err := servers.Start(); err != nil {
		b.Fatal(err)
	}
	defer servers.Wait()
	defer servers.Process.Kill()
	settings := filepath.Join("/etc/netns", far.client)
	if err := os.MkdirAll(settings, 0o755); err != nil {
		b.Fatal(err)
	}
	defer os.RemoveAll(settings)
	write(
		b,
		filepath.Join(settings, "resolv.conf"),
		"search river.example varzea.example harbour.example\nnameserver 10.20.0.21\nnameserver "+
			"10.20.0.22\nnameserver 10.20.0.23\nnameserver 10.20.0.24\noptions ndots:5\n",
	)
	time.Sleep(500 * time.Millisecond)
	views := append(enter(far.client), program, "names", "--json", "tidebook.varzea.example")
	out, err := exec.Command(views[0], views[1:]...).Output()
	if n := strings.Count(string(out), `"serial"`); n < 3 || strings.Count(string(out), `"10.20.0.14"`) < 7 {
		b.Fatalf("%v: %d authoritative servers in %s", err, n, out)
	}
	for b.Loop() {
		own, other := sideBySide(b, 15, views, append(enter(far.client), program, "version"))
		b.ReportMetric(ms(own-other)/ms(trips*2*delay), "ratio")
		b.ReportMetric(ms(own), "names-ms")
	}
}

// TestHelperResolvers is the process of resolvers and authoritative servers,
// which all say the same; it is no test.
func TestHelperResolvers(t *testing.T) {
	text := os.Getenv("RESOLVERS")
	if text == "" {
		t.Skip("only a helper")
	}
	zone := map[string]string{
		"tidebook.varzea.example. A": "10.20.0.14",
		"varzea.example. NS":         "ns1.varzea.example.",
		"ns1.varzea.example. A":      "10.20.0.31",
		"ns2.varzea.example. A":      "10.20.0.32",
		"ns3.varzea.example. A":      "10.20.0.33",
		"varzea.example. SOA":        "ns1.varzea.example. post.varzea.example. 7 3600 600 86400 60",
	}
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		m := new(dns.Msg)
		m.SetReply(q)
		m.Authoritative, m.RecursionAvailable = true, true
		name, kind := strings.ToLower(q.Question[0].Name), dns.TypeToString[q.Question[0].Qtype]
		values := []string{zone[name+" "+kind]}
		if name == "varzea.example." && kind == "NS" {
			values = []string{"ns1.varzea.example.", "ns2.varzea.example.", "ns3.varzea.example."}
		}
		for _, value := range values {
			if rr, err := dns.NewRR(fmt.Sprintf("%s 300 IN %s %s", name, kind, value)); err == nil && value != "" {
				m.Answer = append(m.Answer, rr)
			}
		}
		if len(m.Answer) == 0 && !strings.HasSuffix(name, "varzea.example.") {
			m.Rcode = dns.RcodeNameError
		}
		w.WriteMsg(m)
	})
	for _, addr := range strings.Split(text, ",") {
		server := &dns.Server{Addr: addr, Net: "udp", Handler: handler}
		go func() { t.Error(server.ListenAndServe()) }()
	}
	time.Sleep(10 * time.Minute)
}

// BenchmarkPorts compares listing 20,000 listeners with their owners with a
// bare dump and one pass over /proc. The bound is 1.5.
func BenchmarkPorts(b *testing.B) {
	if os.Getuid() != 0 {
		b.Skip("needs root, to make a network namespace")
	}
	const count = 20000
	ns := fmt.Sprintf("u%d-many", os.Getpid())
	for _, words := range [][]string{{"netns", "add", ns}, {"-n", ns, "link", "set", "lo", "up"}} {
		if out, err := exec.Command("ip", words...).CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
	}
	defer exec.Command("ip", "netns", "del", ns).Run()
	const each = 500 // a process may have few files open
	for first := 0; first < count; first += each {
		many := exec.Command("ip", "netns", "exec", ns, os.Args[0], "-test.run=TestHelperMany$", "-test.timeout=0")
		many.Env = append(os.Environ(), fmt.Sprintf("MANY=%d", each), fmt.Sprintf("FIRST=%d", first), "FAR=none")
		out, err := many.StdoutPipe()
		if err != nil {
			b.Fatal(err)
		}
		if err := many.Start(); err != nil {
			b.Fatal(err)
		}
		defer many.Wait()
		defer many.Process.Kill()
		if line, err := bufio.NewReader(out).ReadString(10); err != nil || !strings.HasPrefix(line, "ready") {
			b.Fatalf("the listeners do not come up: %q, %v", line, err)
		}
	}
	own := append(enter(ns), program, "ports", "--json")
	dump := append(enter(ns), bare(b, "ports"))
	for b.Loop() {
		first, second := sideBySide(b, 10, own, dump)
		b.ReportMetric(ms(first)/ms(second), "ratio")
		b.ReportMetric(ms(first), "ports-ms")
		b.ReportMetric(ms(second), "bare-ms")
	}
}

// BenchmarkSweep compares a sweep of 10,000 endpoints, every tenth of them silent,
// with a loop that dials them, 32 at a time, in a network of its own. The bound is
// 1.1. The peak of memory is told for 1,000 and for 10,000.
func BenchmarkSweep(b *testing.B) {
	dial, dir := bare(b, "dial"), b.TempDir()
	self, err := os.Executable()
	if err != nil {
		b.Fatal(err)
	}
	list := func(count int) (plan, addresses string) {
		var p, a strings.Builder
		p.WriteString("format: uakari.plan/1\nclients: [{here: true}]\nendpoints:\n")
		for i := range count {
			port := 8080
			if i%10 == 0 {
				port = 9999
			}
			addr := fmt.Sprintf("127.1.%d.%d:%d", i/250, 1+i%250, port)
			fmt.Fprintf(&p, "  - http://%s/\n", addr)
			fmt.Fprintln(&a, addr)
		}
		plan, addresses = filepath.Join(dir, fmt.Sprint(count, ".yaml")), filepath.Join(dir, fmt.Sprint(count, ".txt"))
		for path, text := range map[string]string{plan: p.String(), addresses: a.String()} {
			if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
				b.Fatal(err)
			}
		}
		return plan, addresses
	}
	const up = "ip link set lo up && nft 'add table inet f; add chain inet f i { type filter hook input priority 0; " +
		"}; add rule inet f i tcp dport 9999 drop' && " +
		"(UAKARI_SERVE_PAGE=0.0.0.0:8080 \"$SELF\" -test.run '^TestServePage$' >/dev/null & echo $! >\"$DIR/pid\"; " +
		"sleep 0.5; "
	within := func(command string) (time.Duration, int64) {
		// What ends it with 1 is that something failed, which is meant.
		cmd := exec.Command("unshare", "-n", "sh", "-c", up+command+"; kill $(cat \"$DIR/pid\"))")
		cmd.Env = append(os.Environ(), "SELF="+self, "DIR="+dir, "PROGRAM="+program, "DIAL="+dial)
		began := time.Now()
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		return time.Since(began), cmd.ProcessState.SysUsage().(*syscall.Rusage).Maxrss / 1024
	}
	few, _ := list(1000)
	plan, addresses := list(10000)
	for b.Loop() {
		_, least := within("\"$PROGRAM\" sweep --wait 1s --wide 32 " + few + " >/dev/null")
		ours, most := within("\"$PROGRAM\" sweep --wait 1s --wide 32 " + plan + " >/dev/null")
		loop, _ := within("\"$DIAL\" 32 1s <" + addresses + " >/dev/null")
		b.ReportMetric(float64(ours)/float64(loop), "ratio")
		b.ReportMetric(ours.Seconds(), "sweep-s")
		b.ReportMetric(loop.Seconds(), "bare-s")
		b.ReportMetric(float64(least), "MiB-of-1000")
		b.ReportMetric(float64(most), "MiB-of-10000")
	}
}

// BenchmarkRecord is the processor time of a record of a quiet host. The bound
// is 300 ms.
func BenchmarkRecord(b *testing.B) {
	for b.Loop() {
		cmd := exec.Command(program, "record", "-o", filepath.Join(b.TempDir(), "host.json"))
		if out, err := cmd.CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
		b.ReportMetric(ms(cmd.ProcessState.UserTime()+cmd.ProcessState.SystemTime()), "cpu-ms")
	}
}

// TestHelperMany is the process of many listeners; it is no test.
func TestHelperMany(t *testing.T) {
	count, err := strconv.Atoi(os.Getenv("MANY"))
	if err != nil {
		t.Skip("only a helper")
	}
	first, err := strconv.Atoi(os.Getenv("FIRST"))
	if err != nil {
		t.Fatal(err)
	}
	for i := first; i < first+count; i++ {
		fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
		if err != nil {
			t.Fatal(err)
		}
		if err := unix.Bind(fd, &unix.SockaddrInet4{Addr: [4]byte{127, 1, byte(i / 250), byte(1 + i%250)},
			Port: 7000}); err != nil {
			t.Fatal(err)
		}
		if err := unix.Listen(fd, 16); err != nil {
			t.Fatal(err)
		}
	}
	fmt.Println("ready")
	time.Sleep(10 * time.Minute)
}

// BenchmarkSSH counts what a trace over SSH costs beyond logging in, running a
// command that does nothing and the same trace without SSH, in round trips of a
// link of 20 ms each way. The command's channel and its start are two of the
// three that are allowed.
func BenchmarkSSH(b *testing.B) {
	const delay = 20 * time.Millisecond
	for _, need := range []string{"/usr/sbin/sshd", "/usr/bin/ssh-keygen"} {
		if _, err := os.Stat(need); err != nil {
			b.Skip("needs openssh-server and openssh-client")
		}
	}
	far := newLink(b, delay)
	dir := b.TempDir()
	key := filepath.Join(dir, "key")
	for _, name := range []string{"key", "host"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			filepath.Join(dir, name)).CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
	}
	host, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	if err != nil {
		b.Fatal(err)
	}
	put := func(path, text string) string {
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
		return path
	}
	conf := put(
		filepath.Join(dir, "conf"),
		fmt.Sprintf(
			"Port 2022\nHostKey %[1]s/host\nAuthorizedKeysFile %[1]s/key.pub\nStrictModes no\nUsePAM "+
				"no\nPermitRootLogin yes\nPidFile none\nSetEnv PATH=%[2]s:/usr/bin:/bin\n",
			dir,
			filepath.Dir(program),
		),
	)
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		b.Fatal(err)
	}
	sshd := exec.Command("ip", "netns", "exec", far.server, "/usr/sbin/sshd", "-D", "-f", conf)
	if err := sshd.Start(); err != nil {
		b.Fatal(err)
	}
	defer sshd.Wait()
	defer sshd.Process.Kill()
	time.Sleep(500 * time.Millisecond)
	put(filepath.Join(dir, ".ssh", "known_hosts"), "[10.20.0.14]:2022 "+string(host))
	b.Setenv("HOME", dir)
	b.Setenv("SSH_AUTH_SOCK", "")
	// The client's own try takes round trips of its own: connecting, the
	// greeting, and two until the host key is known.
	trace := append(
		enter(far.client),
		program,
		"trace",
		"--at",
		"root@10.20.0.14:2022",
		"--identity",
		key,
		"ssh://10.20.0.14:2022",
	)
	alone := append(enter(far.client), program, "trace", "ssh://10.20.0.14:2022")
	login := append(enter(far.client), bare(b, "login"), "10.20.0.14:2022", key)
	for b.Loop() {
		own, other := sideBySide(b, 9, trace, login)
		client, _ := sideBySide(b, 9, alone, login)
		b.ReportMetric(ms(own-other-client)/ms(2*delay), "beyond")
		b.ReportMetric(ms(client)/ms(2*delay), "client-alone")
		b.ReportMetric(ms(other)/ms(2*delay), "login-and-command")
	}
}

// BenchmarkSweepSSH sweeps from five hundred hosts over a real sshd, which has an
// address for each of them in a network of its own.
func BenchmarkSweepSSH(b *testing.B) {
	const many = 500
	dir := b.TempDir()
	for _, name := range []string{"key", "host"} {
		if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
			filepath.Join(dir, name)).CombinedOutput(); err != nil {
			b.Fatalf("%v: %s", err, out)
		}
	}
	host, err := os.ReadFile(filepath.Join(dir, "host.pub"))
	if err != nil {
		b.Fatal(err)
	}
	var plan, known strings.Builder
	plan.WriteString("format: uakari.plan/1\nendpoints: [\"http://127.1.0.1:8080/\"]\nclients:\n")
	for i := range many {
		addr := fmt.Sprintf("127.2.%d.%d", i/250, 1+i%250)
		fmt.Fprintf(&plan, "  - {at: \"root@%s:2022\", tags: {image: kiosk-%d}}\n", addr, i%4)
		fmt.Fprintf(&known, "[%s]:2022 %s", addr, host)
	}
	for path, text := range map[string]string{
		"many.plan.yaml": plan.String(), ".ssh/known_hosts": known.String(),
		"conf": fmt.Sprintf("Port 2022\nHostKey %[1]s/host\nAuthorizedKeysFile %[1]s/key.pub\nStrictModes "+
			"no\nUsePAM no\nPermitRootLogin yes\nPidFile none\nMaxStartups 200\nSetEnv PATH=%[2]s:/usr/bin:/bin\n",
			dir, filepath.Dir(program)),
	} {
		path = filepath.Join(dir, path)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path, []byte(text), 0o600),
			os.MkdirAll("/run/sshd", 0o755)); err != nil {
			b.Fatal(err)
		}
	}
	self, err := os.Executable()
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		cmd := exec.Command("unshare", "-n", "sh", "-c", "ip link set lo up; UAKARI_SERVE_PAGE=0.0.0.0:8080 "+
			"\"$SELF\" -test.run '^TestServePage$' >/dev/null & page=$!; /usr/sbin/sshd -D -f $DIR/conf & sshd=$!; "+
			"sleep 0.5; "+
			"\"$PROGRAM\" sweep --json --identity $DIR/key $DIR/many.plan.yaml; kill $page $sshd")
		cmd.Env = append(os.Environ(), "HOME="+dir, "SSH_AUTH_SOCK=", "SELF="+self, "DIR="+dir, "PROGRAM="+program)
		began := time.Now()
		out, err := cmd.Output()
		took := time.Since(began)
		var s trail.Sweep
		if err := errors.Join(err, json.Unmarshal(out, &s)); err != nil {
			b.Fatalf("%v: %.300s", err, out)
		}
		for _, r := range s.Rows {
			if r.Outcome != trail.OutcomeClear {
				b.Fatalf("%+v", r)
			}
		}
		b.ReportMetric(took.Seconds(), "s")
		b.ReportMetric(ms(took)/float64(len(s.Rows)), "ms-each")
	}
}

// BenchmarkReadRules compares reading 100,000 rules, decoded, with a bare dump
// of them. The bound is 1.5.
func BenchmarkReadRules(b *testing.B) {
	if os.Getuid() != 0 {
		b.Skip("needs root")
	}
	ns := fmt.Sprintf("ub%d", os.Getpid())
	if out, err := exec.Command("ip", "netns", "add", ns).CombinedOutput(); err != nil {
		b.Fatalf("%v: %s", err, out)
	}
	defer exec.Command("ip", "netns", "del", ns).Run()
	var rules strings.Builder
	rules.WriteString("table ip f {\nchain c {\ntype filter hook input priority 0;\n")
	for i := range 100_000 {
		fmt.Fprintf(&rules, "ip saddr 10.%d.%d.%d tcp dport %d drop\n", i>>16&255, i>>8&255, i&255, 1+i%60000)
	}
	rules.WriteString("}\n}\n")
	load := exec.Command("ip", "netns", "exec", ns, "nft", "-f", "-")
	load.Stdin = strings.NewReader(rules.String())
	if out, err := load.CombinedOutput(); err != nil {
		b.Fatalf("%v: %s", err, out)
	}
	var ours, dump []time.Duration
	inside(b, ns, func() {
		for range 5 {
			began := time.Now()
			req := nl.NewNetlinkRequest(unix.NFNL_SUBSYS_NFTABLES<<8|unix.NFT_MSG_GETRULE, unix.NLM_F_DUMP)
			req.AddData(&nl.Nfgenmsg{Version: nl.NFNETLINK_V0})
			if list, err := req.Execute(unix.NETLINK_NETFILTER, 0); err != nil || len(list) != 100_000 {
				b.Errorf("%d rules, %v", len(list), err)
			}
			dump = append(dump, time.Since(began))
			began = time.Now()
			host.Looks[fact.LookTables](context.Background(), look.Env{}, fact.Order{Look: fact.LookTables},
				func(f fact.Fact) {
					if f.Tables == nil {
						b.Errorf("%+v", f.Failed)
						return
					}
					if r, err := filter.FromFacts(f.Tables); err != nil || r.Count() != 100_000 {
						b.Errorf("%v", err)
					}
				})
			ours = append(ours, time.Since(began))
		}
	})
	if b.Failed() {
		return
	}
	b.ReportMetric(float64(median(ours))/float64(median(dump)), "ratio")
	b.ReportMetric(ms(median(ours)), "ms")
}

// inside runs something on a thread that is in a network namespace.
func inside(b testing.TB, ns string, do func()) {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // the thread ends with the goroutine
		fd, err := unix.Open("/var/run/netns/"+ns, unix.O_RDONLY|unix.O_CLOEXEC, 0)
		if err == nil {
			err = unix.Setns(fd, unix.CLONE_NEWNET)
			unix.Close(fd)
		}
		if err == nil {
			do()
		}
		done <- err
	}()
	if err := <-done; err != nil {
		b.Fatal(err)
	}
}
