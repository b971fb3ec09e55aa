package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"uakari/internal/trail"
)

// givenPorts is the ports that tests were given.
var givenPorts sync.Map

// freePort is a port that nobody holds; the kernel gives one that is free again to the
// next who asks, and this to nobody twice.
func freePort(t *testing.T) int {
	t.Helper()
	for {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		port := l.Addr().(*net.TCPAddr).Port
		l.Close()
		if _, given := givenPorts.LoadOrStore(port, true); !given {
			return port
		}
	}
}

func write(t testing.TB, path, text string) string {
	t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// certificate writes a certificate that signs itself, for this host's
// loopback addresses, and its key.
func certificate(t *testing.T, dir string) (cert, key string) {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{
		SerialNumber:          big.NewInt(1),
		Subject:               pkix.Name{CommonName: "tidebook"},
		IsCA:                  true,
		BasicConstraintsValid: true,
		DNSNames:              []string{"localhost"},
		IPAddresses:           []net.IP{net.IPv4(127, 0, 0, 1), net.IPv4(127, 0, 0, 2)},
		NotBefore:             time.Now().Add(-time.Hour),
		NotAfter:              time.Now().Add(240 * time.Hour),
	}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &k.PublicKey, k)
	if err != nil {
		t.Fatal(err)
	}
	kder, err := x509.MarshalECPrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	cert = write(
		t,
		filepath.Join(dir, "cert.pem"),
		string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})),
	)
	key = write(
		t,
		filepath.Join(dir, "key.pem"),
		string(pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: kder})),
	)
	return cert, key
}

// cardFor writes a card that says which program serves the endpoint.
func cardFor(t *testing.T, program string) string {
	t.Helper()
	return write(t, filepath.Join(t.TempDir(), "card.yaml"),
		"format: uakari.card/1\nname: live\nprogram: "+program+"\n")
}

func TestNginx(t *testing.T) {
	nginx := needs(t, "nginx-light", "/usr/sbin/nginx")[0]
	dir := t.TempDir()
	cert, key := certificate(t, dir)
	card := cardFor(t, nginx)
	secure, plain, inner := freePort(t), freePort(t), freePort(t)
	trace := func(t *testing.T, url string, port int, path string) []string {
		return []string{"--trust", cert, "--card", card, fmt.Sprintf("%s:%d%s", url, port, path)}
	}
	t.Run("stopped", func(t *testing.T) {
		expect(t, traced(t, nil, trace(t, "https://127.0.0.1", secure, "/")...), "service/stopped proven")
	})
	conf := fmt.Sprintf(`daemon off; user root; pid %[1]s/pid; error_log %[1]s/error.log;
events {}
http {
  access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
  server { listen 127.0.0.1:%[2]d ssl; ssl_certificate %[5]s; ssl_certificate_key %[6]s; location / { return 200 "ok"; } location /shut { return 403; } location /broken { return 500; } }
  server { listen 127.0.0.1:%[3]d; listen 127.0.0.2:%[3]d; location / { return 200 "ok"; } }
  server { listen 127.0.0.1:%[4]d; location / { return 200 "ok"; } }
}`, dir, secure, plain, inner, cert, key)
	start(t, fmt.Sprintf("127.0.0.1:%d", secure), nil, nginx, "-p", dir, "-c",
		write(t, filepath.Join(dir, "conf"), conf))
	t.Run("healthy", func(t *testing.T) {
		expectHealthy(t, traced(t, nil, trace(t, "https://127.0.0.1", secure, "/")...))
		expectHealthy(t, traced(t, nil, trace(t, "https://localhost", secure, "/")...))
		expectHealthy(t, traced(t, nil, trace(t, "http://127.0.0.2", plain, "/")...))
	})
	t.Run("loopback only", func(t *testing.T) {
		expect(t, traced(t, nil, trace(t, "http://127.0.0.2", inner, "/")...), "ports/loopback-only proven")
	})
	t.Run("wrong port", func(t *testing.T) {
		expect(t, traced(t, nil, trace(t, "https://127.0.0.1", freePort(t), "/")...), "settings/wrong-port proven")
	})
	t.Run("TLS against plain", func(t *testing.T) {
		expect(t, traced(t, nil, trace(t, "https://127.0.0.1", plain, "/")...), "certs/server-speaks-plain proven")
	})
	t.Run("plain against TLS", func(t *testing.T) {
		expect(t, traced(t, nil, trace(t, "http://127.0.0.1", secure, "/")...), "certs/server-speaks-tls proven")
	})
	t.Run("untrusted", func(t *testing.T) {
		expect(t, traced(t, nil, "--card", card, fmt.Sprintf("https://127.0.0.1:%d/", secure)),
			"certs/self-signed proven")
	})
	t.Run("name not covered", func(t *testing.T) {
		hosts := write(t, filepath.Join(dir, "hosts"), "127.0.0.1 tidebook.varzea.example\n")
		expect(
			t,
			traced(t, nil, append(trace(t, "https://tidebook.varzea.example", secure, "/"), "--hosts", hosts)...),
			"certs/name-not-covered proven",
		)
	})
	t.Run("errors", func(t *testing.T) {
		expect(t, traced(t, nil, trace(t, "https://127.0.0.1", secure, "/broken")...), "answer/error-status proven")
		expect(t, traced(t, nil, trace(t, "https://127.0.0.1", secure, "/shut")...), "answer/error-status proven")
	})
	t.Run("another application", func(t *testing.T) {
		expect(t, traced(t, nil, fmt.Sprintf("redis://127.0.0.1:%d", plain)), "answer/wrong-application proven")
	})
}

