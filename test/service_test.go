package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// fault is one way to break the full host's web server, and what is found.
type fault struct {
	name string
	ruin string // shell lines on the host
	mend string
	args []string // beside the endpoint
	to   string   // another endpoint
	want string   // blocking causes
	bits string   // what the first cause's summary must hold
}

const listenOn = `sed -i '/listen \[::\]:80/d; s/listen 80 default_server;/listen %s;/' ` +
	`/etc/nginx/sites-enabled/default; systemctl restart nginx`

var restoreSite = "rm /etc/nginx/sites-enabled/default; cp /root/site /etc/nginx/sites-enabled/default; systemctl " +
	"reset-failed; systemctl restart nginx"

// secureSite gives the web server a certificate.
const secureSite = `sed -i 's#listen 80 default_server;#listen 80 default_server; listen 443 ssl; ssl_certificate ` +
	`tide.crt; ssl_certificate_key tide.key;#' /etc/nginx/sites-enabled/default; cp /root/tide.* /etc/nginx; `

// squat puts another small server on the web server's port.
const squat = "systemctl stop nginx; systemd-run -q --unit=squatter /usr/bin/perl /root/hello.pl 80; sleep 0.5"

// oddProgram is a server that is unwell in a way of one's choice.
const oddProgram = `use IO::Socket::INET;
if ($ARGV[0] eq "hungry") { open(my $g, ">", "/mnt/tide/cgroup.procs"); print $g $$; close $g; my $x = "x" x 100_000_000; sleep 600 }
if ($ARGV[0] eq "zombie") { if (!fork) { $0 = "tidegate"; exit } sleep 600; exit }
my $s = IO::Socket::INET->new(LocalPort => 8457, Listen => $ARGV[0] eq "stuffed" ? 1 : 5, ReuseAddr => 1) or die "listen: $!";
my @open;
if ($ARGV[0] eq "stuffed") { for (1 .. 2) { push @open, IO::Socket::INET->new(PeerAddr => "127.0.0.1", PeerPort => 8457, Timeout => 1) } }
if ($ARGV[0] eq "full") { while (open(my $f, "<", "/dev/null")) { push @open, $f } }
sleep 600;
`

const helloProgram = `use IO::Socket::INET;
my $s = IO::Socket::INET->new(LocalPort => $ARGV[0], Listen => 5, ReuseAddr => 1) or die "listen: $!";
while (my $c = $s->accept) { print $c "hello\n"; close $c }
`

func unit(service string) string {
	return "printf '" + strings.ReplaceAll(
		service,
		"\n",
		"\\n",
	) + "' > /etc/systemd/system/almanac.service; systemctl daemon-reload; systemctl start --no-block almanac; " +
		"sleep 1.5"
}

const noUnit = "systemctl stop almanac; rm /etc/systemd/system/almanac.service; systemctl daemon-reload; systemctl " +
	"reset-failed"

// shoal is a unit of this run alone: all hosts of a machine, and all runs, share
// one kernel log.
var shoal = fmt.Sprintf("shoal%d", os.Getpid())

// clientName is what the client's host calls itself, up to the first dot.
var clientName = func() string {
	name, err := os.Hostname()
	if err != nil {
		return "client"
	}
	name, _, _ = strings.Cut(strings.ToLower(name), ".")
	return name
}()

