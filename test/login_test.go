package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"uakari/internal/trail"
)

// TestLoginReasons lets a real sshd refuse accounts, each for its own reason,
// which only its log tells.
func TestLoginReasons(t *testing.T) {
	t.Parallel()
	h, key := sshHost(t)
	h.do(
		"useradd -m -s /bin/sh gauge; echo gauge:tide7 | chpasswd; useradd -m -s /bin/sh ended; echo ended:tide7 | " +
			"chpasswd; usermod -e 2020-01-01 ended; " +
			"useradd -m -s /bin/sh shut; echo shut:tide7 | chpasswd; passwd -l shut; useradd -m -s /bin/sh keyless; " +
			"useradd -m -s /usr/sbin/nologin mute; echo mute:tide7 | chpasswd; useradd -m -s /bin/sh renew; echo " +
			"renew:tide7 | chpasswd; chage -d 0 renew; " +
			"useradd -m -s /bin/sh walled; echo walled:tide7 | chpasswd; sed -i '1i account required pam_access.so' " +
			"/etc/pam.d/sshd; echo '-:walled:10.20.7.' >> /etc/security/access.conf; " +
			"useradd -m -s /bin/sh barred; echo barred:tide7 | chpasswd; printf 'PasswordAuthentication " +
			"yes\\nKbdInteractiveAuthentication no\\nUsePAM yes\\nDenyUsers barred\\n' > " +
			"/etc/ssh/sshd_config.d/x.conf; systemctl restart ssh; sleep 1",
	)
	right := write(t, filepath.Join(t.TempDir(), "right"), "tide7")
	wrong := write(t, filepath.Join(t.TempDir(), "wrong"), "canary-7f3a")
	for _, c := range []struct{ user, secret, want string }{
		{"gauge", right, ""},
		{"gauge", wrong, "login/wrong-secret proven"},
		{"shut", right, "login/locked proven"},
		{"keyless", wrong, "login/mechanism-off proven"},
		{"mute", right, "login/disabled proven"},
		{"renew", right, "login/must-change proven"},
		{"nobody-here", wrong, "login/unknown-account proven"},
		{"ended", right, "login/account-expired proven"},
		{"barred", right, "login/no-right proven"},
		{"walled", right, "login/not-from-here proven"},
	} {
		h.t = t
		// The looks log in with the key, the one try with the password.
		judged := traced(
			t,
			h.from(),
			"--at",
			"root@10.20.0.14",
			"--identity",
			key,
			"--user",
			c.user,
			"--secret",
			"file:"+c.secret,
			"ssh://10.20.0.14",
		)
		if c.want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, c.want)
		}
		if strings.Contains(dump(judged), "canary-7f3a") {
			t.Error("the secret is told")
		}
	}
	keysOfAgent(t, h)
}