func TestOpenSSH(t *testing.T) {
	found := needs(t, "openssh-server", "/usr/sbin/sshd", "/usr/bin/ssh-keygen")
	sshd, keygen := found[0], found[1]
	dir := t.TempDir()
	if err := os.MkdirAll("/run/sshd", 0o755); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(keygen, "-q", "-t", "ed25519", "-N", "", "-f",
		filepath.Join(dir, "key")).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	card := cardFor(t, sshd)
	port, inner := freePort(t), freePort(t)
	at := func(port int) string { return fmt.Sprintf("127.0.0.1:%d", port) }
	t.Run("stopped", func(t *testing.T) {
		expect(t, traced(t, nil, "--card", card, "ssh://"+at(port)), "service/stopped proven")
	})
	conf := fmt.Sprintf(
		"Port %d\nListenAddress 127.0.0.1:%d\nListenAddress 127.0.0.2:%d\nListenAddress 127.0.0.1:%d\nHostKey "+
			"%s/key\nPidFile %s/pid\nUsePAM no\nStrictModes no\nPasswordAuthentication "+
			"no\nKbdInteractiveAuthentication no\nPermitRootLogin yes\nAuthorizedKeysFile %s/accepted\n",
		port,
		port,
		port,
		inner,
		dir,
		dir,
		dir,
	)
	start(t, at(port), nil, sshd, "-D", "-e", "-f", write(t, filepath.Join(dir, "conf"), conf))
	t.Setenv("HOME", dir)
	public, err := os.ReadFile(filepath.Join(dir, "key.pub"))
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(dir, ".ssh"), 0o700); err != nil {
		t.Fatal(err)
	}
	known := func(key string) {
		write(t, filepath.Join(dir, ".ssh", "known_hosts"), fmt.Sprintf("[127.0.0.1]:%d %s\n", port, key))
	}
	t.Run("a host key that is not known", func(t *testing.T) {
		judged := traced(t, nil, "--card", card, "ssh://"+at(port))
		if judged.Outcome != trail.OutcomeClear || len(judged.Causes) != 1 ||
			judged.Causes[0].ID != "certs/host-key-unknown" {
			t.Errorf("%s", dump(judged))
		}
	})
	t.Run("a host key that changed", func(t *testing.T) {
		known("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJ7sQyuCTe1pKrxXwDr9qFBSTI8sgFjBLWzUMlkLBPFT")
		expect(t, traced(t, nil, "--card", card, "ssh://"+at(port)), "certs/host-key-changed proven")
	})
	t.Run("healthy", func(t *testing.T) {
		known(string(public))
		expectHealthy(t, traced(t, nil, "--card", card, "ssh://"+at(port)))
	})
	t.Run("logins", func(t *testing.T) {
		mine := filepath.Join(dir, "mine")
		if out, err := exec.Command(keygen, "-q", "-t", "ed25519", "-N", "", "-f", mine).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		text, err := os.ReadFile(mine + ".pub")
		if err != nil {
			t.Fatal(err)
		}
		write(t, filepath.Join(dir, "accepted"), string(text))
		login := func(identity string) trail.Trail {
			return traced(t, nil, "--card", card, "--user", "root", "--identity", identity, "ssh://"+at(port))
		}
		if judged := login(mine); rung(judged, trail.Login).State != trail.Clear {
			t.Errorf("%s", dump(judged))
		}
		expect(t, login(filepath.Join(dir, "key")), "login/key-refused proven")
		t.Setenv("UAKARI_TEST_SECRET", "canary-7f3a")
		r := run(
			t,
			"trace",
			"--json",
			"--card",
			card,
			"--user",
			"root",
			"--secret",
			"env:UAKARI_TEST_SECRET",
			"ssh://"+at(port),
		)
		if !strings.Contains(r.stdout, "login/mechanism-off") {
			t.Errorf("%s", r.stdout)
		}
		if strings.Contains(r.stdout+r.stderr, "canary-7f3a") {
			t.Error("the secret is told")
		}
	})
	t.Run("loopback only", func(t *testing.T) {
		expect(t, traced(t, nil, "--card", card, fmt.Sprintf("ssh://127.0.0.2:%d", inner)),
			"ports/loopback-only proven")
	})
	t.Run("moved from the usual port, or asked for on an odd one", func(t *testing.T) {
		expect(t, traced(t, nil, "--card", card, "ssh://127.0.0.1"), "ports/moved proven")
		expect(t, traced(t, nil, "--card", card, "ssh://"+at(freePort(t))), "settings/wrong-port proven")
	})
	t.Run("TLS against SSH", func(t *testing.T) {
		expect(t, traced(t, nil, "https://"+at(port)+"/"), "answer/wrong-application proven")
	})
}