var faults = []fault{
	{
		name: "stopped",
		ruin: "systemctl stop nginx",
		mend: "systemctl start nginx",
		want: "service/stopped proven",
		bits: "nginx.service is stopped",
	},
	{
		name: "masked",
		ruin: "systemctl mask --now nginx",
		mend: "systemctl unmask nginx; systemctl start nginx",
		want: "service/stopped proven",
		bits: "masked",
	},
	{
		name: "settings rejected",
		ruin: "echo nonsense > /etc/nginx/conf.d/x.conf; systemctl restart nginx || true",
		mend: "rm /etc/nginx/conf.d/x.conf; systemctl reset-failed; systemctl restart nginx",
		want: "service/settings-rejected proven",
		bits: "emerg",
	},
	{name: "port taken", ruin: squat + "; systemctl start nginx || true",
		mend: "systemctl stop squatter; systemctl reset-failed; systemctl start nginx",
		args: []string{"--unit", "nginx.service"}, want: "service/port-taken proven", bits: "perl"},
	{name: "another program on the port", ruin: squat,
		mend: "systemctl stop squatter; systemctl start nginx", args: []string{"--unit", "nginx.service"},
		want: "ports/other-owner proven", bits: "perl"},
	{
		name: "a required unit is down",
		ruin: "mkdir -p /etc/systemd/system/nginx.service.d; printf " +
			"'[Unit]\\nRequires=pump.service\\nAfter=pump.service\\n' > /etc/systemd/system/nginx.service.d/x.conf; " +
			"printf '[Service]\\nType=oneshot\\nRemainAfterExit=yes\\nExecStart=/bin/false\\n' > " +
			"/etc/systemd/system/pump.service; systemctl daemon-reload; systemctl stop nginx; systemctl start nginx " +
			"|| true",
		mend: "rm -r /etc/systemd/system/nginx.service.d /etc/systemd/system/pump.service; systemctl daemon-reload; " +
			"systemctl reset-failed; systemctl start nginx",
		want: "service/needs-down proven",
		bits: "pump.service (failed)",
	},
	{
		name: "loopback only",
		ruin: strings.Replace(listenOn, "%s", "127.0.0.1:80", 1),
		mend: restoreSite,
		want: "ports/loopback-only proven",
	},
	{name: "moved", ruin: strings.Replace(listenOn, "%s", "8081", 1), mend: restoreSite, want: "ports/moved proven"},
	{
		name: "the other family",
		ruin: strings.Replace(listenOn, "%s", "[::]:80 ipv6only=on", 1),
		mend: restoreSite,
		want: "ports/family-gap proven",
	},
	{
		name: "another network namespace",
		ruin: "mkdir -p /etc/systemd/system/nginx.service.d; printf '[Service]\\nPrivateNetwork=yes\\n' > " +
			"/etc/systemd/system/nginx.service.d/x.conf; systemctl daemon-reload; systemctl restart nginx",
		mend: "rm -r /etc/systemd/system/nginx.service.d; systemctl daemon-reload; systemctl restart nginx",
		want: "ports/other-namespace proven",
		bits: "another network namespace",
	},
	{
		name: "halted",
		ruin: "pkill -STOP nginx",
		mend: "pkill -CONT nginx",
		args: []string{"--deadline", "8s"},
		want: "service/hung proven",
		bits: "halted",
	},
	{
		name: "failed",
		ruin: unit("[Service]\nExecStart=/bin/sh -c \"echo no level today; exit 3\"\n"),
		mend: noUnit,
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac"},
		want: "service/failed proven",
		bits: "exit status 3, its log ends in \"no level today\"",
	},
	{
		name: "a program that nobody knows, stopped",
		ruin: unit(
			"[Service]\nExecStart=/usr/bin/perl /root/hello.pl 8457\n[Install]\nWantedBy=multi-user.target\n",
		) + "; systemctl enable -q almanac; systemctl stop almanac",
		mend: "systemctl disable -q almanac; " + noUnit,
		to:   "tcp://10.20.0.14:8457",
		want: "service/stopped proven",
		bits: "almanac.service is stopped",
	},
	{
		name: "a program that nobody knows, and its settings",
		ruin: "printf '[net]\\nlisten = 0.0.0.0:8457\\n' > /etc/almanac.ini; " + unit(
			"[Service]\nExecStart=/bin/sh -c \"echo error: unknown directive tides in /etc/almanac.ini, line 2; "+
				"echo giving up; exit 1\"\n",
		),
		mend: "rm /etc/almanac.ini; " + noUnit,
		to:   "tcp://10.20.0.14:8457",
		want: "service/settings-rejected proven",
		bits: "unknown directive tides",
	},
	{
		name: "a program that nobody knows, for the moment",
		ruin: "printf '[net]\\nlisten = 0.0.0.0:8457\\n' > /etc/almanac.ini; " + unit(
			"[Unit]\nStartLimitIntervalSec=0\n[Service]\nRestart=always\nRestartSec=100ms\n"+
				"ExecStart=/bin/sh -c \"echo error: unknown directive tides in /etc/almanac.ini, line 2; sleep 0.6; "+
				"exit 1\"\n",
		),
		mend: "rm /etc/almanac.ini; " + noUnit,
		to:   "http://10.20.0.14:8457/",
		want: "service/settings-rejected proven",
		bits: "unknown directive tides",
	},
	{
		name: "a program that nobody knows, stopped beside one of the kind",
		// A timer keeps it known to the manager when it is stopped.
		ruin: "printf '[Timer]\\nOnActiveSec=1h\\n' > /etc/systemd/system/almanac.timer; " + unit(
			"[Service]\nExecStart=/usr/bin/perl /root/hello.pl 8080\n",
		) + "; systemctl start almanac.timer; systemctl stop almanac",
		mend: "systemctl stop almanac.timer; rm /etc/systemd/system/almanac.timer; " + noUnit,
		to:   "http://10.20.0.14:8080/",
		want: "service/stopped proven",
		bits: "almanac.service is stopped",
	},
	{
		name: "a program that nobody knows, and its port",
		ruin: "systemd-run -q --unit=squatter /usr/bin/perl /root/hello.pl 8457; sleep 0.3; " + unit(
			"[Service]\nExecStart=/usr/bin/perl /root/hello.pl 8457\n",
		),
		mend: "systemctl stop squatter; " + noUnit,
		to:   "tcp://10.20.0.14:8457",
		want: "service/port-taken proven",
		bits: "almanac.service does not start",
	},
	{
		name: "something else holds the port",
		ruin: "systemd-run -q --unit=squatter /usr/bin/perl /root/hello.pl 8457; sleep 0.3",
		mend: "systemctl stop squatter",
		to:   "http://10.20.0.14:8457/",
		want: "answer/wrong-application likely",
		bits: "holds port 8457, and does not speak HTTP",
	},
	{
		name: "a service that ended at once since its port is held",
		ruin: "systemd-run -q --unit=squatter /usr/bin/perl /root/hello.pl 8457; sleep 0.3; " +
			"echo 'port = 8457' > /etc/almanac.conf; " + unit(
			"[Service]\nExecStart=/bin/true\n[Install]\nWantedBy=multi-user.target\n",
		) + "; systemctl enable -q almanac; systemctl start almanac; sleep 0.3",
		mend: "systemctl stop squatter; rm /etc/almanac.conf; systemctl disable -q almanac; " + noUnit,
		to:   "http://10.20.0.14:8457/",
		want: "service/port-taken likely",
		bits: "almanac.service, whose settings name port 8457 (/etc/almanac.conf), was started and does not run",
	},
	{
		name: "restarting",
		ruin: unit(
			"[Unit]\nStartLimitIntervalSec=0\n[Service]\nRestart=always\nRestartSec=200ms\nExecStart=/bin/sh -c " +
				"\"sleep 0.05; exit 1\"\n",
		),
		mend: noUnit,
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac"},
		want: "service/restarting proven",
		bits: "times so far",
	},
	{name: "starting", ruin: unit("[Service]\nExecStartPre=/bin/sleep 60\nExecStart=/bin/true\n"), mend: noUnit,
		to: "http://10.20.0.14:8457/", args: []string{"--unit", "almanac"}, want: "service/starting proven"},
	{
		name: "disk full",
		ruin: "mkdir -p /srv/full; mount -t tmpfs -o size=64k tmpfs /srv/full; " + unit(
			"[Service]\nExecStart=/bin/dd if=/dev/zero of=/srv/full/x bs=1k count=500\n",
		),
		mend: "umount /srv/full; " + noUnit,
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac"},
		want: "service/starved proven",
		bits: "No space left on device",
	},
	{
		name: "killed for memory",
		ruin: "mkdir -p /mnt/memory; mount -t cgroup -o memory memory /mnt/memory; mkdir /mnt/memory/uakari-$$; ln " +
			"-sfn /mnt/memory/uakari-$$ /mnt/tide; echo 16M > /mnt/tide/memory.limit_in_bytes; " +
			"echo 16M > /mnt/tide/memory.memsw.limit_in_bytes; " + unit(
			"[Service]\nExecStart=/usr/bin/perl /root/odd.pl hungry\n",
		),
		mend: noUnit + "; rmdir $(readlink /mnt/tide); umount /mnt/memory",
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac"},
		want: "service/starved proven",
		bits: "was killed for want of memory",
	},
	// The kernel here has no policy of its own to refuse by: its line is written into its log.
	{
		name: "refused by the system's policy",
		ruin: strings.ReplaceAll(unit("[Service]\nExecStart=/bin/sh -c \"exit 13\"\n"), "almanac", shoal) +
			`; echo '<5>audit: type=1400 audit('$(date +%s)'.000:62): apparmor="DENIED" operation="open" profile="` +
			shoal + `" name="/srv/tide" comm="` + shoal +
			`" requested_mask="r" denied_mask="r"' > /dev/kmsg; sleep 0.3`,
		mend: strings.ReplaceAll(
			noUnit,
			"almanac",
			shoal,
		),
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", shoal},
		want: "service/policy-denied proven",
		bits: "was refused by the system's policy",
	},
	{
		name: "accepts nobody",
		ruin: "systemd-run -q --unit=almanac /usr/bin/perl /root/odd.pl mute; sleep 0.5",
		mend: "systemctl stop almanac",
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac", "--deadline", "8s"},
		want: "service/hung proven",
		bits: "takes no connections",
	},
	{
		name: "descriptors used up",
		ruin: "systemd-run -q -p LimitNOFILE=16 --unit=almanac /usr/bin/perl /root/odd.pl full; sleep 0.5",
		mend: "systemctl stop almanac",
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac", "--deadline", "8s"},
		want: "service/starved proven",
		bits: "16 files open",
	},
	{
		name: "zombie",
		ruin: "systemd-run -q --unit=squatter /usr/bin/perl /root/odd.pl zombie; sleep 0.5",
		mend: "systemctl stop squatter",
		to:   "http://10.20.0.14:8457/",
		args: []string{"--card", "CARD tidegate"},
		want: "service/zombie proven",
		bits: "it is a zombie",
	},
	{
		name: "another address",
		ruin: "ip addr add 10.20.0.15/24 dev eth0; " + strings.Replace(listenOn, "%s", "10.20.0.15:80", 1),
		mend: restoreSite + "; ip addr del 10.20.0.15/24 dev eth0",
		want: "ports/other-address proven",
	},
	{
		name: "queue full",
		ruin: "systemd-run -q --unit=almanac /usr/bin/perl /root/odd.pl stuffed; sleep 2.5",
		mend: "systemctl stop almanac",
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac"},
		want: "ports/queue-full proven",
		bits: "waiting to be accepted",
	},
	{
		name: "the unit's own address list",
		ruin: "mkdir -p /etc/systemd/system/nginx.service.d; printf '[Service]\\nIPAddressDeny=any\\n' > " +
			"/etc/systemd/system/nginx.service.d/x.conf; systemctl daemon-reload; systemctl restart nginx",
		mend: "rm -r /etc/systemd/system/nginx.service.d; systemctl daemon-reload; systemctl restart nginx",
		want: "rules/unit-list proven",
		bits: "0.0.0.0/0 denies 10.20.7.31",
	},
	{
		name: "a rule that drops",
		ruin: "iptables-nft -A INPUT -s 10.20.7.0/24 -p tcp --dport 80 -j DROP",
		mend: "iptables-nft -F",
		want: "rules/server-drop proven",
		bits: "chain INPUT, rule 1",
	},
	{
		name: "a rule that refuses",
		ruin: "nft 'table inet f { chain c { type filter hook input priority 0; tcp dport 80 reject with tcp reset; " +
			"}; }'",
		mend: "nft delete table inet f",
		want: "rules/server-reject proven",
		bits: "tcp dport 80 reject with tcp reset",
	},
	{
		name: "nginx's own list",
		ruin: "sed -i 's/server_name _;/server_name _; deny 10.20.7.0\\/24;/' /etc/nginx/sites-enabled/default; " +
			"systemctl restart nginx",
		mend: restoreSite,
		want: "rules/not-on-list proven",
		bits: "deny 10.20.7.0/24",
	},
	{
		name: "a key that does not belong",
		ruin: secureSite + "cp /root/other.key /etc/nginx/tide.key; systemctl restart nginx || true",
		mend: restoreSite,
		to:   "https://10.20.0.14/",
		want: "certs/key-mismatch proven",
		bits: "/etc/nginx/tide.key does not belong to the certificate /etc/nginx/tide.crt",
	},
	{
		name: "no certificate file",
		ruin: secureSite + "rm /etc/nginx/tide.crt; systemctl restart nginx || true",
		mend: restoreSite,
		to:   "https://10.20.0.14/",
		want: "certs/store-unreadable proven",
		bits: "there is no file /etc/nginx/tide.crt",
	},
	{
		name: "sshd's own list",
		ruin: "useradd tide; echo 'AllowUsers root tide@10.20.9.*' > /etc/ssh/sshd_config.d/tide.conf; systemctl " +
			"reload ssh; sleep 0.3",
		mend: "rm /etc/ssh/sshd_config.d/tide.conf; userdel tide; systemctl reload ssh; sleep 0.3",
		to:   "ssh://10.20.0.14",
		args: []string{"--user", "tide"},
		want: "login/not-from-here proven",
		bits: "/etc/ssh/sshd_config.d/tide.conf, line 1 (allowusers root tide@10.20.9.*) lets tide in from elsewhere",
	},
	{
		name: "a list by name",
		ruin: "echo nameserver 10.20.0.1 > /etc/resolv.conf; useradd tide; printf 'UseDNS yes\\nAllowUsers root " +
			"tide@" + clientName +
			".varzea.example\\n' > /etc/ssh/sshd_config.d/tide.conf; systemctl reload ssh; sleep 0.3",
		mend: ": > /etc/resolv.conf; rm /etc/ssh/sshd_config.d/tide.conf; userdel tide; systemctl reload ssh; sleep " +
			"0.3",
		to:   "ssh://10.20.0.14",
		args: []string{"--user", "tide"},
		want: "names/reverse-differs proven",
		bits: "lets " + clientName + ".varzea.example in by name",
	},
	{
		name: "two faults at once",
		ruin: "systemctl stop nginx; iptables-nft -A INPUT -p tcp --dport 80 -j DROP",
		mend: "iptables-nft -F; systemctl start nginx",
		want: "rules/server-drop proven, service/stopped proven",
		bits: "chain INPUT, rule 1",
	},
	{
		name: "not installed",
		ruin: "true",
		mend: "true",
		to:   "http://10.20.0.14:8457/",
		args: []string{"--unit", "almanac"},
		want: "service/not-installed proven",
	},
}