// keysOfAgent signs in with the keys of an agent, few and many, and with a key
// file that others may read.
func keysOfAgent(t *testing.T, h *fullHost) {
	needs(t, "openssh-client", "/usr/bin/ssh-agent", "/usr/bin/ssh-add")
	dir := shortDir(t)
	h.keys = filepath.Join(dir, "agent")
	agent := exec.Command("ssh-agent", "-D", "-a", h.keys)
	if err := agent.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { agent.Process.Kill(); agent.Wait() })
	var public []string
	for i := range 9 {
		key := filepath.Join(dir, fmt.Sprint("key", i))
		must(t, "", "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key)
		public = append(public, readFile(t, key+".pub"))
	}
	add := func(n ...int) {
		for range 100 {
			if exec.Command("env", "SSH_AUTH_SOCK="+h.keys, "ssh-add", "-q", "-D").Run() == nil {
				break
			}
			time.Sleep(20 * time.Millisecond)
		}
		for _, i := range n {
			must(t, "", "env", "SSH_AUTH_SOCK="+h.keys, "ssh-add", "-q", filepath.Join(dir, fmt.Sprint("key", i)))
		}
	}
	h.do("mkdir -p /home/gauge/.ssh")
	h.put("/home/gauge/.ssh/authorized_keys", public[8])
	h.do("chown -R gauge /home/gauge/.ssh; chmod 700 /home/gauge/.ssh; chmod 600 /home/gauge/.ssh/authorized_keys")
	login := func(more ...string) trail.Trail {
		return traced(t, h.from(), append(more, "--user", "gauge", "ssh://10.20.0.14")...)
	}
	add(0, 8)
	expect(t, login())
	add(0, 1, 2, 3, 4, 5, 6, 7, 8)
	expect(t, login(), "login/key-refused likely")
	record := filepath.Join(dir, "record.json")
	r := runWords(
		t,
		append(h.enter(), "/usr/local/bin/uakari", "record", "--for", "ssh://10.20.0.14", "--user", "gauge", "-o",
			"-"),
	)
	if r.status != 0 {
		t.Fatalf("%+v", r)
	}
	write(t, record, r.stdout)
	judged := login("--record", "server="+record)
	if text := dump(judged); !strings.Contains(text, "login/key-refused") || !strings.Contains(text, "number 9") {
		t.Errorf("by the record: %s", text)
	}
	add(0, 1)
	if text := dump(login("--record", "server="+record)); !strings.Contains(text, "none of the 2 keys of the agent") {
		t.Errorf("strangers only: %s", text)
	}
	right := filepath.Join(dir, "key8")
	expect(t, login("--identity", right))
	must(t, "", "chmod", "0644", right)
	expect(t, login("--identity", right), "login/key-too-open proven")
}

// TestLoginLocks counts failures against a lock: the last one that is left is
// never used up.
func TestLoginLocks(t *testing.T) {
	t.Parallel()
	h, key := sshHost(t)
	h.do(
		"useradd -m -s /bin/sh gauge; echo gauge:tide7 | chpasswd; printf 'PasswordAuthentication " +
			"yes\\nKbdInteractiveAuthentication no\\nUsePAM yes\\n' > /etc/ssh/sshd_config.d/x.conf; " +
			"sed -i '1i auth required pam_faillock.so preauth' /etc/pam.d/common-auth; " +
			"sed -i 's/^auth.*pam_deny.so/auth [default=die] pam_faillock.so authfail/' /etc/pam.d/common-auth; " +
			"systemctl restart ssh; sleep 1",
	)
	wrong := write(t, filepath.Join(t.TempDir(), "wrong"), "canary-7f3a")
	try := func() trail.Trail {
		return traced(
			t,
			h.from(),
			"--at",
			"root@10.20.0.14",
			"--identity",
			key,
			"--user",
			"gauge",
			"--secret",
			"file:"+wrong,
			"ssh://10.20.0.14",
		)
	}
	for range 2 {
		expect(t, try(), "login/wrong-secret proven")
	}
	for range 2 {
		judged := try()
		if f := rung(judged, trail.Login); f.State != trail.Unseen || !strings.Contains(f.Summary, "would lock it") {
			t.Error(dump(judged))
		}
	}
	h.do("dd if=/var/run/faillock/gauge of=/tmp/one bs=64 count=1; cat /tmp/one >> /var/run/faillock/gauge")
	expect(t, try(), "login/locked proven")
}

