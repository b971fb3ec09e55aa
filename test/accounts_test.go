package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"uakari/internal/trail"
)

// shortDir is a folder whose path is short, for sockets, and that everybody
// may enter.
func shortDir(t *testing.T) string {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "uakari")
	if err == nil {
		err = os.Chmod(dir, 0o755)
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// must runs a command that has to succeed.
func must(t *testing.T, input string, words ...string) string {
	t.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Stdin = strings.NewReader(input)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("%v: %v: %s", words, err, out)
	}
	return string(out)
}

// cluster is a PostgreSQL of its own.
type cluster struct {
	dir, data string
	port      int
	as        []string // before a command: become its user
	psql      string
}

// newCluster makes one with a list of who may come in, and more settings.
func newCluster(t *testing.T, list string, settings ...string) cluster {
	t.Helper()
	found := needs(
		t,
		"postgresql",
		"/usr/lib/postgresql/*/bin/initdb",
		"/usr/lib/postgresql/*/bin/postgres",
		"/usr/lib/postgresql/*/bin/psql",
		"/usr/bin/setpriv",
	)
	c := cluster{
		dir:  shortDir(t),
		port: freePort(t),
		psql: found[2],
		as:   []string{found[3], "--reuid", "postgres", "--regid", "postgres", "--clear-groups"},
	}
	c.data = filepath.Join(c.dir, "data")
	must(t, "", "chown", "postgres", c.dir)
	must(t, "", append(c.as, found[0], "-D", c.data, "--no-sync", "-A", "peer")...)
	write(t, filepath.Join(c.data, "pg_hba.conf"), list)
	conf := filepath.Join(c.data, "postgresql.conf")
	write(t, conf, readFile(t, conf)+"\nlisten_addresses = '127.0.0.1'\n"+strings.Join(settings, "\n")+"\n")
	start(
		t,
		fmt.Sprintf("127.0.0.1:%d", c.port),
		nil,
		append(c.as, found[1], "-D", c.data, "-k", c.dir, "-p", fmt.Sprint(c.port))...)
	return c
}

func (c cluster) sql(t *testing.T, text string) {
	t.Helper()
	must(
		t,
		text,
		append(c.as, c.psql, "-q", "-v", "ON_ERROR_STOP=1", "-h", c.dir, "-p", fmt.Sprint(c.port), "-d",
			"postgres")...)
}