// TestServiceCauses breaks a host with real systemd in every way and looks at
// it over SSH, from a client that knows nothing.
func TestServiceCauses(t *testing.T) {
	t.Parallel()
	h, key := sshHost(t)
	// Its resolver knows no name of any address.
	h.background(
		h.router,
		needs(t, "dnsmasq-base", "/usr/sbin/dnsmasq")[0],
		"-d",
		"-C",
		"/dev/null",
		"--listen-address=10.20.0.1",
		"--bind-interfaces",
		"--no-resolv",
		"--no-hosts",
		"--bogus-priv",
		"--user=root",
		"--pid-file=",
	)
	at := []string{"--at", "root@10.20.0.14", "--identity", key, "--wait", "2s"}
	h.do("cp /etc/nginx/sites-available/default /root/site")
	h.put("/root/hello.pl", helloProgram)
	h.put("/root/odd.pl", oddProgram)
	m := newMaker(t)
	leaf, leafKey := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "tidebook"}, IPAddresses: []net.IP{{10, 20, 0, 14}}},
		m.cert,
		m.key,
	)
	h.put("/root/tide.crt", pemOf(leaf))
	h.put("/root/tide.key", keyPEM(t, leafKey))
	h.put("/root/other.key", keyPEM(t, m.key))
	const portal = "http://10.20.0.14/"
	healthy := func(t *testing.T) {
		t.Helper()
		expectHealthy(t, traced(t, h.from(), append(at, portal)...))
	}
	healthy(t)
	for _, f := range faults {
		t.Run(f.name, func(t *testing.T) {
			h.t = t
			h.do(f.ruin)
			to := portal
			if f.to != "" {
				to = f.to
			}
			args := append([]string{}, f.args...)
			for i, arg := range args {
				if program, ok := strings.CutPrefix(arg, "CARD "); ok {
					args[i] = cardFor(t, program)
				}
			}
			judged := traced(t, h.from(), append(append(append([]string{}, at...), args...), to)...)
			expect(t, judged, f.want)
			if len(judged.Causes) > 0 && !strings.Contains(judged.Causes[0].Summary, f.bits) {
				t.Errorf("summary %q lacks %q", judged.Causes[0].Summary, f.bits)
			}
			for _, c := range judged.Blocking() {
				if len(c.Remedies) == 0 ||
					c.Remedies[0].Host != "tidebook" && c.ID != "ports/moved" && c.ID != "names/reverse-differs" {
					t.Errorf("remedies %+v", c.Remedies)
				}
			}
			if len(f.args) == 0 || f.args[0] == "--unit" {
				h.recorded(t, f, to, judged)
			}
			h.do(f.mend)
		})
	}
	h.t = t
	time.Sleep(300 * time.Millisecond)
	healthy(t)
	t.Run("not enabled is a doubt", func(t *testing.T) {
		h.do("systemctl disable nginx")
		judged := traced(t, h.from(), append(at, portal)...)
		if judged.Outcome != trail.OutcomeClear || len(judged.Causes) != 1 ||
			judged.Causes[0].ID != "service/not-enabled" {
			t.Errorf("%s", dump(judged))
		}
		h.do("systemctl enable nginx")
	})
	t.Run("some of the card's ports are closed, and its log stands still", func(t *testing.T) {
		h.do("touch -d '1 hour ago' /var/log/tide.log")
		card := write(
			t,
			filepath.Join(t.TempDir(), "card.yaml"),
			"format: uakari.card/1\nname: tidebook\nunit: nginx.service\nprogram: nginx\nports: [80, 8099]\nlog: "+
				"/var/log/tide.log\nfresh: 10m\n",
		)
		judged := traced(t, h.from(), append(at, "--card", card, portal)...)
		var ids []string
		for _, c := range judged.Causes {
			ids = append(ids, c.ID+" "+string(c.Certainty))
		}
		if judged.Outcome != trail.OutcomeClear ||
			strings.Join(ids, ", ") != "service/stale-log proven, ports/some-missing proven" {
			t.Errorf("got %q\n%s", ids, dump(judged))
		}
	})
	t.Run("a socket unit holds the port for an inactive service", func(t *testing.T) {
		h.do("systemctl stop ssh; systemctl start ssh.socket")
		expectHealthy(t, traced(t, h.from(), append(at, "ssh://10.20.0.14")...))
		h.do("systemctl stop ssh.socket; systemctl start ssh")
	})
	t.Run("a container's published port", func(t *testing.T) { published(t, h, at) })
	t.Run("a record, carried over", func(t *testing.T) { carried(t, h) })
	t.Run("over there", func(t *testing.T) { overThere(t, h, key) })
}