func TestPostgreSQL(t *testing.T) {
	found := needs(t, "postgresql", "/usr/lib/postgresql/*/bin/initdb", "/usr/lib/postgresql/*/bin/postgres")
	initdb, postgres := found[0], found[1]
	account, err := user.Lookup("postgres")
	if err != nil {
		missing(t, "needs the account postgres: apt-get install postgresql")
	}
	uid, err := strconv.Atoi(account.Uid)
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	cert, key := certificate(t, dir)
	data := filepath.Join(dir, "data")
	for _, path := range []string{dir, cert, key} {
		if err := os.Chown(path, uid, -1); err != nil {
			t.Fatal(err)
		}
	}
	as := []string{"setpriv", "--reuid", account.Uid, "--regid", account.Gid, "--clear-groups"}
	make := exec.Command(as[0], append(as[1:], initdb, "-A", "scram-sha-256", "--pwfile", key, "-D", data)...)
	make.Dir = dir
	make.SysProcAttr = &syscall.SysProcAttr{}
	if out, err := make.CombinedOutput(); err != nil {
		t.Fatalf("initdb: %v: %s", err, out)
	}
	card := cardFor(t, postgres)
	port := freePort(t)
	url := func(host string, port int, mode string) string {
		return fmt.Sprintf("postgres://%s:%d/readings?sslmode=%s", host, port, mode)
	}
	t.Run("stopped", func(t *testing.T) {
		expect(t, traced(t, nil, "--card", card, url("127.0.0.1", port, "prefer")), "service/stopped proven")
	})
	run := func(t *testing.T, port int, addrs, ssl string, more ...string) {
		dir := filepath.Join(t.TempDir(), "data")
		if out, err := exec.Command("cp", "-a", data, dir).CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		for d := filepath.Dir(dir); d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
			os.Chmod(d, 0o755)
		}
		start(
			t,
			fmt.Sprintf("127.0.0.1:%d", port),
			nil,
			slices.Concat(as, []string{postgres, "-D", dir, "-k", "", "-p", fmt.Sprint(port),
				"-c", "listen_addresses=" + addrs, "-c", "ssl=" + ssl, "-c", "ssl_cert_file=" + cert, "-c",
				"ssl_key_file=" + key}, more)...)
	}
	t.Run("without TLS", func(t *testing.T) {
		run(t, port, "127.0.0.1", "off")
		expectHealthy(t, traced(t, nil, "--card", card, url("127.0.0.1", port, "prefer")))
		expect(t, traced(t, nil, "--card", card, url("127.0.0.1", port, "verify-full")),
			"certs/server-speaks-plain proven")
		expect(t, traced(t, nil, "--card", card, url("127.0.0.1", port, "require")),
			"certs/server-speaks-plain proven")
		expectHealthy(
			t,
			traced(t, nil, "--card", card, fmt.Sprintf("postgres:///?host=127.0.0.1&port=%d&dbname=readings", port)),
		)
		expect(t, traced(t, nil, "--card", card, url("127.0.0.2", port, "prefer")), "ports/loopback-only proven")
		expect(t, traced(t, nil, "--card", card, "postgres://127.0.0.1/readings"), "ports/moved proven")
		expect(t, traced(t, nil, "--card", card, url("127.0.0.1", freePort(t), "prefer")),
			"settings/wrong-port proven")
	})
	t.Run("logins", func(t *testing.T) {
		port := freePort(t)
		run(t, port, "127.0.0.1", "off")
		first, _, _ := strings.Cut(readFile(t, key), "\n")
		right := write(t, filepath.Join(t.TempDir(), "right"), first)
		wrong := write(t, filepath.Join(t.TempDir(), "wrong"), "canary-7f3a")
		login := func(user, secret, database string) trail.Trail {
			return traced(
				t,
				nil,
				"--card",
				card,
				"--user",
				user,
				"--secret",
				"file:"+secret,
				fmt.Sprintf("postgres://127.0.0.1:%d/%s", port, database),
			)
		}
		if judged := login("postgres", right, "postgres"); rung(judged, trail.Login).State != trail.Clear {
			t.Errorf("%s", dump(judged))
		}
		expect(t, login("postgres", right, "nowhere"), "login/no-such-resource proven")
		for role, want := range map[string]string{"any": "", "primary": "", "read-write": "",
			"standby": "answer/wrong-role proven", "read-only": "answer/wrong-role proven"} {
			judged := login("postgres", right, "postgres?target_session_attrs="+role)
			if want == "" {
				expect(t, judged)
			} else {
				expect(t, judged, want)
			}
		}
		expect(
			t,
			login("postgres", right,
				"postgres?target_session_attrs=read-write&options=-c%20default_transaction_read_only=on"),
			"answer/wrong-role proven",
		)
		judged := login("postgres", wrong, "postgres")
		expect(t, judged, "login/rejected likely")
		if strings.Contains(dump(judged), "canary-7f3a") {
			t.Error("the secret is told")
		}
	})
	t.Run("in another language", func(t *testing.T) {
		words := filepath.Join(dir, "locale")
		if err := os.MkdirAll(words, 0o755); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command("localedef", "-i", "de_DE", "-f", "UTF-8", "--no-archive",
			filepath.Join(words, "de_DE.UTF-8")).CombinedOutput(); err != nil {
			missing(t, "needs the sources of locales: apt-get install locales: "+string(out))
		}
		t.Setenv("LOCPATH", words)
		first, _, _ := strings.Cut(readFile(t, key), "\n")
		right := write(t, filepath.Join(t.TempDir(), "right"), first)
		wrong := write(t, filepath.Join(t.TempDir(), "wrong"), "canary-7f3a")
		port := freePort(t)
		hba := write(
			t,
			filepath.Join(dir, "hba.conf"),
			"host postgres postgres all scram-sha-256\nhost nowhere all all scram-sha-256\nhost template1 all all "+
				"reject\n",
		)
		if err := os.Chown(hba, uid, -1); err != nil {
			t.Fatal(err)
		}
		run(t, port, "127.0.0.1", "off", "-c", "lc_messages=de_DE.UTF-8", "-c", "hba_file="+hba)
		for _, c := range []struct{ user, secret, database, want, says string }{
			{"postgres", right, "postgres", "", ""},
			{"postgres", wrong, "postgres", "login/rejected likely", "fehlgeschlagen"},
			{"postgres", right, "nowhere", "login/no-such-resource proven", "existiert nicht"},
			{"postgres", right, "template1", "login/not-from-here likely", "pg_hba.conf"},
			{"gauge", right, "readings", "login/not-from-here likely", "pg_hba.conf"},
		} {
			judged := traced(
				t,
				nil,
				"--card",
				card,
				"--user",
				c.user,
				"--secret",
				"file:"+c.secret,
				fmt.Sprintf("postgres://127.0.0.1:%d/%s", port, c.database),
			)
			if c.want == "" {
				expect(t, judged)
			} else {
				expect(t, judged, c.want)
			}
			if !strings.Contains(dump(judged), c.says) {
				t.Errorf("it does not speak another language: no %q in\n%s", c.says, dump(judged))
			}
		}
	})
	t.Run("with TLS", func(t *testing.T) {
		port := freePort(t)
		run(t, port, "127.0.0.1", "on")
		expectHealthy(t, traced(t, nil, "--card", card, url("127.0.0.1", port, "prefer")))
		expectHealthy(t, traced(t, nil, "--card", card, "--trust", cert, url("127.0.0.1", port, "verify-full")))
		expectHealthy(t, traced(t, nil, "--card", card, url("127.0.0.1", port, "require")))
		expect(
			t,
			traced(t, nil, "--card", card, "--trust", cert, url("127.0.0.3", port, "verify-ca")),
			"ports/loopback-only proven",
		)
		// Without a file of roots in its place the client's library goes no further.
		none := []string{"env", "HOME=" + t.TempDir()}
		expect(t, traced(t, none, "--card", card, url("127.0.0.1", port, "verify-full")),
			"certs/roots-unreadable proven")
		other := write(t, filepath.Join(t.TempDir(), "root.pem"), pemOf(newMaker(t).cert))
		expect(t, traced(t, nil, "--card", card, "--trust", other, url("127.0.0.1", port, "verify-full")),
			"certs/self-signed proven")
	})
}