// TestRoles asks a real PostgreSQL, as its administrator, why it refuses.
func TestRoles(t *testing.T) {
	t.Parallel()
	c := newCluster(
		t,
		"local all all peer\nhost all gauge 127.0.0.1/32 scram-sha-256\nhost all all 127.0.0.1/32 scram-sha-256\n",
		"logging_collector=off",
		"log_min_messages=panic",
	)
	c.sql(
		t,
		`CREATE ROLE crew; CREATE ROLE watch; CREATE ROLE gauge LOGIN PASSWORD 'tide7' IN ROLE watch; GRANT crew TO watch;
CREATE ROLE ended LOGIN PASSWORD 'tide7' VALID UNTIL '2020-01-01'; CREATE ROLE bare LOGIN; CREATE ROLE "odd ' name" NOLOGIN PASSWORD 'tide7';
SET password_encryption = md5; CREATE ROLE oldkey LOGIN PASSWORD 'tide7'; CREATE ROLE one LOGIN PASSWORD 'tide7';
CREATE DATABASE tides; CREATE DATABASE shut; ALTER DATABASE shut ALLOW_CONNECTIONS false;`,
	)
	c.sql(t, `REVOKE CONNECT ON DATABASE tides FROM PUBLIC; GRANT CONNECT ON DATABASE tides TO gauge;`)
	right, wrong := write(
		t,
		filepath.Join(c.dir, "right"),
		"tide7",
	), write(
		t,
		filepath.Join(c.dir, "wrong"),
		"canary-7f3a",
	)
	card := func(groups string) string {
		return write(
			t,
			filepath.Join(t.TempDir(), "card.yaml"),
			"format: uakari.card/1\nname: ledger\nprogram: /usr/lib/postgresql/15/bin/postgres\naccount:\n  groups: "+
				"["+groups+"]\n",
		)
	}
	for _, a := range []struct{ user, secret, database, groups, want string }{
		{"gauge", right, "tides", "crew", ""}, // through another role
		{"gauge", right, "tides", "crew, keepers", "login/missing-group proven"},
		{"gauge", wrong, "tides", "", "login/wrong-secret likely"},
		{"ended", right, "postgres", "", "login/secret-expired proven"},
		{"bare", right, "postgres", "", "login/wrong-secret proven"},
		{"oldkey", right, "postgres", "", "login/mechanism-off proven"},
		{"nobody", right, "postgres", "", "login/unknown-account proven"},
		{"odd ' name", right, "postgres", "", "login/disabled proven"},
		{"ended", "", "postgres", "", "login/secret-expired proven"}, // no need of a try
		{"nobody", "", "postgres", "", "login/unknown-account proven"},
		{"oldkey", "", "tides", "", "login/no-right proven"},
		{"gauge", "", "shut", "", "login/closed-for-all proven"},
		{"gauge", "", "floods", "", "login/no-such-resource proven"},
	} {
		args := []string{
			"--card",
			card(a.groups),
			"--user",
			a.user,
			fmt.Sprintf("postgres://127.0.0.1:%d/%s", c.port, a.database),
		}
		if a.secret != "" {
			args = append([]string{"--secret", "file:" + a.secret}, args...)
		}
		judged := traced(t, nil, args...)
		if a.want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, a.want)
		}
		if text := dump(judged); strings.Contains(text, "canary-7f3a") || strings.Contains(text, "SCRAM-SHA-256$") {
			t.Error("a secret, or a hash, is told")
		}
	}
	c.sql(t, `\connect tides
CREATE SCHEMA readings; CREATE TABLE readings.levels (at timestamptz); CREATE TABLE readings.rain (at timestamptz); CREATE SCHEMA closed; CREATE TABLE closed.book (at timestamptz);
GRANT USAGE ON SCHEMA readings TO gauge; GRANT SELECT ON readings.levels TO gauge; GRANT SELECT ON closed.book TO gauge;`)
	secret := right
	for right, want := range map[string]string{
		"{may: select, on: readings.levels}": "", "{may: SELECT, on: readings.rain}": "login/no-right proven",
		"{may: INSERT, on: readings.levels}": "login/no-right proven",
		"{may: SELECT, on: closed.book}":     "login/no-right proven",
		"{may: SELECT, on: readings.snow}":   "login/no-such-resource proven",
		"{may: USAGE, on: schema floods}":    "login/no-such-resource proven",
		"{may: CONNECT, on: database tides}": "", "{may: CREATE, on: database tides}": "login/no-right proven",
	} {
		card := write(
			t,
			filepath.Join(t.TempDir(), "card.yaml"),
			"format: uakari.card/1\nname: ledger\nprogram: /usr/lib/postgresql/15/bin/postgres\naccount:\n  "+
				"rights:\n    - "+right+"\n",
		)
		judged := traced(
			t,
			nil,
			"--card",
			card,
			"--user",
			"gauge",
			"--secret",
			"file:"+secret,
			fmt.Sprintf("postgres://127.0.0.1:%d/tides", c.port),
		)
		if want == "" {
			expect(t, judged)
			continue
		}
		expect(t, judged, want)
		if strings.Contains(right, "closed") && !strings.Contains(dump(judged), "lacks USAGE on the schema closed") {
			t.Errorf("the level is not named: %s", dump(judged))
		}
	}
	// A record holds them all, and no hash.
	record := filepath.Join(c.dir, "record.json")
	if r := run(t, "record", "--for", fmt.Sprintf("postgres://127.0.0.1:%d/tides", c.port), "-o",
		record); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	text := readFile(t, record)
	if !strings.Contains(text, `"oldkey"`) || strings.Contains(text, "SCRAM-SHA-256$") ||
		strings.Contains(text, "md5"+"3") {
		t.Errorf("the record: %v", strings.Contains(text, `"oldkey"`))
	}
}