// recorded sees that a record of the same fault leads to the same causes. None
// is proven, where nobody compared the clocks.
func (h *fullHost) recorded(t *testing.T, f fault, to string, live trail.Trail) {
	t.Helper()
	args := append([]string{"record", "--wait", "2s", "--for", to, "-o", "-"}, f.args...)
	r := runWords(t, append(append(h.enter(), "/usr/local/bin/uakari"), args...))
	if r.status != 0 && r.status != 3 { // its deadline may come first
		t.Fatalf("%+v", r)
	}
	file := write(t, filepath.Join(t.TempDir(), "tidebook.json"), r.stdout)
	judged := traced(t, h.from(), append(append([]string{"--wait", "2s"}, f.args...), "--record", file, to)...)
	var was, now []string
	for _, c := range live.Blocking() {
		was = append(was, c.ID)
	}
	for _, c := range judged.Blocking() {
		now = append(now, c.ID)
	}
	if strings.Join(was, " ") != strings.Join(now, " ") {
		t.Errorf("by its record: %q, live: %q\n%s", now, was, dump(judged))
	}
}

// sshHost is a full host with this program on it, and a key to log in with.
func sshHost(t *testing.T) (*fullHost, string) {
	t.Helper()
	return hostOver(t, labRoot)
}

// hostOver is such a host over a root of one's choice.
func hostOver(t *testing.T, root func() (string, error)) (*fullHost, string) {
	t.Helper()
	needs(t, "openssh-client", "/usr/bin/ssh-keygen", "/usr/bin/ssh-keyscan")
	h := bootOver(t, root)
	dir := t.TempDir()
	key := filepath.Join(dir, "key")
	if out, err := exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f",
		key).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	public, err := os.ReadFile(key + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	h.put("/root/.ssh/authorized_keys", string(public))
	h.do("chmod 700 /root/.ssh; chmod 600 /root/.ssh/authorized_keys")
	h.install()
	known, err := exec.Command("ip", "netns", "exec", h.client, "ssh-keyscan", "-t", "ed25519", "10.20.0.14").Output()
	if err != nil {
		t.Fatal(err)
	}
	h.home = dir
	if err := os.Mkdir(filepath.Join(dir, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, ".ssh", "known_hosts"), string(known))
	return h, key
}