func readFile(t *testing.T, path string) string {
	t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}

func rung(judged trail.Trail, name trail.Rung) trail.Finding {
	for _, f := range judged.Rungs {
		if f.Name == name {
			return f
		}
	}
	return trail.Finding{}
}

// TestRedisLogins tries accounts at a real Redis.
func TestRedisLogins(t *testing.T) {
	redis := needs(t, "redis-server", "/usr/bin/redis-server")[0]
	dir := t.TempDir()
	port := freePort(t)
	acl := write(
		t,
		filepath.Join(dir, "acl"),
		"user default on nopass ~* +@all\nuser gauge on >tide7 ~* +@all\nuser shut off >tide7 ~* +@all\n",
	)
	start(
		t,
		fmt.Sprintf("127.0.0.1:%d", port),
		nil,
		redis,
		"--port",
		fmt.Sprint(port),
		"--bind",
		"127.0.0.1",
		"--aclfile",
		acl,
		"--dir",
		dir,
		"--save",
		"",
	)
	right, wrong := write(
		t,
		filepath.Join(dir, "right"),
		"tide7\n",
	), write(
		t,
		filepath.Join(dir, "wrong"),
		"canary-7f3a\n",
	)
	login := func(user, secret string) trail.Trail {
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
	if judged := login("gauge", right); rung(judged, trail.Login).State != trail.Clear ||
		judged.Outcome != trail.OutcomeClear {
		t.Errorf("%s", dump(judged))
	}
	for _, judged := range []trail.Trail{login("gauge", wrong), login("shut", right), login("nobody", right)} {
		expect(t, judged, "login/rejected likely")
	}
	if judged := traced(t, nil, "--in-the-clear", "--user", "gauge", fmt.Sprintf("redis://127.0.0.1:%d", port)); rung(
		judged,
		trail.Login,
	).State != trail.Unseen {
		t.Errorf("%s", dump(judged))
	}
}