// TestMariaDB tries accounts at a real MariaDB.
func TestMariaDB(t *testing.T) {
	found := needs(t, "mariadb-server", "/usr/sbin/mariadbd", "/usr/bin/mariadb-install-db", "/usr/bin/mariadb")
	dir := t.TempDir()
	data := filepath.Join(dir, "data")
	port := freePort(t)
	settings := write(
		t,
		filepath.Join(dir, "my.cnf"),
		fmt.Sprintf(
			"[mysqld]\nuser=root\ndatadir=%[1]s/data\nsocket=%[1]s/s\nport=%[2]d\nbind-address=127.0.0.1\npid-file=%[1]s/pid\nlog_error=%[1]s/error.log\nlog_warnings=2\n",
			dir,
			port,
		),
	)
	if out, err := exec.Command(found[1], "--defaults-file="+settings, "--datadir="+data,
		"--auth-root-authentication-method=normal").CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, found[0], "--defaults-file="+settings)
	ask := exec.Command(
		found[2],
		"--no-defaults",
		"-u",
		"root",
		"-S",
		filepath.Join(dir, "s"),
		"-e",
		"create database tides; create user gauge@'%' identified by 'tide7'; grant all on tides.* to gauge@'%'; "+
			"create user far@'10.20.9.%' identified by 'tide7'; create user shut@'%' identified by 'tide7' account "+
			"lock; delete from mysql.global_priv where user=''; flush privileges;",
	)
	if out, err := ask.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	right, wrong := write(
		t,
		filepath.Join(dir, "right"),
		"tide7\n",
	), write(
		t,
		filepath.Join(dir, "wrong"),
		"canary-7f3a\n",
	)
	login := func(user, secret, database string) trail.Trail {
		return traced(
			t,
			nil,
			"--user",
			user,
			"--secret",
			"file:"+secret,
			fmt.Sprintf("mysql://127.0.0.1:%d/%s", port, database),
		)
	}
	t.Setenv("HOME", dir)
	if judged := login("gauge", right, "tides"); rung(judged, trail.Login).State != trail.Clear ||
		judged.Outcome != trail.OutcomeClear {
		t.Error(dump(judged))
	}
	expect(t, login("gauge", wrong, "tides"), "login/wrong-secret likely")
	expect(t, login("far", right, ""), "login/not-from-here proven")
	expect(t, login("nobody", right, ""), "login/unknown-account proven")
	expect(t, login("gauge", right, "floods"), "login/no-right proven")
	expect(t, login("shut", right, ""), "login/locked proven")
	for on, want := range map[string]string{"{may: SELECT, on: tides.levels}": "",
		"{may: SELECT, on: floods.levels}": "login/no-right proven", "{may: CREATE, on: schema tides}": ""} {
		card := write(
			t,
			filepath.Join(dir, "card.yaml"),
			"format: uakari.card/1\nname: ledger\nprogram: "+found[0]+"\naccount:\n  rights: ["+on+"]\n",
		)
		judged := traced(
			t,
			nil,
			"--card",
			card,
			"--user",
			"gauge",
			"--secret",
			"file:"+right,
			fmt.Sprintf("mysql://127.0.0.1:%d/tides", port),
		)
		if want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, want)
		}
	}
	write(t, filepath.Join(dir, ".my.cnf"), "[client]\nuser=gauge\npassword=canary-old\n")
	judged := login("gauge", right, "tides")
	expect(t, judged, "login/saved-secret proven")
	if strings.Contains(dump(judged), "canary-") {
		t.Error("a secret is told")
	}
	// The server's own count: each try is one.
	if log := readFile(t, filepath.Join(dir, "error.log")); strings.Count(log, "Access denied for user 'gauge'") != 2 {
		t.Errorf("its log:\n%s", log)
	}
}