// carried weighs a record that was made on the host.
func carried(t *testing.T, h *fullHost) {
	h.t = t
	h.do("systemctl stop nginx")
	r := runWords(t, append(h.enter(), "/usr/local/bin/uakari", "record", "--for", "http://10.20.0.14/", "-o", "-"))
	h.do("systemctl start nginx")
	if r.status != 0 {
		t.Fatalf("%+v", r)
	}
	validate(t, "host", []byte(r.stdout))
	file := write(t, filepath.Join(t.TempDir(), "tidebook.json"), r.stdout)
	h.do("systemctl stop nginx")
	// The server's clock cannot be compared while nothing answers there.
	expect(t, traced(t, h.from(), "--record", file, "http://10.20.0.14/"), "service/stopped likely")
	h.do("systemctl start nginx; sleep 0.3")
	// What the record says was then, and the client gets through now.
	judged := traced(t, h.from(), "--record", "server="+file, "http://10.20.0.14/")
	if judged.Outcome != trail.OutcomeClear {
		t.Errorf("%s", dump(judged))
	}
	h.do("ip link set eth0 down")
	down := runWords(t, append(h.enter(), "/usr/local/bin/uakari", "record", "--for", "http://10.20.0.14/", "-o", "-"))
	// Nobody compared the clocks, for nothing answers.
	expect(
		t,
		traced(
			t,
			h.from(),
			"--wait",
			"4s",
			"--record",
			write(t, filepath.Join(t.TempDir(), "down.json"), down.stdout),
			"http://10.20.0.14/",
		),
		"service/address-missing likely",
	)
	h.do("ip link set eth0 up; ip route add default via 10.20.0.1")
	cut := write(t, filepath.Join(t.TempDir(), "cut.json"), r.stdout[:len(r.stdout)/2])
	if r := run(t, "trace", "--record", cut, "http://10.20.0.14/"); r.status != 2 ||
		strings.Count(r.stderr, "\n") != 1 ||
		!strings.Contains(r.stderr, "cut.json:") {
		t.Errorf("a cut-off record: %+v", r)
	}
}