// TestEntries asks a real OpenLDAP, as root of its host, what it keeps of an
// account.
func TestEntries(t *testing.T) {
	t.Parallel()
	found := needs(t, "slapd ldap-utils", "/usr/sbin/slapd", "/usr/bin/ldapadd")
	dir, port := shortDir(t), freePort(t)
	must(t, "", "mkdir", filepath.Join(dir, "db"))
	conf := write(t, filepath.Join(dir, "slapd.conf"), fmt.Sprintf(`include /etc/ldap/schema/core.schema
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload ppolicy
pidfile %[1]s/pid
database mdb
suffix "dc=varzea,dc=example"
rootdn "gidNumber=0+uidNumber=0,cn=peercred,cn=external,cn=auth"
directory %[1]s/db
access to attrs=userPassword by anonymous auth by * none
access to * by users read by * none
overlay ppolicy
ppolicy_default "cn=policy,dc=varzea,dc=example"
`, dir))
	socket := "ldapi://" + strings.ReplaceAll(filepath.Join(dir, "ldapi"), "/", "%2F")
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
		fmt.Sprintf("ldap://127.0.0.1:%d %s", port, socket),
	)
	person := func(name, more string) string {
		return fmt.Sprintf(
			"dn: cn=%[1]s,dc=varzea,dc=example\nobjectClass: person\ncn: %[1]s\nsn: %[1]s\n%[2]s\n",
			name,
			more,
		)
	}
	group := func(name, member string) string {
		return fmt.Sprintf(
			"dn: cn=%[1]s,dc=varzea,dc=example\nobjectClass: groupOfNames\ncn: %[1]s\nmember: "+
				"cn=%[2]s,dc=varzea,dc=example\n\n",
			name,
			member,
		)
	}
	must(t, "dn: dc=varzea,dc=example\nobjectClass: dcObject\nobjectClass: organization\no: Varzea\ndc: varzea\n\n"+
		"dn: cn=policy,dc=varzea,dc=example\nobjectClass: device\nobjectClass: pwdPolicy\ncn: policy\npwdAttribute: "+
		"userPassword\npwdLockout: TRUE\npwdMaxFailure: 3\n\n"+
		person(
			"gauge",
			"userPassword: tide7\n",
		)+person("held", "userPassword: tide7\npwdAccountLockedTime: 000001010000Z\n")+person("bare", "")+
		group("watch", "gauge")+group("crew", "watch"), found[1], "-Q", "-Y", "EXTERNAL", "-H", socket, "-e", "relax")
	right, wrong := write(t, filepath.Join(dir, "right"), "tide7"),
		write(t, filepath.Join(dir, "wrong"), "canary-7f3a")
	login := func(name, secret string, more ...string) trail.Trail {
		return traced(
			t,
			nil,
			append(
				more,
				"--in-the-clear",
				"--user",
				"cn="+name+",dc=varzea,dc=example",
				"--secret",
				"file:"+secret,
				fmt.Sprintf("ldap://127.0.0.1:%d", port),
			)...)
	}
	card := write(t, filepath.Join(dir, "card.yaml"),
		"format: uakari.card/1\nname: roster\naccount:\n  groups: [crew]\n")
	expect(t, login("gauge", right, "--card", card))
	expect(t, login("held", right), "login/locked proven")
	expect(t, login("nobody", right), "login/unknown-account proven")
	expect(t, login("bare", right), "login/wrong-secret proven")
	for range 2 {
		expect(t, login("gauge", wrong), "login/wrong-secret likely")
	}
	// One more failure locks it: it is not tried.
	for range 2 {
		judged := login("gauge", wrong)
		if f := rung(judged, trail.Login); f.State != trail.Unseen || !strings.Contains(f.Summary, "would lock it") {
			t.Error(dump(judged))
		}
	}
}

// TestPasswordFile lets a real web server refuse accounts by a file of its own:
// its log says why.
func TestPasswordFile(t *testing.T) {
	t.Parallel()
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	dir, port := shortDir(t), freePort(t)
	must(t, "", "chmod", "0644", write(t, filepath.Join(dir, "people"), "gauge:{PLAIN}tide7\n"))
	conf := webSettings(
		t,
		dir,
		fmt.Sprintf(
			"server { listen 127.0.0.1:%[2]d; root %[1]s; auth_basic tides; auth_basic_user_file %[1]s/people; "+
				"location = / { return 200; } location /people { } }",
			dir,
			port,
		),
	)
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, nginx, "-p", dir, "-c", conf)
	right, wrong := write(t, filepath.Join(dir, "right"), "tide7"),
		write(t, filepath.Join(dir, "wrong"), "canary-7f3a")
	for _, c := range []struct{ user, secret, want string }{{"gauge", right, ""},
		{"gauge", wrong, "login/wrong-secret proven"}, {"nobody", right, "login/unknown-account proven"}} {
		judged := traced(
			t,
			nil,
			"--card",
			cardFor(t, nginx),
			"--in-the-clear",
			"--user",
			c.user,
			"--secret",
			"file:"+c.secret,
			fmt.Sprintf("http://127.0.0.1:%d/people", port),
		)
		if c.want == "" {
			expect(t, judged)
		} else {
			expect(t, judged, c.want)
		}
	}
}

// TestStoreUsers reads which users a real Redis was set up with.
func TestStoreUsers(t *testing.T) {
	t.Parallel()
	redis := needs(t, "redis-server", "/usr/bin/redis-server")[0]
	dir, port := shortDir(t), freePort(t)
	write(
		t,
		filepath.Join(dir, "users"),
		"user default off\nuser gauge on >tide7 ~* +@all\nuser held off >tide7 ~* +@all\n",
	)
	conf := write(
		t,
		filepath.Join(dir, "conf"),
		fmt.Sprintf("bind 127.0.0.1\nport %d\nset-proc-title no\naclfile %s/users\nsave \"\"\ndir %s\n", port, dir,
			dir),
	)
	start(t, fmt.Sprintf("127.0.0.1:%d", port), nil, redis, conf)
	secret := write(t, filepath.Join(dir, "secret"), "tide7")
	login := func(user string) trail.Trail {
		return traced(
			t,
			nil,
			"--in-the-clear",
			"--user",
			user,
			"--secret",
			"file:"+secret,
			fmt.Sprintf("redis://127.0.0.1:%d", port),
		)
	}
	expect(t, login("gauge"))
	expect(t, login("held"), "login/disabled likely")
	expect(t, login("nobody"), "login/unknown-account likely")
}