// TestPathRights lets a real web server stop at one level of a path.
func TestPathRights(t *testing.T) {
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	dir := t.TempDir()
	deep := filepath.Join(dir, "srv", "tides", "today")
	if err := os.MkdirAll(deep, 0o755); err != nil {
		t.Fatal(err)
	}
	for level := deep; level != "/tmp"; level = filepath.Dir(level) {
		if err := os.Chmod(level, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	file := write(t, filepath.Join(deep, "level.txt"), "3.1")
	port := freePort(t)
	conf := write(
		t,
		filepath.Join(dir, "conf"),
		fmt.Sprintf(`daemon off; user www-data; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http {
  access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  server { listen 127.0.0.1:%[2]d; root %[1]s/srv; }
}`, dir, port),
	)
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, nginx, "-p", dir, "-c", conf)
	card := cardFor(t, nginx)
	ask := func() trail.Trail {
		return traced(t, nil, "--card", card, fmt.Sprintf("http://127.0.0.1:%d/tides/today/level.txt", port))
	}
	for _, c := range []struct {
		path string
		mode os.FileMode
		says string
	}{{file, 0o600, "read " + file}, {filepath.Dir(deep), 0o700, "enter " + filepath.Dir(deep)}} {
		if err := os.Chmod(file, 0o644); err != nil {
			t.Fatal(err)
		}
		if judged := ask(); judged.Outcome != trail.OutcomeClear {
			t.Error(dump(judged))
		}
		if err := os.Chmod(c.path, c.mode); err != nil {
			t.Fatal(err)
		}
		judged := ask()
		expect(t, judged, "login/path-right proven")
		if !strings.Contains(judged.Causes[0].Summary, "www-data may not "+c.says) ||
			len(judged.Causes[0].Remedies) == 0 ||
			!strings.Contains(judged.Causes[0].Remedies[0].Command, "chmod o+") {
			t.Errorf("%+v", judged.Causes[0])
		}
	}
}

// TestKerberos tries accounts at a real ticket server.
func TestKerberos(t *testing.T) {
	found := needs(t, "krb5-kdc krb5-admin-server", "/usr/sbin/krb5kdc", "/usr/sbin/kdb5_util",
		"/usr/sbin/kadmin.local")
	dir := t.TempDir()
	port := freePort(t)
	t.Setenv(
		"KRB5_CONFIG",
		write(
			t,
			filepath.Join(dir, "krb5.conf"),
			"[libdefaults]\n default_realm = VARZEA.EXAMPLE\n dns_lookup_kdc = false\n",
		),
	)
	t.Setenv(
		"KRB5_KDC_PROFILE",
		write(
			t,
			filepath.Join(dir, "kdc.conf"),
			fmt.Sprintf(
				"[kdcdefaults]\n kdc_listen = 127.0.0.1:%[2]d\n kdc_tcp_listen = 127.0.0.1:%[2]d\n[realms]\n "+
					"VARZEA.EXAMPLE = {\n  database_name = %[1]s/principal\n  key_stash_file = %[1]s/stash\n  "+
					"default_principal_flags = +preauth\n }\n",
				dir,
				port,
			),
		),
	)
	t.Setenv("KRB5_KTNAME", filepath.Join(dir, "keytab"))
	sh := func(words ...string) {
		t.Helper()
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Fatalf("%v: %v: %s", words, err, out)
		}
	}
	sh(found[1], "create", "-s", "-r", "VARZEA.EXAMPLE", "-P", "master")
	for _, q := range []string{"addprinc -pw tide7 gauge", "addprinc -pw tide7 -allow_tix shut",
		"addprinc -pw tide7 -expire 2020-01-01 ended", "addprinc -pw tide7 -pwexpire 2020-01-01 stale",
		"addprinc -randkey postgres/ledger.varzea.example", "ktadd postgres/ledger.varzea.example"} {
		sh(found[2], "-r", "VARZEA.EXAMPLE", "-q", q)
	}
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, found[0], "-n", "-r", "VARZEA.EXAMPLE")
	right, wrong := write(
		t,
		filepath.Join(dir, "right"),
		"tide7\n",
	), write(
		t,
		filepath.Join(dir, "wrong"),
		"canary-7f3a\n",
	)
	const service = "postgres/ledger.varzea.example"
	login := func(before []string, user, secret, service string) trail.Trail {
		return traced(
			t,
			before,
			"--user",
			user,
			"--secret",
			"file:"+secret,
			fmt.Sprintf("kerberos://127.0.0.1:%d/%s", port, service),
		)
	}
	expectHealthy(t, traced(t, nil, fmt.Sprintf("kerberos://127.0.0.1:%d", port)))
	if judged := login(nil, "gauge", right, service); rung(judged, trail.Login).State != trail.Clear ||
		judged.Outcome != trail.OutcomeClear {
		t.Error(dump(judged))
	}
	expect(t, login(nil, "gauge", wrong, ""), "login/wrong-secret proven")
	expect(t, login(nil, "nobody", wrong, ""), "login/unknown-account proven")
	expect(t, login(nil, "shut", right, ""), "login/locked likely")
	expect(t, login(nil, "ended", right, ""), "login/account-expired proven")
	expect(t, login(nil, "stale", right, ""), "login/secret-expired proven")
	expect(t, login(nil, "gauge", right, "postgres/tidebook.varzea.example"), "login/no-principal proven")
	// Without a secret: whether the account is known, and no more.
	known := func(user string) trail.Trail {
		return traced(t, nil, "--user", user, fmt.Sprintf("kerberos://127.0.0.1:%d", port))
	}
	expect(t, known("nobody"), "login/unknown-account proven")
	expect(t, known("ended"), "login/account-expired proven")
	if f := rung(known("gauge"), trail.Login); f.State != trail.Unseen ||
		!strings.Contains(f.Summary, "knows the account") {
		t.Errorf("%+v", f)
	}
	// A cache with a ticket by the key that was.
	tools := needs(t, "krb5-user", "/usr/bin/kinit", "/usr/bin/kvno")
	cache := filepath.Join(dir, "cache")
	t.Setenv("KRB5CCNAME", "FILE:"+cache)
	t.Setenv(
		"KRB5_CONFIG",
		write(
			t,
			filepath.Join(dir, "krb5.conf"),
			fmt.Sprintf(
				"[libdefaults]\n default_realm = VARZEA.EXAMPLE\n dns_lookup_kdc = false\n[realms]\n VARZEA.EXAMPLE "+
					"= {\n  kdc = 127.0.0.1:%d\n }\n",
				port,
			),
		),
	)
	must(t, "tide7\n", tools[0], "gauge")
	must(t, "", tools[1], service)
	expect(t, login(nil, "gauge", right, service))
	sh(found[2], "-r", "VARZEA.EXAMPLE", "-q", "cpw -randkey "+service)
	if text := dump(login(nil, "gauge", right, service)); !strings.Contains(text, "login/key-version proven true") ||
		!strings.Contains(text, "login/saved-secret proven true") {
		t.Error(text)
	}
	sh("rm", cache)
	expect(t, login(nil, "gauge", right, service), "login/key-version proven")
	// A ticket server whose clock is off.
	needs(t, "faketime", "/usr/bin/faketime")
	shifts, err := filepath.Glob("/usr/lib/*/faketime/libfaketime.so.1")
	if err != nil || len(shifts) == 0 {
		t.Fatalf("no library of faketime: %v", err)
	}
	off := freePort(t)
	t.Setenv(
		"KRB5_KDC_PROFILE",
		write(
			t,
			filepath.Join(dir, "off.conf"),
			strings.ReplaceAll(readFile(t, filepath.Join(dir, "kdc.conf")), fmt.Sprint(port), fmt.Sprint(off)),
		),
	)
	start(
		t,
		fmt.Sprintf("127.0.0.1:%d", off),
		nil,
		"/usr/bin/env",
		"LD_PRELOAD="+shifts[0],
		"FAKETIME=-20m",
		found[0],
		"-n",
		"-r",
		"VARZEA.EXAMPLE",
	)
	port = off
	judged := login(nil, "gauge", right, "")
	expect(t, judged, "login/clock-skew proven")
	if !strings.Contains(judged.Causes[0].Summary, "20 minutes ahead of") {
		t.Error(judged.Causes[0].Summary)
	}
}