// overThere is the ways to run over there, and what can go wrong with them.
func overThere(t *testing.T, h *fullHost, key string) {
	h.t = t
	at := []string{"trace", "--at", "root@10.20.0.14", "--identity", key}
	// The client may be over there too: nobody looks from here.
	h.web(h.client, "10.20.7.31:8080")
	judged := traced(t, h.as(h.router), "--at", "client=root@10.20.0.14", "--identity", key, "http://10.20.7.31:8080/")
	if judged.Outcome != trail.OutcomeClear || len(judged.Vantages) != 1 || judged.Vantages[0].Host != "tidebook" {
		t.Errorf("%+v\n%s", judged.Vantages, dump(judged))
	}
	// Through a jump host, which has a key of its own and never sees the
	// password: the host itself is the way there.
	h.do(
		"echo root:tide-and-ebb | chpasswd; printf 'PermitRootLogin yes\\nPasswordAuthentication yes\\n' > " +
			"/etc/ssh/sshd_config.d/lab.conf; systemctl restart ssh",
	)
	home := h.home
	known, err := os.ReadFile(filepath.Join(home, ".ssh", "known_hosts"))
	if err != nil {
		t.Fatal(err)
	}
	write(
		t,
		filepath.Join(home, ".ssh", "known_hosts"),
		string(known)+strings.Replace(string(known), "10.20.0.14", "127.0.0.1", 1),
	)
	write(
		t,
		filepath.Join(home, ".ssh", "config"),
		"Host inner\n  HostName 127.0.0.1\n  ProxyJump root@10.20.0.14\n  User root\nHost 10.20.0.14\n  "+
			"IdentityFile "+key+"\n",
	)
	secret := write(t, filepath.Join(t.TempDir(), "secret"), "tide-and-ebb\n")
	far := runIn(t, h.from(), "trace", "--json", "--at", "inner", "--secret", "file:"+secret, "http://10.20.0.14/")
	if far.stdout == "" {
		t.Fatalf("nothing is told: %+v", far)
	}
	expectHealthy(t, readTrail(t, far.stdout))
	wrong := runIn(t, h.from(), "trace", "--at", "inner", "--secret", "env:TIDE", "http://10.20.0.14/")
	if wrong.status != 2 || !strings.Contains(wrong.stderr, "the environment has no TIDE") ||
		strings.Contains(far.stdout+far.stderr+wrong.stderr, "tide-and-ebb") {
		t.Errorf("%+v", wrong)
	}
	h.do("rm /usr/local/bin/uakari")
	cutOff(t, h, key)
	fails := func(what, want string, args ...string) {
		t.Helper()
		r := runIn(t, h.from(), append(args, "http://10.20.0.14/")...)
		if r.status != 2 || !strings.Contains(r.stderr, want) || strings.Count(r.stderr, "\n") != 1 {
			t.Errorf("%s: status %d, %q; want %q", what, r.status, r.stderr, want)
		}
	}
	fails("no program there", "--lend copies this one over", at...)
	expectHealthy(t, traced(t, h.from(), append(at[1:], "--lend", "http://10.20.0.14/")...))
	if out, err := h.command("sh", "-c", "ls -d /tmp/tmp.* 2>/dev/null | wc -l").Output(); err != nil ||
		strings.TrimSpace(string(out)) != "0" {
		t.Errorf("what was lent is still there: %s folders, %v", out, err)
	}
	h.do(
		"useradd -m -s /bin/bash ana; mkdir /home/ana/.ssh; cp /root/.ssh/authorized_keys /home/ana/.ssh/; chown -R " +
			"ana /home/ana/.ssh",
	)
	ana := []string{"trace", "--at", "ana@10.20.0.14", "--identity", key, "--lend"}
	fails("sudo refuses", "sudo refuses", append(ana, "--as-root")...)
	h.do("echo 'ana ALL=(ALL) NOPASSWD: ALL' > /etc/sudoers.d/ana")
	expectHealthy(t, traced(t, h.from(), append(ana[1:], "--as-root", "http://10.20.0.14/")...))
	// As an ordinary user it works and sees less.
	judged = traced(t, h.from(), append(ana[1:], "http://10.20.0.14/")...)
	if judged.Outcome != trail.OutcomeClear {
		t.Errorf("%s", dump(judged))
	}
	h.put("/usr/local/bin/uname", "#!/bin/sh\necho Linux riscv64\n")
	h.do("chmod 755 /usr/local/bin/uname")
	fails("another machine", "there it is Linux riscv64", append(at, "--lend")...)
	fails("no program", "is no Linux program of x86_64 or aarch64", append(at, "--lend="+key)...)
	h.do("rm /usr/local/bin/uname")
	fails("nobody listens for SSH", "if SSH itself is broken", "trace", "--at", "root@10.20.0.1", "--identity", key)
	fails("a key that is not accepted", "unable to authenticate", "trace", "--at", "nobody@10.20.0.14", "--identity",
		key)
	h.do(
		"rm /etc/ssh/ssh_host_ed25519_key*; ssh-keygen -q -t ed25519 -N '' -f /etc/ssh/ssh_host_ed25519_key; " +
			"systemctl restart ssh",
	)
	fails("the host key has changed", "has changed", at...)
	write(t, filepath.Join(h.home, ".ssh", "known_hosts"), "")
	fails("the host key is not known", "is not known; compare", at...)
}

