package test

import (
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// TestPortMapper asks a real mapper of ONC RPC, and follows it to a real file
// server behind it.
func TestPortMapper(t *testing.T) {
	t.Parallel()
	mapper := needs(t, "rpcbind", "/sbin/rpcbind")[0]
	files := needs(t, "nfs-ganesha nfs-ganesha-vfs", "/usr/bin/ganesha.nfsd")[0]
	l := newLab(t)
	start(t, "10.20.0.14:111", enter(l.server), mapper, "-f", "-i")
	expectHealthy(t, traced(t, enter(l.client), "rpc://10.20.0.14/portmapper"))
	expect(t, traced(t, enter(l.client), "rpc://10.20.0.14/nfs"), "ports/dynamic-shut proven")
	listed := runIn(t, enter(l.client), "ports", "--mapper", "10.20.0.14")
	if listed.status != 0 || !strings.Contains(listed.stdout, "portmapper") {
		t.Errorf("%+v", listed)
	}

	dir := t.TempDir()
	for _, each := range []string{"export", "state"} {
		if err := os.Mkdir(filepath.Join(dir, each), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	conf := write(
		t,
		filepath.Join(dir, "conf"),
		fmt.Sprintf("NFS_CORE_PARAM { Protocols = 3, 4; MNT_Port = 20048; Enable_NLM = false; Enable_RQUOTA = "+
			"false; }\n"+
			"NFSv4 { RecoveryRoot = %[1]s/state; RecoveryBackend = fs; Graceless = true; }\n"+
			"EXPORT { Export_Id = 1; Path = %[1]s/export; Pseudo = /readings; Access_Type = RO; FSAL { Name = VFS; "+
			"} }\n", dir),
	)
	missed := traced(t, enter(l.client), "nfs://10.20.0.14/readings")
	if missed.Reached != trail.No {
		t.Errorf("nothing runs: %s", dump(missed))
	}
	start(
		t,
		"10.20.0.14:2049",
		enter(l.server),
		files,
		"-F",
		"-f",
		conf,
		"-L",
		dir+"/log",
		"-p",
		dir+"/pid",
		"-N",
		"EVENT",
	)
	expectHealthy(t, traced(t, enter(l.client), "nfs://10.20.0.14/readings"))
	expectHealthy(t, traced(t, enter(l.client), "rpc://10.20.0.14/mountd"))
	l.filter(l.server, "table inet f {\n chain in {\n type filter hook input priority 0\n tcp dport 20048 drop\n }\n}")
	expect(t, traced(t, enter(l.client), "rpc://10.20.0.14/mountd"), "ports/dynamic-shut proven")
}

// TestEndpointMapper asks a real mapper of DCE RPC.
func TestEndpointMapper(t *testing.T) {
	t.Parallel()
	mapper := needs(t, "samba", "/usr/libexec/samba/samba-dcerpcd")[0]
	l := newLab(t)
	if missed := traced(t, enter(l.client), "dcerpc://10.20.0.14/samr"); missed.Reached != trail.No {
		t.Errorf("nothing runs: %s", dump(missed))
	}
	dir, err := os.MkdirTemp("/var/tmp", "uakari-dce") // its path must be short, for sockets
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	conf := "[global]\nworkgroup = VARZEA\nnetbios name = LEDGER\nserver role = standalone server\nrpc start on " +
		"demand helpers = false\ndisable spoolss = yes\nprinting = bsd\nload printers = no\n" +
		"interfaces = 10.20.0.14\nbind interfaces only = yes\nlog file = " + dir + "/log\n"
	for _, each := range []string{"lock", "state", "cache", "pid", "private", "ncalrpc"} {
		if err := os.Mkdir(filepath.Join(dir, each), 0o755); err != nil {
			t.Fatal(err)
		}
		if each == "private" || each == "ncalrpc" {
			conf += each + " dir = " + filepath.Join(dir, each) + "\n"
			continue
		}
		conf += each + " directory = " + filepath.Join(dir, each) + "\n"
	}
	start(
		t,
		"10.20.0.14:135",
		enter(l.server),
		mapper,
		"--libexec-rpcds",
		"-F",
		"-s",
		write(t, filepath.Join(dir, "conf"), conf),
		"--no-process-group",
	)
	expectHealthy(t, traced(t, enter(l.client), "dcerpc://10.20.0.14/samr"))
	expect(t, traced(t, enter(l.client), "dcerpc://10.20.0.14/drsuapi"), "ports/dynamic-shut proven")
	listed := runIn(t, enter(l.client), "ports", "--mapper", "dcerpc://10.20.0.14")
	if listed.status != 0 || !strings.Contains(listed.stdout, "lsarpc") {
		t.Errorf("%+v", listed)
	}
	l.filter(
		l.server,
		"table inet f {\n chain in {\n type filter hook input priority 0\n tcp dport 49152-65535 drop\n }\n}",
	)
	shut := traced(t, enter(l.client), "dcerpc://10.20.0.14/samr")
	expect(t, shut, "ports/dynamic-shut proven")
	if !strings.Contains(shut.Causes[0].Remedies[0].Do, "49152-65535") {
		t.Errorf("the range is not named: %+v", shut.Causes[0].Remedies)
	}
}

// TestBroker asks a real message broker, in the clear and over TLS.
func TestBroker(t *testing.T) {
	t.Parallel()
	broker := needs(t, "rabbitmq-server", "/usr/lib/rabbitmq/bin/rabbitmq-server", "/usr/bin/epmd")
	m := newMaker(t)
	l := newLab(t)
	leaf, key := m.sign(
		&x509.Certificate{Subject: pkix.Name{CommonName: "ledger"}, DNSNames: []string{"ledger.varzea.example"}},
		m.cert,
		m.key,
	)
	root := write(t, filepath.Join(m.dir, "root.pem"), pemOf(m.cert))
	cert, private := write(
		t,
		filepath.Join(m.dir, "cert.pem"),
		pemOf(leaf),
	), write(
		t,
		filepath.Join(m.dir, "key.pem"),
		keyPEM(t, key),
	)
	hosts := write(t, filepath.Join(m.dir, "hosts"), "10.20.0.14 ledger.varzea.example\n")
	conf := write(
		t,
		filepath.Join(m.dir, "broker.conf"),
		fmt.Sprintf(
			"default_user = gauge\ndefault_pass = tide7\nlisteners.tcp.default = 5672\nlisteners.ssl.default = "+
				"5671\nssl_options.certfile = %s\nssl_options.keyfile = %s\nssl_options.verify = verify_none\n",
			cert,
			private,
		),
	)
	missed := traced(t, enter(l.client), "amqp://10.20.0.14")
	if missed.Reached != trail.No {
		t.Errorf("nothing runs: %s", dump(missed))
	}
	l.background(l.server, broker[1])
	words := []string{
		"env",
		"HOME=" + m.dir,
		"RABBITMQ_NODENAME=gauge@localhost",
		"RABBITMQ_ENABLED_PLUGINS_FILE=" + m.dir + "/plugins",
		"RABBITMQ_CONFIG_FILE=" + conf,
	}
	for _, each := range []string{"MNESIA", "LOG"} {
		words = append(words, fmt.Sprintf("RABBITMQ_%s_BASE=%s/%s", each, m.dir, strings.ToLower(each)))
	}
	start(t, "10.20.0.14:5672", enter(l.server), append(words, broker[0])...)
	for _, scheme := range []string{"amqp", "amqps"} {
		well := traced(t, enter(l.client), "--hosts", hosts, "--trust", root, scheme+"://ledger.varzea.example")
		if well.Outcome != trail.OutcomeClear || rung(well, trail.Answer).State != trail.Clear {
			t.Errorf("%s: %s", scheme, dump(well))
		}
	}
	right, wrong := write(
		t,
		filepath.Join(m.dir, "right"),
		"tide7",
	), write(
		t,
		filepath.Join(m.dir, "wrong"),
		"canary-7f3a",
	)
	for _, c := range []struct{ host, secret, want string }{
		{"/%2F", right, ""}, {"/%2F", wrong, "login/rejected likely"},
		{"/floods", right, "login/no-such-resource proven"},
	} {
		judged := traced(
			t,
			enter(l.client),
			"--hosts",
			hosts,
			"--trust",
			root,
			"--user",
			"gauge",
			"--secret",
			"file:"+c.secret,
			"amqps://ledger.varzea.example"+c.host,
		)
		if c.want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, c.want)
		}
	}
}

// TestShares signs in at a real file server, which says by codes what it has
// against an account.
func TestShares(t *testing.T) {
	t.Parallel()
	found := needs(t, "samba samba-common-bin", "/usr/sbin/smbd", "/usr/bin/smbpasswd", "/usr/bin/pdbedit")
	l := newLab(t)
	dir := shortDir(t)
	conf := "[global]\nworkgroup = VARZEA\nnetbios name = LEDGER\nserver role = standalone server\ndisable spoolss " +
		"= yes\nprinting = bsd\nload printers = no\nsmb ports = 445\n" +
		"interfaces = 10.20.0.14\nbind interfaces only = yes\nlog file = " + dir + "/log\n map to guest = never\n"
	for _, each := range []string{"lock", "state", "cache", "pid"} {
		conf += each + " directory = " + filepath.Join(dir, each) + "\n"
	}
	for _, each := range []string{"private", "ncalrpc"} {
		conf += each + " dir = " + filepath.Join(dir, each) + "\n"
	}
	for _, each := range []string{"lock", "state", "cache", "pid", "private", "ncalrpc", "tides"} {
		if err := os.Mkdir(filepath.Join(dir, each), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	conf += "[tides]\npath = " + dir + "/tides\n[closed]\npath = " + dir + "/tides\nvalid users = root\n"
	settings := write(t, filepath.Join(dir, "conf"), conf)
	// Accounts that every Debian has stand in for people.
	for _, name := range []string{"games", "news", "man"} {
		must(t, "tide7\ntide7\n", found[1], "-c", settings, "-s", "-a", name)
	}
	must(t, "", found[1], "-c", settings, "-d", "news")
	if missed := traced(t, enter(l.client), "smb://10.20.0.14/tides"); missed.Reached != trail.No {
		t.Errorf("nothing runs: %s", dump(missed))
	}
	start(t, "10.20.0.14:445", enter(l.server), found[0], "-F", "--no-process-group", "-s", settings)
	expectHealthy(t, traced(t, enter(l.client), "smb://10.20.0.14/tides"))
	right, wrong := write(t, filepath.Join(dir, "right"), "tide7"),
		write(t, filepath.Join(dir, "wrong"), "canary-7f3a")
	for _, c := range []struct{ user, secret, share, want string }{
		{"games", right, "tides", ""},
		{`VARZEA\games`, right, "", ""},
		{"games", wrong, "tides", "login/rejected likely"},
		{"news", right, "tides", "login/disabled proven"},
		{"games", right, "floods", "login/no-such-resource proven"},
		{"games", right, "closed", "login/no-right proven"},
	} {
		judged := traced(t, enter(l.client), "--user", c.user, "--secret", "file:"+c.secret,
			"smb://10.20.0.14/"+c.share)
		if c.want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, c.want)
		}
		if strings.Contains(dump(judged), "canary-7f3a") {
			t.Error("the secret is told")
		}
	}
}