// TestDirectory tries accounts at a real OpenLDAP with a password policy.
func TestDirectory(t *testing.T) {
	found := needs(t, "slapd ldap-utils", "/usr/sbin/slapd", "/usr/bin/ldapadd")
	dir := t.TempDir()
	port := freePort(t)
	if err := os.Mkdir(filepath.Join(dir, "db"), 0o700); err != nil {
		t.Fatal(err)
	}
	conf := write(t, filepath.Join(dir, "slapd.conf"), fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
pidfile %[1]s/pid
database mdb
suffix "dc=varzea,dc=example"
rootdn "cn=root,dc=varzea,dc=example"
rootpw tide-root
directory %[1]s/db
overlay ppolicy
ppolicy_default "cn=policy,dc=varzea,dc=example"
ppolicy_use_lockout
`, dir))
	start(
		t,
		fmt.Sprintf("127.0.0.1:%d", port),
		nil,
		found[0],
		"-d",
		"0",
		"-f",
		conf,
		"-h",
		fmt.Sprintf("ldap://127.0.0.1:%d", port),
	)
	entries := write(t, filepath.Join(dir, "entries"), `dn: dc=varzea,dc=example
objectClass: dcObject
objectClass: organization
o: Varzea
dc: varzea

dn: cn=policy,dc=varzea,dc=example
objectClass: device
objectClass: pwdPolicy
cn: policy
pwdAttribute: userPassword
pwdLockout: TRUE
pwdMaxFailure: 2
pwdMustChange: TRUE

dn: cn=gauge,dc=varzea,dc=example
objectClass: person
cn: gauge
sn: gauge
userPassword: tide7

dn: cn=fresh,dc=varzea,dc=example
objectClass: person
cn: fresh
sn: fresh
userPassword: tide7
pwdReset: TRUE
`)
	add := exec.Command(
		found[1],
		"-x",
		"-H",
		fmt.Sprintf("ldap://127.0.0.1:%d", port),
		"-D",
		"cn=root,dc=varzea,dc=example",
		"-w",
		"tide-root",
		"-f",
		entries,
	)
	if out, err := add.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	right, wrong := write(t, filepath.Join(dir, "right"), "tide7"),
		write(t, filepath.Join(dir, "wrong"), "canary-7f3a")
	login := func(name, secret string) trail.Trail {
		return traced(
			t,
			nil,
			"--in-the-clear",
			"--user",
			"cn="+name+",dc=varzea,dc=example",
			"--secret",
			"file:"+secret,
			fmt.Sprintf("ldap://127.0.0.1:%d", port),
		)
	}
	if judged := login("gauge", right); rung(judged, trail.Login).State != trail.Clear ||
		judged.Outcome != trail.OutcomeClear {
		t.Error(dump(judged))
	}
	searched := func(search string) trail.Trail {
		return traced(
			t,
			nil,
			"--in-the-clear",
			"--user",
			"cn=gauge,dc=varzea,dc=example",
			"--secret",
			"file:"+right,
			fmt.Sprintf("ldap://127.0.0.1:%d/%s", port, search),
		)
	}
	for search, want := range map[string]string{
		"dc=varzea,dc=example": "", "dc=varzea,dc=example??sub?(cn=gauge)": "",
		"dc=varzea,dc=example??one?(cn=fresh)":  "",
		"dc=varzea,dc=example??sub?(cn=nobody)": "login/no-right likely",
		"ou=floods,dc=varzea,dc=example":        "login/no-such-resource likely",
		"dc=varzea,dc=example??base?(cn=gauge)": "login/no-right likely",
	} {
		if judged := searched(search); want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, want)
		}
	}
	expect(t, login("fresh", right), "login/must-change proven")
	expect(t, login("nobody", right), "login/rejected likely")
	for range 2 {
		expect(t, login("gauge", wrong), "login/rejected likely") // each is one failure, of two that lock
	}
	expect(t, login("gauge", right), "login/locked proven")
}

// TestMailbox tries accounts at a real Dovecot, whose log says why.
func TestMailbox(t *testing.T) {
	t.Parallel()
	dovecot := needs(t, "dovecot-imapd", "/usr/sbin/dovecot")[0]
	dir, err := os.MkdirTemp("/var/tmp", "uakari-mail") // its path must be short, for sockets
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	port := freePort(t)
	users := write(t, filepath.Join(dir, "users"), "gauge:{PLAIN}tide7:::::\n")
	if err := os.Chmod(users, 0o644); err != nil {
		t.Fatal(err)
	}
	conf := write(t, filepath.Join(dir, "conf"), fmt.Sprintf(`base_dir = %[1]s/run
state_dir = %[1]s/state
log_path = %[1]s/log
auth_verbose = yes
auth_mechanisms = plain scram-sha-256
protocols = imap
ssl = no
disable_plaintext_auth = no
mail_location = maildir:%[1]s/mail/%%u
passdb {
  driver = passwd-file
  args = %[1]s/users
}
userdb {
  driver = static
  args = uid=mail gid=mail home=%[1]s/mail/%%u
}
service auth {
  unix_listener %[1]s/relay/spool/private/auth {
    mode = 0666
  }
}
service imap-login {
  inet_listener imap {
    address = 127.0.0.1
    port = %[2]d
  }
  inet_listener imaps {
    port = 0
  }
}
`, dir, port))
	// A relay asks it who may send, from its first connection on.
	relay, relayed := filepath.Join(dir, "relay"), freePort(t)
	if err := os.MkdirAll(filepath.Join(relay, "spool", "private"), 0o755); err != nil {
		t.Fatal(err)
	}
	must(t, "", "chown", "postfix", filepath.Join(relay, "spool", "private"))
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, dovecot, "-F", "-c", conf)
	postfix(
		t,
		needs(t, "postfix", "/usr/sbin/postfix", "/usr/lib/postfix/sbin/master"),
		relay,
		relayed,
		"smtpd_sasl_auth_enable = yes\nsmtpd_sasl_type = dovecot\nsmtpd_sasl_path = "+
			"private/auth\nsmtpd_sasl_security_options = noanonymous\n",
	)
	right, wrong := write(t, filepath.Join(dir, "right"), "tide7"),
		write(t, filepath.Join(dir, "wrong"), "canary-7f3a")
	login := func(user, secret string) trail.Trail {
		return traced(
			t,
			nil,
			"--in-the-clear",
			"--user",
			user,
			"--secret",
			"file:"+secret,
			"--card",
			cardFor(t, dovecot),
			fmt.Sprintf("imap://127.0.0.1:%d", port),
		)
	}
	if judged := traced(t, nil, fmt.Sprintf("imap://127.0.0.1:%d", port)); rung(
		judged,
		trail.Answer,
	).State != trail.Clear {
		t.Error(dump(judged))
	}
	if judged := login("gauge", right); !strings.Contains(rung(judged, trail.Login).Summary, "by SCRAM-SHA-256") ||
		rung(judged, trail.Login).State != trail.Clear {
		t.Error(dump(judged))
	}
	sending := func(secret string) trail.Trail {
		return traced(
			t,
			nil,
			"--in-the-clear",
			"--user",
			"gauge",
			"--secret",
			"file:"+secret,
			fmt.Sprintf("smtp://127.0.0.1:%d", relayed),
		)
	}
	if judged := sending(right); !strings.Contains(rung(judged, trail.Login).Summary, "by SCRAM-SHA-256") ||
		rung(judged, trail.Login).State != trail.Clear {
		t.Errorf("the relay: %s\n%s", dump(judged), readFile(t, filepath.Join(relay, "log")))
	}
	if judged := sending(wrong); rung(judged, trail.Login).State != trail.Fault {
		t.Errorf("the relay: %s", dump(judged))
	}
	for _, c := range []struct{ user, secret, want string }{{"gauge", wrong, "login/wrong-secret proven"},
		{"nobody-here", right, "login/unknown-account proven"}} {
		judged := login(c.user, c.secret)
		found := false
		for _, cause := range judged.Blocking() {
			found = found || cause.ID+" "+string(cause.Certainty) == c.want
		}
		if !found {
			t.Errorf("%s: %s", c.user, dump(judged))
		}
	}
	if log := readFile(t, filepath.Join(dir, "log")); strings.Count(log, "assword mismatch") != 2 {
		t.Errorf("its log:\n%s", log)
	}
}