// cutOff cuts the connection in the middle of a run. The run goes on with what
// it has, and what was lent does not stay.
func cutOff(t *testing.T, h *fullHost, key string) {
	t.Helper()
	h.do("pkill -STOP nginx")
	defer h.do("pkill -CONT nginx")
	cmd := exec.Command(
		"ip",
		append(
			h.from()[1:],
			program,
			"trace",
			"--lend",
			"--at",
			"root@10.20.0.14",
			"--identity",
			key,
			"--deadline",
			"8s",
			"--json",
			"http://10.20.0.14/",
		)...)
	out := &strings.Builder{}
	cmd.Stdout = out
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * time.Second)
	h.do("pkill -f '[s]shd: root@notty'")
	began := time.Now()
	cmd.Wait()
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("went on for %s after the connection was cut", took)
	}
	judged := readTrail(t, out.String())
	if judged.Reached != trail.No && judged.Reached != trail.Unknown {
		t.Errorf("%s", dump(judged))
	}
	time.Sleep(500 * time.Millisecond)
	if list, err := h.command("sh", "-c", "ls -d /tmp/tmp.* 2>/dev/null; pgrep -x uakari").Output(); err == nil ||
		len(list) > 0 {
		t.Errorf("still there after the connection was cut: %s", list)
	}
}

// published leads a port of the host into a namespace behind it, as container
// engines do, and sees that this is healthy.
func published(t *testing.T, h *fullHost, at []string) {
	h.t = t
	box := h.server + "-box"
	h.sh("ip netns add " + box)
	defer exec.Command("ip", "netns", "del", box).Run()
	h.sh("ip link add box0 netns " + h.server + " type veth peer name eth0 netns " + box)
	for _, line := range []string{
		"-n " + h.server + " addr add 10.30.0.1/24 dev box0", "-n " + h.server + " link set box0 up",
		"-n " + box + " addr add 10.30.0.2/24 dev eth0", "-n " + box + " link set eth0 up",
		"-n " + box + " link set lo up",
		"-n " + box + " route add default via 10.30.0.1",
	} {
		h.sh("ip " + line)
	}
	h.in(h.server, "sysctl -qw net.ipv4.ip_forward=1")
	h.web(box, "10.30.0.2:80")
	h.filter(
		h.server,
		"table ip box { chain c { type nat hook prerouting priority -100; tcp dport 8090 dnat to 10.30.0.2:80; }\n}",
	)
	expectHealthy(t, traced(t, h.from(), append(at, "http://10.20.0.14:8090/")...))
	h.in(h.server, "nft delete table ip box")
}
